"""Ports found by binding, out of ranges that no system hands out to callers."""

from __future__ import annotations

import errno
import socket

from .home import KettleError

#: Below where systems take the ports of outgoing connections (on Linux from 32768).
DATABASE_PORTS = range(28432, 28532)
CLUB_PORTS = range(8300, 8400)
DEMO_PORTS = range(8400, 8500)


def free_port(ports: range, first: int | None = None) -> int:
    """
    Return a port of a range that can be bound on loopback now.

    `first`, where it is of the range, is tried before the others.

    Raises
    ------
    KettleError
        If all are taken.
    """
    with _listener("127.0.0.1", ports, first) as found:
        return int(found.getsockname()[1])


def listen(address: str, ports: range) -> socket.socket:
    """
    Listen on the first free port of a range, and keep it for as long as we run.

    Who serves on it gets the socket handed over, so a port that was printed is ours,
    and callers wait in its queue while a server is started again.

    Raises
    ------
    KettleError
        If the address is not this machine's, or all ports are taken.
    """
    found = _listener(address, ports, None)
    found.listen(512)
    return found


def _listener(address: str, ports: range, first: int | None) -> socket.socket:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    order = [first] if first in ports else []
    for port in (*order, *ports):
        made = socket.socket(family)
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            made.bind((address, port))
        except PermissionError:
            made.close()
            raise KettleError(
                f"Port {port} is only for root; choose one above 1023."
            ) from None
        except (OSError, OverflowError) as error:
            made.close()
            if not isinstance(error, OSError) or error.errno != errno.EADDRINUSE:
                raise KettleError(
                    f"{address} port {port} can't be listened on: {error}"
                ) from None
        else:
            return made
    if len(ports) == 1:
        raise KettleError(f"Port {ports[0]} of {address} is taken by another program.")
    raise KettleError(f"No free port from {ports[0]} to {ports[-1]}.")
