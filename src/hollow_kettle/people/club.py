"""The club's own now."""

from __future__ import annotations

from datetime import date, datetime

from .models import Club


def club_now() -> datetime:
    """Now, by the club's clock."""
    return Club.the().clock.now()


def today() -> date:
    """Today, by the club's clock."""
    return club_now().date()
