"""
Keeps the parts of the application running: what dies is started again.

The first time at once, then later and later, so that a part that can't run does not
keep the machine busy; each time it is said in the log. When the command ends, however
it ends, the parts end with it.
"""

from __future__ import annotations

import logging
import os
import signal
import subprocess
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Protocol

from hollow_kettle.database.home import KettleError

log = logging.getLogger("hollow_kettle.keeper")

#: How long to wait before a part is started again, after so many failures. [s]
WAITS_S = (0.0, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0)
#: A part that ran so long before it ended counts as having been well. [s]
WELL_S = 60.0
#: What is under way may be finished for so long when all stops. [s]
GRACE_S = 10.0


class Base(Protocol):
    """The database server below, as far as it is ours to keep running."""

    @property
    def is_alive(self) -> bool:
        """Whether it runs."""

    def start_again(self) -> None:
        """Start it; raises KettleError while it can't be."""


@dataclass
class BackOff:
    """When something that failed may be tried again."""

    failures: int = 0
    began_at: float = 0.0
    due_at: float = 0.0

    def began(self) -> None:
        """It was started now."""
        self.began_at = time.monotonic()

    def failed(self) -> float:
        """It ended now; how long to wait before the next try. [s]"""
        now = time.monotonic()
        if now - self.began_at > WELL_S:
            self.failures = 0
        wait = WAITS_S[min(self.failures, len(WAITS_S) - 1)]
        self.failures += 1
        self.due_at = now + wait
        return wait

    @property
    def is_due(self) -> bool:
        """Whether it may be tried now."""
        return time.monotonic() >= self.due_at


@dataclass
class Part:
    """A process that is to run for as long as we do."""

    name: str
    start: Callable[[], subprocess.Popen[bytes]]
    child: subprocess.Popen[bytes] | None = None
    back_off: BackOff = field(default_factory=BackOff)

    def look_after(self) -> None:
        """Start it where it does not run and may be."""
        if self.child is not None:
            code = self.child.poll()
            if code is None:
                return
            _signal(self.child, signal.SIGKILL)  # what it had started itself
            self.child = None
            wait = self.back_off.failed()
            log.error(
                "%s ended (%s); starting it again%s",
                *(self.name, _how(code), f" in {wait:.0f} s" if wait else ""),
            )
        if self.back_off.is_due:
            self.back_off.began()
            self.child = self.start()


@dataclass
class Keeper:
    """Looks after the parts, and the database below them."""

    base: Base
    parts: list[Part]
    back_off: BackOff = field(default_factory=BackOff)

    def look_after(self) -> None:
        """Start again what ended since the last look."""
        if self.base.is_alive:
            for part in self.parts:
                part.look_after()
        elif self.back_off.is_due:
            self.back_off.failed()
            log.error("the database ended; starting it again")
            try:
                self.base.start_again()
            except KettleError as error:
                log.error("the database can't be started: %s", error)
            else:
                self.back_off.began()
                log.warning("the database runs again")

    def keep(self) -> None:
        """Look after all until a signal ends it (KeyboardInterrupt)."""
        while True:
            self.look_after()
            time.sleep(0.3)

    def stop(self) -> None:
        """End all parts, each with what it started itself: a search, say."""
        children = [part.child for part in self.parts if part.child is not None]
        for child in children:
            _signal(child, signal.SIGTERM)
        until = time.monotonic() + GRACE_S
        for child in children:
            with suppress(subprocess.TimeoutExpired):
                child.wait(timeout=max(until - time.monotonic(), 0.1))
            _signal(child, signal.SIGKILL)
            child.wait()


def end_on_signals() -> None:
    """Make both usual signals end us alike, also where a shell had them ignored."""
    for ending in (signal.SIGTERM, signal.SIGINT):
        signal.signal(ending, signal.default_int_handler)


def _how(code: int) -> str:
    return f"signal {-code}" if code < 0 else f"exit {code}"


def _signal(child: subprocess.Popen[bytes], number: int) -> None:
    """Send a signal to a child's whole session, if anything of it is left."""
    with suppress(ProcessLookupError):
        os.killpg(child.pid, number)
