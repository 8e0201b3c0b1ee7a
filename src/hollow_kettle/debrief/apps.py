"""Where power ran short, and why."""

from django.apps import AppConfig


class DebriefConfig(AppConfig):
    """Where power ran short, and why."""

    name = "hollow_kettle.debrief"
    label = "debrief"
