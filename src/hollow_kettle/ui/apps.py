"""The frame of the interface: base templates, drawing helpers, static files."""

from django.apps import AppConfig


class UiConfig(AppConfig):
    """The frame."""

    name = "hollow_kettle.ui"
    label = "ui"
