"""For ./kettle demo and ./kettle run: this machine only, plain http."""

from .base import *  # noqa: F403 - settings files extend one another

CSRF_COOKIE_SAMESITE = "Lax"
