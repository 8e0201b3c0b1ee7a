"""The Shelf: what the club owns and what it can really give."""

from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class ShelfConfig(AppConfig):
    """The Shelf."""

    name = "hollow_kettle.shelf"
    label = "shelf"

    def ready(self) -> None:
        """Stock the equipment library after each migration."""
        post_migrate.connect(_stock, sender=self)


def _stock(**kwargs: Any) -> None:
    from .assets.library import stock_library

    stock_library()
