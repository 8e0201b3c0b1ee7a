"""Events, stations, loads, sources and rotations."""

from django.apps import AppConfig


class PlanConfig(AppConfig):
    """Events, stations, loads, sources and rotations."""

    name = "hollow_kettle.plan"
    label = "plan"
