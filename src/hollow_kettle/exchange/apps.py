"""One import engine and one export engine for all file formats."""

from django.apps import AppConfig


class ExchangeConfig(AppConfig):
    """Files in and out."""

    name = "hollow_kettle.exchange"
    label = "exchange"
