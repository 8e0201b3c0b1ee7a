"""The event while it runs: board, log, moves."""

from django.apps import AppConfig


class FieldConfig(AppConfig):
    """The event while it runs: board, log, moves."""

    name = "hollow_kettle.field"
    label = "field"
