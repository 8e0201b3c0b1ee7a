"""For ./kettle demo and run: this machine, or one address of a tent's network."""

import os

from .base import *  # noqa: F403 - settings files extend one another
from .base import ALLOWED_HOSTS

if names := os.environ.get("KETTLE_TLS", "").split():
    ALLOWED_HOSTS.extend(names)
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
if lan := os.environ.get("KETTLE_LAN"):
    ALLOWED_HOSTS.append(lan)
