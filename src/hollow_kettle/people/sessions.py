"""Where a person is signed in: one row for each browser, which can be signed out."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.contrib.sessions.models import Session
from django.http import HttpRequest

from hollow_kettle.clock import real_now

from .models import SignedIn, User

#: In the session: when its use was last written down, as a whole hour.
MARK = "signed_in_hour"
_BROWSERS = (
    ("Firefox", "Firefox"), ("Edg", "Edge"), ("OPR", "Opera"),
    ("SamsungBrowser", "Samsung's browser"), ("Chrom", "Chrome or Chromium"),
    ("Safari", "Safari"),
)  # fmt: skip
_SYSTEMS = (
    ("Android", "Android"), ("iPhone", "an iPhone"), ("iPad", "an iPad"),
    ("Windows", "Windows"), ("Mac OS", "a Mac"), ("Linux", "Linux"),
    ("CrOS", "ChromeOS"),
)  # fmt: skip


@dataclass(frozen=True)
class Place:
    """One browser that is signed in."""

    key: int
    browser: str
    began_at: datetime
    seen_at: datetime
    is_this: bool


def note(request: HttpRequest, user: User) -> None:
    """Write down that this browser is signed in, and in use this hour."""
    now = real_now()
    agent = browser_of(request.headers.get("User-Agent", ""))
    key = request.session.session_key or ""
    SignedIn.objects.update_or_create(
        session_key=key, defaults={"user": user, "browser": agent, "seen_at": now}
    )
    request.session[MARK] = _hour(now)


def keep_seen(request: HttpRequest) -> None:
    """Once an hour, write down that a browser that signed in is still in use."""
    mark, now = request.session.get(MARK), real_now()
    if mark is None or mark == _hour(now):
        return
    request.session[MARK] = _hour(now)
    key = request.session.session_key
    SignedIn.objects.filter(session_key=key).update(seen_at=now)


def places(user: User, this: str | None) -> list[Place]:
    """Return where somebody is signed in now, the browser that asks first."""
    alive = Session.objects.filter(expire_date__gt=real_now()).values("session_key")
    rows = SignedIn.objects.filter(user=user, session_key__in=alive)
    found = [
        Place(row.pk, row.browser, row.began_at, row.seen_at, row.session_key == this)
        for row in rows.order_by("-seen_at")
    ]
    return sorted(found, key=lambda place: not place.is_this)


def end(user: User, *, this: str | None, only: int | None = None) -> int:
    """Sign a person out of one other browser, or of all others; how many there were."""
    rows = SignedIn.objects.filter(user=user).exclude(session_key=this)
    if only is not None:
        rows = rows.filter(pk=only)
    keys = list(rows.values_list("session_key", flat=True))
    count, _ = Session.objects.filter(session_key__in=keys).delete()
    rows.delete()
    return count


def forget_ended() -> None:
    """Remove rows of sessions that have ended."""
    alive = Session.objects.values("session_key")
    before = real_now() - timedelta(hours=1)
    SignedIn.objects.filter(began_at__lt=before).exclude(session_key__in=alive).delete()


def browser_of(agent: str) -> str:
    """Say in words what a browser calls itself, without its version."""
    name = next((words for sign, words in _BROWSERS if sign in agent), "")
    system = next((words for sign, words in _SYSTEMS if sign in agent), "")
    if not name:
        first = re.match(r"[A-Za-z]{2,20}", agent)
        name = first.group(0) if first and first.group(0) != "Mozilla" else "a browser"
    return f"{name} on {system}" if system else name


def _hour(moment: datetime) -> int:
    return int(moment.timestamp() // 3600)
