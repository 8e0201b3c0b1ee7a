"""Bring a database to this version's tables, and run what is to be run on it."""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from importlib import metadata
from typing import TYPE_CHECKING

from .cluster import Cluster
from .elsewhere import ADDRESSES, Elsewhere
from .home import PACKAGES, KettleError

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping
    from pathlib import Path

Server = Cluster | Elsewhere

MANAGE = (sys.executable, "-m", "django")


def prepare(
    server: Server, *, database: str, settings: str, demo: bool = False
) -> dict[str, str]:
    """Migrate a database as its owner; return the web server's environment."""
    owner = environment_of(
        server, database=database, settings=settings, role="kettle_owner", demo=demo
    )
    if isinstance(server, Elsewhere):
        with server.migrating():
            _bring_forward(owner)
    else:
        stamp = server.home / f"{database}.migrated"
        if server.ensure_database(database):
            stamp.unlink(missing_ok=True)
        _migrate(owner, stamp=stamp)
    return owner | server.environment(role="kettle_app", database=database)


def environment_of(
    server: Server, *, database: str, settings: str, role: str, demo: bool = False
) -> dict[str, str]:
    """What a process of ours needs to work on a database with a role."""
    # Who serves pages does not learn the addresses of other roles.
    own = {key: it for key, it in os.environ.items() if key not in ADDRESSES}
    return {
        **own,
        "DJANGO_SETTINGS_MODULE": f"hollow_kettle.settings.{settings}",
        "KETTLE_SECRET_KEY": server.secrets["secret_key"],
        "KETTLE_STATIC": str(server.folder / "static"),
        "KETTLE_DEMO": "1" if demo else "0",
        "KETTLE_FOLDER": "" if isinstance(server, Elsewhere) else str(server.folder),
        "KETTLE_BACKUPS": str(server.folder / "backups"),
        **server.environment(role=role, database=database),
    }


def manage(environment: Mapping[str, str], *arguments: str) -> None:
    """Run a Django management command; its failure ends ours."""
    done = subprocess.run([*MANAGE, *arguments], env=dict(environment), check=False)
    if done.returncode:
        raise KettleError(f"{arguments[0]} failed; what it said is above.")


def _migrate(environment: Mapping[str, str], *, stamp: Path) -> None:
    """Migrate, and skip it when no migration has changed since."""
    ours = digest_of(
        [
            *PACKAGES.glob("hollow_kettle/*/migrations/*.py"),
            *PACKAGES.glob("hollow_kettle/*/apps.py"),
        ]
    )
    others = (f"{it.name} {it.version}" for it in metadata.distributions())
    want = "\n".join([ours, *sorted(others)])
    if not stamp.exists() or stamp.read_text() != want:
        _bring_forward(environment)
        stamp.write_text(want)


def _bring_forward(environment: Mapping[str, str]) -> None:
    """Change the tables to this version's; raises KettleError."""
    try:
        manage(environment, "bring_forward")
    except KettleError:
        raise KettleError(
            "The tables that are there could not be brought to this version; why is "
            "said above. The data is kept. Where that names no way, start the version "
            "that made them, back it up with ./kettle backup, and restore that here."
        ) from None


def digest_of(paths: Iterable[Path]) -> str:
    """One digest of files and their names."""
    digest = hashlib.sha256()
    for path in sorted(paths):
        digest.update(str(path.relative_to(PACKAGES)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()
