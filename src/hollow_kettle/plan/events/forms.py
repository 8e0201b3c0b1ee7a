"""What people send about an event and who does what there."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.people import passes
from hollow_kettle.people.models import Actor, Role
from hollow_kettle.plan.models import SKY_CHOICES, Event, Purpose, Station
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen
from powercore import limits
from powercore.limits import Limit


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
        limit=limits.LATENESS_MIN,
        is_whole=True,
        initial=str(limits.USUAL_LATENESS_MIN),
        help_text="10 to 20 min is usual at night.",
    )
    purpose = forms.ChoiceField(label="Purpose", choices=Purpose)
    first_tier_sky = forms.ChoiceField(
        label="First tier counts on",
        choices=SKY_CHOICES,
        help_text="What must stay on the air has to last under this sky.",
    )
    other_sky = forms.ChoiceField(label="Others count on", choices=SKY_CHOICES)
    yard_sky = forms.ChoiceField(
        label="The yard counts on",
        choices=SKY_CHOICES,
        initial="none",
        help_text="For panels that feed bays or a buffer bank.",
    )
    settle_min = NumberField(
        label="Rest before charging",
        limit=limits.SETTLE_MIN,
        is_whole=True,
        initial="0",
        help_text="To cool down after hard use, or warm up on a cold day.",
    )
    yard_cold_c = NumberField(
        label="Cold in the yard",
        limit=limits.CELSIUS,
        required=False,
        help_text="How cold batteries get there. At or below 0 °C no lithium battery "
        "is charged, unless it heats itself. Empty: cold is ignored.",
    )
    lithium_reserve_pct = NumberField(
        label="Reserve of lithium",
        limit=limits.RESERVE.percent,
        required=False,
        help_text="Empty: the usual one for its purpose. A battery's own reserve comes "
        "first.",
    )
    lead_reserve_pct = NumberField(
        label="Reserve of lead-acid", limit=limits.RESERVE.percent, required=False
    )
    two_at_night = forms.BooleanField(
        label="Nobody alone in the dark",
        required=False,
        initial=True,
        help_text="Two or more walk together while the sun is down at the yard.",
    )
    is_own_power = forms.BooleanField(
        label="Own power only",
        required=False,
        help_text="You are warned before a charge from the mains breaks the claim.",
    )


class RoleForm(Dressed, forms.Form):
    """A role at an event, for a station lead with the station."""

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


class DutyForm(RoleForm):
    """Somebody's role at an event."""

    actor = forms.ModelChoiceField(
        Actor.objects.filter(guest=None, is_script=False), label="Who"
    )
    field_order = ("actor", "role", "station")


class PassForm(RoleForm):
    """A role for whoever holds a pass, and for how long."""

    role = forms.ChoiceField(label="Role", choices=Role, initial=Role.LOGGER)
    hours = NumberField(
        label="Ends in",
        limit=Limit(*passes.HOURS, "h"),
        is_whole=True,
        initial=passes.USUAL_HOURS,
    )
