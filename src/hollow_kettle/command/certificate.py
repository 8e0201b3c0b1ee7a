"""A certificate of one's own for a tent's network, so that phones trust its pages."""

from __future__ import annotations

import ipaddress
import os
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

from hollow_kettle.database.home import KettleError, data_folder, exclusive

#: The authority lasts for some seasons; phones refuse server certificates that last
#: longer than about 13 months. [days]
AUTHORITY_DAYS, SERVER_DAYS = 5 * 365, 397
HOW = """\
Phones trust it once they have the authority's certificate, which is no secret:

  {authority}

Carry it over by cable or mail, open it there and install it as a certificate
authority in the phone's security settings; on some phones it must be switched on
there once more. It speaks for {names} only, and for nothing else.

Then:  ./kettle run --lan {first}

Its key stays in that folder, for your eyes only: whoever has it can pose as those
names. Take the authority off phones that don't need it any more.
"""


@dataclass(frozen=True, slots=True)
class Certificate:
    """What the web server shows, and its key."""

    file: Path
    key: Path
    names: tuple[str, ...]

    @classmethod
    def of(cls, folder: Path) -> Certificate | None:
        """The certificate in a folder; None where there is none."""
        made = cls(folder / "server.crt", folder / "server.key", ())
        listed = folder / "names"
        if not made.file.exists() or not listed.exists():
            return None
        return cls(made.file, made.key, tuple(listed.read_text().split()))

    def shared_with(self, home: Path, owner: tuple[int, int] | None) -> Certificate:
        """The same where the web server's own user may read it, and nobody else."""
        if owner is None:
            return self
        copies = []
        for source in (self.file, self.key):
            copy = home / source.name
            copy.unlink(missing_ok=True)
            copy.touch(mode=0o600)
            copy.write_bytes(source.read_bytes())
            os.chown(copy, *owner)
            copies.append(copy)
        return Certificate(copies[0], copies[1], self.names)


def folder_of(home: Path) -> Path:
    """Where an installation keeps its certificates."""
    return home / "certificates"


def run(arguments: list[str]) -> None:
    """Make a certificate for names and addresses of this machine."""
    if not arguments or any(word.startswith("-") for word in arguments):
        raise KettleError(
            "Say the name or address that phones will type: "
            "./kettle certificate 192.168.8.2 kettle.local"
        )
    folder = make(folder_of(data_folder()), arguments)
    print(
        HOW.format(
            authority=folder / "authority.crt",
            names=", ".join(arguments),
            first=arguments[0],
        ),
        end="",
    )


def make(folder: Path, names: list[str]) -> Path:
    """
    Make an authority that may speak for these names alone, and a server's certificate.

    Raises
    ------
    KettleError
        If openssl is missing or refuses a name.
    """
    if shutil.which("openssl") is None:
        raise KettleError("openssl is missing; install it: apt-get install openssl")
    folder.mkdir(mode=0o700, exist_ok=True)
    alternatives = ",".join(_alternative(name) for name in names)
    permitted = ",".join(_permitted(name) for name in names)
    with exclusive(folder, "make"):
        (folder / "names").unlink(missing_ok=True)
        for who in ("authority", "server"):
            key = folder / f"{who}.key"
            key.unlink(missing_ok=True)
            key.touch(mode=0o600)
            _openssl("ecparam", "-name", "prime256v1", "-genkey", "-noout", out=key)
        _openssl(
            *("req", "-x509", "-new", "-key", str(folder / "authority.key")),
            *("-days", str(AUTHORITY_DAYS), "-subj", "/CN=Hollow Kettle of our club"),
            *("-addext", f"nameConstraints=critical,{permitted}"),
            *("-addext", "keyUsage=critical,keyCertSign,cRLSign"),
            out=folder / "authority.crt",
        )
        _openssl(
            *("req", "-x509", "-new", "-key", str(folder / "server.key")),
            *("-CA", str(folder / "authority.crt")),
            *("-CAkey", str(folder / "authority.key")),
            *("-days", str(SERVER_DAYS), "-subj", "/CN=Hollow Kettle"),
            *("-addext", f"subjectAltName={alternatives}"),
            *("-addext", "basicConstraints=critical,CA:FALSE"),
            *("-addext", "extendedKeyUsage=serverAuth"),
            out=folder / "server.crt",
        )
        (folder / "names").write_text("\n".join(names))
    return folder


def _openssl(*words: str, out: Path) -> None:
    done = subprocess.run(
        ["openssl", *words, "-out", str(out)],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        last = done.stderr.strip().splitlines()[-1:]
        raise KettleError(f"openssl did not make it: {' '.join(last)}")


def _is_address(name: str) -> bool:
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


def _plain(name: str) -> str:
    if _is_address(name):
        return name
    if not name or not all(
        part.isalnum() for part in name.replace("-", ".").split(".")
    ):
        raise KettleError(f"“{name}” is neither a name nor an address of this machine.")
    return name


def _alternative(name: str) -> str:
    return f"{'IP' if _is_address(name) else 'DNS'}:{_plain(name)}"


def _permitted(name: str) -> str:
    if not _is_address(name):
        return f"permitted;DNS:{_plain(name)}"
    mask = ipaddress.ip_network(name).netmask
    return f"permitted;IP:{name}/{mask}"
