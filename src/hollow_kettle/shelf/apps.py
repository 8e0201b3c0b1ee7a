"""The Shelf: what the club owns and what it can really give."""

from django.apps import AppConfig


class ShelfConfig(AppConfig):
    """The Shelf."""

    name = "hollow_kettle.shelf"
    label = "shelf"
