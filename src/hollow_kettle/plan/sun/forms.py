"""What people send about panels."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.plan.models import Event, Source, Station
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen


class ArrayForm(Dressed, forms.Form):
    """Panels: which, where, how they stand."""

    panel = forms.ModelChoiceField(
        Asset.objects.none(), label="Panel of the shelf", required=False
    )
    watts = NumberField(
        label="or watts as printed", low=1, high=5000, unit="W", required=False
    )
    count = NumberField(
        label="How many in parallel", low=1, high=50, is_whole=True, initial="1"
    )
    feeds = forms.ChoiceField(label="Feeds")
    method = forms.ChoiceField(
        label="Controller",
        choices=[("mppt", "tracking (MPPT)"), ("pwm", "plain (PWM)")],
    )
    max_a = NumberField(
        label="Controller's limit", low=0.5, high=200, unit="A", required=False
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        owned = Asset.objects.here().filter(kind="panel")
        self.fields["panel"].queryset = owned  # type: ignore[attr-defined]
        self._owners: dict[str, Station | Source] = {
            f"station-{one.pk}": one for one in event.stations.all()
        }
        self._owners |= {
            f"source-{one.pk}": one
            for one in event.sources.filter(kind__in=["sun", "buffer"])
        }
        self.fields["feeds"].choices = [  # type: ignore[attr-defined]
            (key, str(one)) for key, one in self._owners.items()
        ]

    def clean(self) -> dict[str, Any]:
        """Turn what it feeds into a station or a source."""
        data = super().clean() or self.cleaned_data
        owner = self._owners.get(data.pop("feeds", ""))
        data["station"] = owner if isinstance(owner, Station) else None
        data["source"] = owner if isinstance(owner, Source) else None
        return data


class AimForm(Seen, forms.Form):
    """How panels stand, and what shades them."""

    tilt = NumberField(
        label="Tilt", low=0, high=90, unit="°", help_text="0 lies flat, 90 upright."
    )
    azimuth = NumberField(
        label="Faces",
        low=0,
        high=360,
        unit="°",
        help_text="From north by east: south is 180.",
    )
    turns = NumberField(
        label="Turned to the sun",
        low=0,
        high=24,
        unit="times a day",
        is_whole=True,
        help_text="0: stays as it stands.",
    )
    lit_from = forms.TimeField(
        label="Shaded until",
        required=False,
        widget=forms.TimeInput(format="%H:%M"),
        error_messages={"invalid": "Write the time of day like 09:30."},
    )
    lit_until = forms.TimeField(
        label="Shaded after",
        required=False,
        widget=forms.TimeInput(format="%H:%M"),
        error_messages={"invalid": "Write the time of day like 17:00."},
    )
    dirt_pct = NumberField(label="Dirt takes", low=0, high=90, unit="%")
    cable_m = NumberField(label="Cable, one way", low=0, high=100, unit="m")
    cable_awg = NumberField(
        label="Cable's wire", low=0, high=30, unit="AWG", is_whole=True
    )
    is_on_ground = forms.BooleanField(
        label="Lies on the ground", required=False, help_text="It runs hotter."
    )


class NoonForm(Dressed, forms.Form):
    """One reading that sets the model right."""

    at = WallTimeField(label="Read at")
    amps = NumberField(label="Into the battery", low=0, high=250, unit="A")
    volts = NumberField(label="at", low=5, high=100, unit="V")
    oktas = NumberField(
        label="Cloud then",
        low=0,
        high=8,
        unit="eighths",
        initial="0",
        help_text="Best in a clear hour near noon.",
    )
