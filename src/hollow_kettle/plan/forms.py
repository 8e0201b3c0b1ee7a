"""What people send to the Plan, parsed and checked once."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django import forms

from hollow_kettle.clock import from_local
from hollow_kettle.people.models import Actor, Role
from hollow_kettle.shelf.models import CHEMISTRY_CHOICES, Asset, EquipmentType
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.event.scenario import MOST_PEOPLE, OF_STATIONS, USUAL_PEOPLE
from powercore.physics.chemistry import CHEMISTRIES

from .changes import CHARGE_CHANGES, STAY_CHANGES, Stay
from .models import (
    SKY_CHOICES,
    Bay,
    Event,
    Leg,
    OperatingPattern,
    Pin,
    Purpose,
    Rotation,
    Source,
    Station,
    StationSupply,
)

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


class CopyForm(Dressed, forms.Form):
    """Another date for the same event."""

    name = forms.CharField(label="Name", max_length=80)
    starts = WallTimeField(label="Starts, local time")
    with_people = forms.BooleanField(
        label="The same people have the same roles", required=False
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
    weight = NumberField(
        label="Weight inside its tier",
        low=0.1,
        high=10,
        required=False,
        help_text="A minute off the air here counts as so many at another of its tier; "
        "empty: 1.",
    )
    cold_c = NumberField(
        label="Cold there",
        low=-60,
        high=60,
        unit="°C",
        required=False,
        help_text="How cold batteries get: what they then can't give is not planned "
        "with. A warm tent or box counts. Empty: not counted.",
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
    spares = NumberField(
        label="Spares kept there",
        low=0,
        high=20,
        is_whole=True,
        required=False,
        help_text="Batteries that may wait there beside the one in use, full or empty; "
        "its operators swap for themselves.",
    )
    disconnect_v = NumberField(
        label="Disconnect",
        low=5,
        high=100,
        unit="V",
        required=False,
        help_text="Automatic low-voltage disconnect, if it has one.",
    )
    reconnect_v = NumberField(
        label="Reconnect",
        low=5,
        high=100,
        unit="V",
        required=False,
        help_text="Where a disconnect lets go again; it must lie above it.",
    )
    rest_min = NumberField(
        label="Rest before it reconnects",
        low=0,
        high=600,
        unit="min",
        is_whole=True,
        required=False,
    )
    main_fuse_a = NumberField(
        label="Main fuse", low=0.5, high=500, unit="A", required=False
    )
    feed_m = NumberField(
        label="Fed from afar over",
        low=0,
        high=500,
        unit="m",
        required=False,
        help_text="One way; its drop counts at the station.",
    )
    feed_awg = NumberField(
        label="Wire of that feed",
        low=0,
        high=30,
        unit="AWG",
        is_whole=True,
        required=False,
    )
    operators = forms.CharField(
        label="Operators",
        max_length=120,
        required=False,
        help_text="Who, or how many.",
    )
    spread_pct = NumberField(
        label="Use may differ by",
        low=0,
        high=100,
        unit="%",
        required=False,
        help_text="One standard deviation; 15 % where nobody knows.",
    )
    low_words = forms.CharField(
        label="Words for low power",
        max_length=120,
        required=False,
        help_text="What is said and read back: “go to two five watts”.",
    )
    watch_words = forms.CharField(
        label="Words for receive watch", max_length=120, required=False
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
    efficiency_pct = NumberField(
        label="Behind a converter of",
        low=5,
        high=100,
        unit="%",
        required=False,
        help_text="85 to 95 % for a DC converter, 80 to 92 % for an inverter.",
    )
    idle_w = NumberField(
        label="Its own draw", low=0, high=200, unit="W", required=False
    )
    fills_wh = NumberField(
        label="Full after",
        low=0,
        high=100_000,
        unit="Wh",
        required=False,
        help_text="For what charges and then stops: laptops, handhelds, banks.",
    )
    used_from = WallTimeField(label="Used from", required=False)
    used_until = WallTimeField(
        label="until",
        required=False,
        help_text="From then on it is off, or on a bank of its own.",
    )
    shed_pct = NumberField(
        label="Switched off at a charge of",
        low=0,
        high=100,
        unit="%",
        required=False,
        help_text="Of the battery there: the first stage of a thin night.",
    )


class SupplyForm(Dressed, forms.Form):
    """Power at a station itself."""

    kind = forms.ChoiceField(label="Kind", choices=StationSupply.Kind)
    name = forms.CharField(label="Name", max_length=60, required=False)
    max_w = NumberField(label="Most at once", low=1, high=20_000, unit="W")
    starts = WallTimeField(label="On from")
    ends = WallTimeField(label="until")
    transfer_s = NumberField(
        label="Break at the transfer",
        low=0,
        high=60,
        unit="s",
        initial="0",
        help_text="0 with a battery that bridges it; try it before the day.",
    )
    charges = forms.BooleanField(label="Also charges the battery there", required=False)


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


class AimForm(Dressed, forms.Form):
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


class HoursForm(Dressed, forms.Form):
    """Open hours of a station."""

    starts = WallTimeField(label="Opens")
    ends = WallTimeField(label="Closes")
    pattern = forms.ModelChoiceField(OperatingPattern.objects, label="Operated as")
    step = forms.ChoiceField(
        label="Power step",
        choices=[("full", "full"), ("low", "low power"), ("watch", "receive watch")],
    )
    on_for_min = NumberField(
        label="Listens only for",
        low=1,
        high=1440,
        unit="min",
        is_whole=True,
        required=False,
        help_text="Listening windows: switched off between them.",
    )
    every_min = NumberField(
        label="every", low=1, high=1440, unit="min", is_whole=True, required=False
    )


class PatternForm(Dressed, forms.Form):
    """A way of operating of the club's own."""

    name = forms.CharField(label="Name", max_length=60)
    transmit_pct = NumberField(label="Transmits", low=0, high=100, unit="% of time")
    duty_pct = NumberField(
        label="Duty of the mode",
        low=0,
        high=100,
        unit="%",
        help_text="Phone 20, Morse 40, FM and digital 100.",
    )
    standby_pct = NumberField(
        label="On standby", low=0, high=100, unit="% of time", initial="0"
    )


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


