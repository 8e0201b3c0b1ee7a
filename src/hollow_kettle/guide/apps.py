"""The way in."""

from django.apps import AppConfig


class GuideConfig(AppConfig):
    """The guide's pages and an empty club's first steps."""

    name = "hollow_kettle.guide"
    label = "guide"
