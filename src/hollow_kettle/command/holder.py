"""Who serves a data folder's club now: one command at a time, found by the next."""

from __future__ import annotations

import fcntl
import json
import os
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator


class Taken(Exception):
    """Another command serves it; the message says which, and where."""


@dataclass
class Holder:
    """The right to serve one club of a folder."""

    file: IO[str]
    job: str

    def say(self, url: str) -> None:
        """Write down where we serve it, for whoever tries to start it again."""
        self.file.seek(0)
        self.file.truncate()
        json.dump({"process": os.getpid(), "job": self.job, "url": url}, self.file)
        self.file.flush()


@contextmanager
def only_one(folder: Path, database: str, job: str) -> Iterator[Holder]:
    """
    Hold the right to serve a club; it ends with this process, however that ends.

    Raises
    ------
    Taken
        If another process has it.
    """
    with (folder / f"{database}.served.lock").open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.seek(0)
            raise Taken(_words(file.read())) from None
        holder = Holder(file, job)
        holder.say("")
        yield holder


def _words(content: str) -> str:
    try:
        said = json.loads(content)
        job, process, url = said["job"], said["process"], said["url"]
    except (ValueError, KeyError):
        return "It is just being started by another command."
    by = f"by ./kettle {job}, process {process}"
    if not url:
        return f"It is just being started {by}."
    return f"It runs already at  {url}  (started {by})."
