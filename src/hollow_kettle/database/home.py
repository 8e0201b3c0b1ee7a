"""Where an installation keeps its data, and the secrets made for it."""

from __future__ import annotations

import fcntl
import json
import os
import secrets
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator

#: Where our packages lie: `src` of the source tree, or among installed packages.
PACKAGES = Path(__file__).resolve().parents[2]
EXAMPLES = PACKAGES / "hollow_kettle" / "examples"
#: The source tree, where there is one: tests, benches, how it is drawn and locked.
ROOT = PACKAGES.parent
IS_SOURCE = (ROOT / "pyproject.toml").is_file()
#: What people type to run a job.
COMMAND = "./kettle" if IS_SOURCE else "kettle"


class KettleError(Exception):
    """A command cannot go on; the message says what to do."""


def data_folder() -> Path:
    """Return the folder of this installation's data, made when missing."""
    if chosen := os.environ.get("KETTLE_DATA"):
        folder = Path(chosen).expanduser().resolve()
    elif os.geteuid() == 0:
        folder = Path("/var/lib/hollow-kettle")
    else:
        state = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
        folder = Path(state) / "hollow-kettle"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


@contextmanager
def exclusive(folder: Path, name: str) -> Iterator[None]:
    """Let one process at a time do what is inside the block."""
    with (folder / f"{name}.lock").open("w") as handle:
        fcntl.flock(handle, fcntl.LOCK_EX)
        yield


def installation_secrets(folder: Path) -> dict[str, str]:
    """Return the passwords and keys of this installation, made once."""
    path = folder / "secrets.json"
    with exclusive(folder, "secrets"):
        if path.exists():
            return dict(json.loads(path.read_text()))
        made = {
            name: secrets.token_urlsafe(48)
            for name in ("admin", "kettle_owner", "kettle_app", "secret_key")
        }
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w") as file:
            json.dump(made, file)
        return made
