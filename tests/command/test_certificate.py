"""A certificate of one's own: trusted for its names, and for nothing else."""

import socket
import ssl
import threading

import pytest

from hollow_kettle.command import certificate
from hollow_kettle.database.home import KettleError


def shaken_hands(folder, name, *, trusted="authority.crt"):
    """Whether a client that trusts a file believes the server to be `name`."""
    server = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    server.load_cert_chain(folder / "server.crt", folder / "server.key")
    client = ssl.create_default_context()
    if trusted:
        client.load_verify_locations(folder / trusted)
    ours, theirs = socket.socketpair()

    def answer():
        try:
            server.wrap_socket(ours, server_side=True).close()
        except OSError:
            ours.close()

    thread = threading.Thread(target=answer)
    thread.start()
    try:
        with client.wrap_socket(theirs, server_hostname=name):
            return True
    except ssl.SSLError:
        return False
    finally:
        theirs.close()
        thread.join()


def test_phones_that_trust_it_believe_its_names_alone(tmp_path):
    """By name and by address; a stranger's trust does not carry it."""
    made = certificate.make(tmp_path / "c", ["192.168.8.2", "kettle.local"])

    assert shaken_hands(made, "192.168.8.2")
    assert shaken_hands(made, "kettle.local")
    assert not shaken_hands(made, "bank.example.org")
    assert not shaken_hands(made, "192.168.8.2", trusted="")
    for key in ("authority.key", "server.key"):
        assert (made / key).stat().st_mode & 0o077 == 0
    own = certificate.Certificate.of(made)
    assert own.names == ("192.168.8.2", "kettle.local")
    assert certificate.Certificate.of(tmp_path / "none") is None


def test_its_authority_may_speak_for_nothing_else(tmp_path):
    """Whoever steals its key makes no certificate that phones believe."""
    made = certificate.make(tmp_path / "c", ["kettle.local"])
    certificate._openssl(
        *("req", "-x509", "-new", "-key", str(made / "server.key")),
        *("-CA", str(made / "authority.crt"), "-CAkey", str(made / "authority.key")),
        *("-days", "9", "-subj", "/CN=x"),
        *("-addext", "subjectAltName=DNS:bank.example.org"),
        out=made / "server.crt",
    )
    assert not shaken_hands(made, "bank.example.org")


@pytest.mark.parametrize("name", ["", "a b", "x,DNS:evil.example", "/etc", "--days"])
def test_what_is_no_name_is_refused(tmp_path, name):
    """And said."""
    with pytest.raises(KettleError):
        certificate.run([name]) if name.startswith("-") else certificate.make(
            tmp_path / "c", [name]
        )
