"""Who does what: actors, roles per event, sign-in."""

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    """The people of the club."""

    name = "hollow_kettle.people"
    label = "people"