class LimitsForm(Dressed, forms.Form):
    """What a source can give, when it must be quiet, what it burns."""

    max_w = NumberField(label="Most at once", low=1, high=100_000, unit="W")
    max_va = NumberField(
        label="Apparent power",
        low=1,
        high=150_000,
        unit="VA",
        required=False,
        help_text="Chargers have a poor power factor: 0.65 is counted.",
    )
    other_w = NumberField(
        label="Other things on it",
        low=0,
        high=100_000,
        unit="W",
        help_text="Lights, the kettle in the kitchen tent.",
    )
    energy_wh = NumberField(
        label="Holds at the start", low=0, high=1_000_000, unit="Wh", required=False
    )
    capacity_wh = NumberField(
        label="Can hold", low=0, high=1_000_000, unit="Wh", required=False
    )
    filled_from = forms.ModelChoiceField(
        Source.objects.none(),
        label="Filled from",
        required=False,
        help_text="A buffer bank, while that source runs.",
    )
    fill_w = NumberField(
        label="Filled with", low=0, high=20_000, unit="W", required=False
    )
    quiet_from = forms.TimeField(
        label="Quiet from",
        required=False,
        widget=forms.TimeInput(format="%H:%M"),
        error_messages={"invalid": "Write the time of day like 22:00."},
    )
    quiet_until = forms.TimeField(
        label="until",
        required=False,
        widget=forms.TimeInput(format="%H:%M"),
        error_messages={"invalid": "Write the time of day like 06:00."},
    )
    is_quiet_waived = forms.BooleanField(
        label="Quiet hours waived (emergency)", required=False
    )
    tank_l = NumberField(label="Tank", low=0.1, high=1000, unit="L", required=False)
    on_hand_l = NumberField(
        label="Fuel on hand, with the tank",
        low=0,
        high=10_000,
        unit="L",
        required=False,
    )
    quarter_l_h = NumberField(
        label="Burns at a quarter", low=0.01, high=50, unit="L/h", required=False
    )
    full_l_h = NumberField(
        label="Burns at full power", low=0.01, high=100, unit="L/h", required=False
    )
    refuel_min = NumberField(
        label="Cooling and refuelling take",
        low=0,
        high=240,
        unit="min",
        is_whole=True,
        help_text="Every bay on it is down; 20 to 30 min is usual.",
    )

    def __init__(self, *args: Any, source: Source, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        bank_only = ("energy_wh", "capacity_wh", "filled_from", "fill_w")
        fuel_only = ("tank_l", "on_hand_l", "quarter_l_h", "full_l_h", "refuel_min")
        is_bank = source.kind == Source.Kind.BUFFER
        if is_bank:
            feeds = source.event.sources.exclude(kind=Source.Kind.BUFFER)
            self.fields["filled_from"].queryset = feeds  # type: ignore[attr-defined]
        is_engine = source.kind == Source.Kind.GENERATOR
        unused = (() if is_bank else bank_only) + (() if is_engine else fuel_only)
        for name in unused:
            del self.fields[name]


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
        widget=forms.SelectMultiple(attrs={"size": 7}),
    )
    ends_itself = forms.BooleanField(
        label="Its charger stops by itself",
        required=False,
        help_text="Lead-acid may then charge while nobody watches.",
    )
    unwatched_why = forms.CharField(
        label="May charge unwatched because",
        max_length=120,
        required=False,
        help_text="Empty: nothing charges while nobody watches the yard. Only on "
        "purpose: “charger in a steel box outside, smoke alarm”.",
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
    people = NumberField(
        label="People together",
        low=1,
        high=MOST_PEOPLE,
        is_whole=True,
        initial=str(USUAL_PEOPLE),
    )
    starts = WallTimeField(label="On duty from")
    ends = WallTimeField(label="until")


class YardPlaceForm(Dressed, forms.Form):
    """Where the charging yard is; the sky is looked at from there."""

    latitude = NumberField(label="Latitude", low=-90, high=90, unit="°", required=False)
    longitude = NumberField(
        label="Longitude", low=-180, high=180, unit="°", required=False
    )
    altitude_m = NumberField(
        label="Altitude", low=-430, high=9000, unit="m", required=False
    )

    def clean(self) -> dict[str, Any]:
        """A place has both its coordinates or none."""
        data = super().clean() or self.cleaned_data
        halves = (data.get("latitude") is None) != (data.get("longitude") is None)
        if halves and not self.errors:
            self.add_error("longitude", "A place needs both its coordinates.")
        return data


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
        label="Minutes", low=1, high=240, unit="min", is_whole=True, required=False
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
        help_text="Kept away with none named: no battery at all.",
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
            self.add_error("battery", "That is not a battery's: leave this empty.")
        if kind not in (Pin.Kind.NO_WALK, Pin.Kind.NO_SWAP) and not place:
            self.add_error("place", "Say where: any is for walks and swaps only.")
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
                self.add_error("ends", "That is over by now.")
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
