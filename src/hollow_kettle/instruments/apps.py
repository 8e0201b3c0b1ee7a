"""Meters that send by themselves."""

from django.apps import AppConfig


class InstrumentsConfig(AppConfig):
    """Meters that send by themselves."""

    name = "hollow_kettle.instruments"
    label = "instruments"
