"""What pages show and take, as JSON."""

from django.apps import AppConfig


class ApiConfig(AppConfig):
    """Tokens of the club's scripts, and what they may read and write."""

    name = "hollow_kettle.api"
    label = "api"
