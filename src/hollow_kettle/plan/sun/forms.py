"""What people send about panels."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.plan.models import Event, Source, Station
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen
from powercore import limits


class ArrayForm(Dressed, forms.Form):
    """Panels: which, where, how they stand."""

    panel = forms.ModelChoiceField(
        Asset.objects.none(), label="Panel from the shelf", required=False
    )
    watts = NumberField(
        label="or its rated watts", limit=limits.PANEL_W, required=False
    )
    count = NumberField(
        label="How many in parallel", limit=limits.COUNT, is_whole=True, initial="1"
    )
    feeds = forms.ChoiceField(label="Feeds")
    method = forms.ChoiceField(
        label="Controller",
        choices=[("mppt", "tracking (MPPT)"), ("pwm", "plain (PWM)")],
    )
    max_a = NumberField(
        label="Controller's limit", limit=limits.CONTROLLER_A, required=False
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
        label="Tilt", limit=limits.TILT, help_text="0 lies flat, 90 upright."
    )
    azimuth = NumberField(
        label="Faces",
        limit=limits.AZIMUTH,
        help_text="From north by east: south is 180.",
    )
    turns = NumberField(
        label="Turned to the sun",
        limit=limits.TURNS,
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
    dirt_pct = NumberField(label="Lost to dirt", limit=limits.DIRT.percent)
    cable_m = NumberField(label="Cable, one way", limit=limits.CABLE_M)
    cable_awg = NumberField(label="Cable's wire", limit=limits.AWG, is_whole=True)
    is_on_ground = forms.BooleanField(
        label="Lies on the ground", required=False, help_text="It gets hotter there."
    )


class NoonForm(Dressed, forms.Form):
    """One reading that sets the model right."""

    at = WallTimeField(label="Read at")
    amps = NumberField(label="Into the battery", limit=limits.MEASURED_A)
    volts = NumberField(label="at", limit=limits.DISCONNECT_V)
    oktas = NumberField(
        label="Cloud then",
        limit=limits.OKTAS,
        initial="0",
        help_text="Best in a clear hour near noon.",
    )


class HorizonForm(Seen, forms.Form):
    """Hills and trees around a place, as dragged or typed."""

    ids = "horizon_%s"
    points = forms.CharField(
        label="One point per line: direction and height, in degrees",
        required=False,
        widget=forms.Textarea(
            attrs={
                "id": "points",
                "class": "form-control mono",
                "rows": 6,
                "spellcheck": "false",
                "placeholder": "90 12\n135 30\n180 8",
            }
        ),
        help_text="North 0, east 90, south 180. Straight lines between; empty: open to "
        "the horizon.",
    )


class CloudForm(Seen, forms.Form):
    """Cloud hour by hour from the event's start."""

    ids = "cloud_%s"
    oktas = forms.CharField(
        label="Cloud from the start, one number an hour, in eighths",
        required=False,
        widget=forms.Textarea(attrs={"class": "form-control mono", "rows": 3}),
    )
