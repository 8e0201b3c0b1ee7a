"""Radios of the shelf in the library: the same watts as at the volts they are made for."""

from django.db import migrations
from django.db.models import F

STATED_V = 12.8
NAMES = ("standby_a", "receive_a", "transmit_idle_a", "key_down_a")


def _scale(apps, power):
    kinds = apps.get_model("shelf", "EquipmentType").objects.filter(asset__isnull=False)
    for kind in kinds.select_related("asset__device"):
        device = kind.asset.device
        low, high = device.min_v or 0.0, device.max_v or 1000.0
        volts = device.nominal_v or 13.8
        if not low <= volts <= high:
            volts = (low + high) / 2
        share = (volts / STATED_V) ** power
        kind.steps.update(**{name: F(name) * share for name in NAMES})


def to_watts(apps, schema_editor):
    _scale(apps, 1)


def to_amps(apps, schema_editor):
    _scale(apps, -1)


class Migration(migrations.Migration):
    dependencies = [("shelf", "0001_first_release")]

    operations = [migrations.RunPython(to_watts, to_amps)]
