"""
Backups that only the holder of a key can read, in the open age format.

The server knows the public half and can't read what it wrote; the key is a small file
that the club keeps elsewhere. Any program for that format opens them too.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyrage

from .home import KettleError

SUFFIX = ".age"


def make_key(file: str) -> str:
    """
    Write a new key to a file that only its owner may read; return its public half.

    Raises
    ------
    KettleError
        If the file is there already, or can't be written.
    """
    identity = pyrage.x25519.Identity.generate()
    public = str(identity.to_public())
    path = Path(file).expanduser()
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except OSError as error:
        raise KettleError(f"{path} can't be written: {error.strerror}.") from None
    with os.fdopen(handle, "w") as out:
        out.write(f"# public: {public}\n{identity}\n")
    return public


def recipient(public: str) -> pyrage.x25519.Recipient:
    """Return who a backup is for; raises KettleError where that is no public half."""
    try:
        return pyrage.x25519.Recipient.from_str(public.strip())
    except pyrage.RecipientError:
        raise KettleError(
            "KETTLE_BACKUP_FOR takes the public half of a key, which begins with age1; "
            "./kettle backup-key FILE makes one."
        ) from None


def seal(file: Path, public: str) -> Path:
    """Put an encrypted file in place of a plain one; raises KettleError."""
    sealed = file.with_name(file.name + SUFFIX)
    partial = sealed.with_name(sealed.name + ".part")
    to = recipient(public)
    try:
        pyrage.encrypt_file(str(file), str(partial), [to])
        partial.chmod(0o600)
        partial.rename(sealed)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise KettleError(f"{sealed} can't be written: {error.strerror}.") from None
    file.unlink()
    return sealed


@contextmanager
def opened(source: Path, key: str) -> Iterator[Path]:
    """
    Give a backup as a plain file for as long as the block lasts.

    Raises
    ------
    KettleError
        If it is encrypted and the key is missing, is none, or is another's.
    """
    with source.open("rb") as file:
        is_sealed = file.read(22).startswith(b"age-encryption.org/")
    if not is_sealed:
        yield source
        return
    if not key:
        raise KettleError("It is encrypted; name its key: --key=FILE")
    with tempfile.TemporaryDirectory() as folder:
        plain = Path(folder) / "plain.kettle"
        plain.touch(mode=0o600)
        try:
            pyrage.decrypt_file(str(source), str(plain), [_identity(key)])
        except pyrage.DecryptError:
            raise KettleError("That key does not open it.") from None
        yield plain


def _identity(key: str) -> pyrage.x25519.Identity:
    path = Path(key).expanduser()
    try:
        lines = path.read_text().splitlines()
        (secret,) = (line for line in lines if line.startswith("AGE-SECRET-KEY-"))
        return pyrage.x25519.Identity.from_str(secret.strip())
    except OSError as error:
        raise KettleError(f"The key {path} can't be read: {error.strerror}.") from None
    except (ValueError, pyrage.IdentityError):
        raise KettleError(f"{path} holds no key of ours.") from None
