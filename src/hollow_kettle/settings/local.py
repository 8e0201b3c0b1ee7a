"""For ./kettle demo and run: this machine, or one address of a tent's network."""

import os

from .base import *  # noqa: F403 - settings files extend one another
from .base import ALLOWED_HOSTS

if lan := os.environ.get("KETTLE_LAN"):
    ALLOWED_HOSTS.append(lan)
