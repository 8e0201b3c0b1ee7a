"""Changes to the shelf, by topic: assets, bench tests, kits, custody."""

from .assets import (
    add_many,
    add_port,
    archive,
    assets_by_tag,
    look_alike,
    plain_tag,
    plain_tags,
    record_capacity,
    save_asset,
    save_battery,
    set_hold,
    unarchive,
)
from .bench import accept_test, record_test

__all__ = [
    "accept_test",
    "add_many",
    "add_port",
    "archive",
    "assets_by_tag",
    "look_alike",
    "plain_tag",
    "plain_tags",
    "record_capacity",
    "record_test",
    "save_asset",
    "save_battery",
    "set_hold",
    "unarchive",
]
