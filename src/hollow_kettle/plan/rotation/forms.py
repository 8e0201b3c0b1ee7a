"""What people send to change a rotation by hand."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django import forms

from hollow_kettle.clock import from_local
from hollow_kettle.plan.models import Bay, Event, Leg, Pin, Rotation
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.event.plans import OF_STATIONS
from powercore.limits import Limit

from .changes import CHARGE_CHANGES, STAY_CHANGES, Stay


class StayForm(Dressed, forms.Form):
    """A change of one stay at a station or a bay, or a pin that keeps it."""

    what = forms.ChoiceField(
        label="Change",
        choices=[(key, key) for key in (*STAY_CHANGES, *CHARGE_CHANGES, "pin")],
    )
    leg = forms.ModelChoiceField(Leg.objects.none(), label="Stay")
    battery = forms.ModelChoiceField(
        Asset.objects.none(), label="Another battery", required=False
    )
    minutes = NumberField(
        label="Minutes", limit=Limit(1, 240, "min"), is_whole=True, required=False
    )
    bay = forms.ModelChoiceField(
        Bay.objects.none(), label="Another bay", required=False
    )

    def __init__(self, *args: Any, rotation: Rotation, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.rotation = rotation
        legs = rotation.legs.filter(kind__in=("serve", "charge"))
        self.fields["leg"].queryset = legs  # type: ignore[attr-defined]
        self.fields["battery"].queryset = rotation.event.units  # type: ignore[attr-defined]
        self.fields["bay"].queryset = rotation.event.bays.all()  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """What is asked says what it needs."""
        data = super().clean() or self.cleaned_data
        what, leg = data.get("what", ""), data.get("leg")
        if what == "instead" and not data.get("battery"):
            self.add_error("battery", "Choose the battery that should go instead.")
        if what == "bay" and not data.get("bay"):
            self.add_error("bay", "Choose the bay it should charge on.")
        if what in CHARGE_CHANGES and leg is not None and leg.kind != "charge":
            self.add_error("what", "That is for a charge in the yard.")
        is_move = what.endswith(("earlier", "later"))
        if is_move and data.get("minutes") is None and "minutes" not in self.errors:
            self.add_error("minutes", "Say by how many minutes, 1 to 240.")
        return data

    def asked(self) -> Stay | Pin:
        """What is asked for."""
        data, event = self.cleaned_data, self.rotation.event
        leg: Leg = data["leg"]
        if data["what"] != "pin":
            what = data["what"]
            return Stay(
                what,
                leg,
                battery=data["battery"] if what == "instead" else None,
                minutes=data["minutes"] or 0,
                bay=data["bay"] if what == "bay" else None,
            )
        return Pin(
            event=event,
            kind=Pin.Kind.STAYS,
            battery=event.batteries.get(pk=leg.battery),
            place=leg.place,
            starts_at=event.moment_of(leg.start_min),
            ends_at=event.moment_of(leg.end_min),
        )


class BatteryField(forms.ModelChoiceField):
    """A battery of an event, or a joined set by the tags of all in it."""

    def __init__(self, **kwargs: Any) -> None:
        super().__init__(Asset.objects.none(), **kwargs)
        self.tags: dict[UUID, str] = {}

    def offer(self, event: Event) -> None:
        """Offer an event's batteries and sets."""
        self.queryset, self.tags = event.units.order_by("tag"), event.unit_tags

    def label_from_instance(self, obj: Any) -> str:
        """Tag of the battery or of the set that it leads."""
        return self.tags[obj.pk]


class PinForm(Dressed, forms.Form):
    """What every rotation of an event must keep between two times."""

    kind = forms.ChoiceField(label="What", choices=Pin.Kind)
    battery = BatteryField(
        label="Battery",
        required=False,
        help_text="“Keep away” without a battery means no battery at all.",
    )
    place = forms.ChoiceField(label="Where", required=False)
    starts = WallTimeField(label="From, local time")
    ends = WallTimeField(label="until")

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.event = event
        stations = [(str(one.pk), one.name) for one in event.stations.all()]
        bays = [(str(one.pk), one.name) for one in event.bays.all()]
        self.stations = {key for key, _ in stations}
        self.fields["battery"].offer(event)  # type: ignore[attr-defined]
        self.fields["place"].choices = [  # type: ignore[attr-defined]
            ("", "any station"),
            ("Stations", stations),
            ("Charging yard", bays),
        ]

    def clean(self) -> dict[str, Any]:
        """Each kind names what it needs, within the event."""
        data = super().clean() or self.cleaned_data
        kind, place = data.get("kind"), data.get("place", "")
        if kind == Pin.Kind.STAYS and not data.get("battery"):
            self.add_error("battery", "Say which battery stays.")
        is_of_station = kind in OF_STATIONS
        if is_of_station and data.get("battery"):
            self.add_error("battery", "That pin names no battery: leave this empty.")
        if kind not in (Pin.Kind.NO_WALK, Pin.Kind.NO_SWAP) and not place:
            self.add_error("place", "Say where: “any” is for walks and swaps only.")
        if is_of_station and place and place not in self.stations:
            self.add_error("place", "Choose a station, not a bay.")
        starts, ends = data.get("starts"), data.get("ends")
        if starts and ends:
            event = self.event
            start, end = from_local(starts, event.zone), from_local(ends, event.zone)
            if end <= start:
                self.add_error("ends", "It ends before it begins.")
            elif end <= event.starts_at or event.ends_at <= start:
                self.add_error("starts", "That is outside the event.")
            elif event.state == Event.State.RUNNING and end <= event.clock.now():
                self.add_error("ends", "That is past.")
            data |= {"starts_at": start, "ends_at": end}
        return data

    def asked(self) -> Pin:
        """The pin, not saved; what is over by now can't be pinned."""
        data, event = self.cleaned_data, self.event
        starts_at = data["starts_at"]
        if event.state == Event.State.RUNNING:
            starts_at = max(starts_at, event.clock.now().replace(second=0))
        return Pin(
            event=event,
            kind=data["kind"],
            battery=data["battery"],
            place=UUID(data["place"]) if data["place"] else None,
            starts_at=starts_at,
            ends_at=data["ends_at"],
        )
