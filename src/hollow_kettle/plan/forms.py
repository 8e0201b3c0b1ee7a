"""What people send to the Plan, parsed and checked once."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.people.models import Actor, Role
from hollow_kettle.shelf.models import CHEMISTRY_CHOICES, EquipmentType
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.chemistry import CHEMISTRIES

from .models import Event, OperatingPattern, Source, Station

CHANGEOVER_WHY = "isolators take seconds; without them it is 1 to 3 min"


class EventForm(Dressed, forms.Form):
    """Name, zone and span of an event."""

    name = forms.CharField(label="Name", max_length=80)
    zone = forms.CharField(
        label="Time zone", max_length=60, help_text="An IANA name: America/Chicago."
    )
    starts = WallTimeField(label="Starts, local time")
    ends = WallTimeField(label="Ends, local time")
    lateness_min = NumberField(
        label="Usual lateness of a walk",
        low=0,
        high=120,
        unit="min",
        is_whole=True,
        initial="10",
        help_text="10 to 20 min is usual at night.",
    )


class StationForm(Dressed, forms.Form):
    """A station: how important, where, how a swap is made."""

    name = forms.CharField(label="Name", max_length=60)
    purpose = forms.CharField(label="What it is for", max_length=60, required=False)
    tier = NumberField(
        label="Tier",
        low=1,
        high=9,
        is_whole=True,
        initial="2",
        help_text="1 is kept on the air first, at any cost to the others.",
    )
    changeover_s = NumberField(
        label="Changeover",
        low=0,
        high=3600,
        unit="s",
        is_whole=True,
        initial="120",
        why=CHANGEOVER_WHY,
        help_text="Break at a swap; 0 with isolators.",
    )
    disconnect_v = NumberField(
        label="Disconnect",
        low=5,
        high=100,
        unit="V",
        required=False,
        help_text="Automatic low-voltage disconnect, if it has one.",
    )
    walk_min = NumberField(
        label="Walk from the yard",
        low=1,
        high=600,
        unit="min",
        is_whole=True,
        required=False,
        help_text="Empty: worked out from the map.",
    )
    latitude = NumberField(label="Latitude", low=-90, high=90, unit="°", required=False)
    longitude = NumberField(
        label="Longitude", low=-180, high=180, unit="°", required=False
    )


class EquipmentForm(Dressed, forms.Form):
    """Equipment of a station."""

    equipment = forms.ModelChoiceField(EquipmentType.objects, label="Equipment")
    count = NumberField(label="How many", low=1, high=50, is_whole=True, initial="1")
    step = forms.ChoiceField(
        label="Run at", choices=[("full", "full"), ("low", "low power")]
    )


class HoursForm(Dressed, forms.Form):
    """Open hours of a station."""

    starts = WallTimeField(label="Opens")
    ends = WallTimeField(label="Closes")
    pattern = forms.ModelChoiceField(OperatingPattern.objects, label="Operated as")


class SourceForm(Dressed, forms.Form):
    """A source of the yard."""

    name = forms.CharField(label="Source", max_length=60)
    kind = forms.ChoiceField(label="Kind", choices=Source.Kind)
    max_w = NumberField(label="Most at once", low=1, high=100_000, unit="W")
    energy_wh = NumberField(
        label="Holds",
        low=0,
        high=1_000_000,
        unit="Wh",
        required=False,
        help_text="Only for a buffer bank.",
    )
    starts = WallTimeField(label="May run from")
    ends = WallTimeField(label="until")


class WindowForm(Dressed, forms.Form):
    """Another stretch in which a source may run."""

    starts = WallTimeField(label="May run from")
    ends = WallTimeField(label="until")


class BayForm(Dressed, forms.Form):
    """A bay of the yard."""

    name = forms.CharField(label="Bay", max_length=60)
    source = forms.ModelChoiceField(Source.objects.none(), label="Fed from")
    max_w = NumberField(label="Charger output", low=1, high=20_000, unit="W")
    chemistries = forms.MultipleChoiceField(
        label="Set for",
        choices=[
            (k, n) for k, n in CHEMISTRY_CHOICES if CHEMISTRIES[k].is_rechargeable
        ],
        widget=forms.SelectMultiple,
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["source"].queryset = event.sources.all()  # type: ignore[attr-defined]


class CrewForm(Dressed, forms.Form):
    """People on duty."""

    name = forms.CharField(label="Crew", max_length=60)
    does = forms.ChoiceField(
        label="Does", choices=[("walks", "walks"), ("yard", "watches the yard")]
    )
    starts = WallTimeField(label="On duty from")
    ends = WallTimeField(label="until")


class WalkForm(Dressed, forms.Form):
    """Walking minutes between two sites."""

    minutes = NumberField(
        label="Walk", low=1, high=600, unit="min", is_whole=True, required=False
    )


class DutyForm(Dressed, forms.Form):
    """Somebody's role at an event."""

    actor = forms.ModelChoiceField(Actor.objects, label="Who")
    role = forms.ChoiceField(label="Role", choices=Role)
    station = forms.ModelChoiceField(
        Station.objects.none(), label="Station", required=False
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """A station lead leads a station."""
        data = super().clean() or self.cleaned_data
        if data.get("role") == Role.STATION_LEAD and not data.get("station"):
            self.add_error("station", "Say which station they lead.")
        if data.get("role") != Role.STATION_LEAD:
            data["station"] = None
        return data
