"""What people send about an event and who does what there."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.people.models import Actor, Role
from hollow_kettle.plan.models import SKY_CHOICES, Event, Purpose, Station
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen


class EventForm(Seen, forms.Form):
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
    purpose = forms.ChoiceField(label="What it is for", choices=Purpose)
    first_tier_sky = forms.ChoiceField(
        label="First tier counts on",
        choices=SKY_CHOICES,
        help_text="What must stay on the air survives this.",
    )
    other_sky = forms.ChoiceField(label="Others count on", choices=SKY_CHOICES)
    yard_sky = forms.ChoiceField(
        label="The yard counts on",
        choices=SKY_CHOICES,
        initial="none",
        help_text="For panels on bays or a buffer bank there: whom they charge for "
        "hangs on the sun.",
    )
    settle_min = NumberField(
        label="Rest before charging",
        low=0,
        high=1440,
        unit="min",
        is_whole=True,
        initial="0",
        help_text="To cool down after hard use, or to warm up on a cold day.",
    )
    yard_cold_c = NumberField(
        label="Cold in the yard",
        low=-60,
        high=60,
        unit="°C",
        required=False,
        help_text="How cold batteries get where they charge. At or below 0 °C lithium "
        "is planned on no bay, unless it warms itself. Empty: not counted.",
    )
    lithium_reserve_pct = NumberField(
        label="Reserve of lithium",
        low=0,
        high=90,
        unit="%",
        required=False,
        help_text="Empty: as usual for what it is for. A battery's own reserve wins.",
    )
    lead_reserve_pct = NumberField(
        label="Reserve of lead-acid", low=0, high=90, unit="%", required=False
    )
    two_at_night = forms.BooleanField(
        label="Two at night",
        required=False,
        initial=True,
        help_text="Nobody walks alone while the sun is down where the yard is.",
    )
    is_own_power = forms.BooleanField(
        label="Own power only",
        required=False,
        help_text="A charge from the mains is warned of before it spoils the claim.",
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
