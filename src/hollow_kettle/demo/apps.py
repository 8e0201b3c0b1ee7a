"""The invented club."""

from django.apps import AppConfig


class DemoConfig(AppConfig):
    """The invented club."""

    name = "hollow_kettle.demo"
    label = "demo"
