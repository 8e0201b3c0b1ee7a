"""What people send about stations."""

from __future__ import annotations

from django import forms

from hollow_kettle.plan.models import OperatingPattern, StationSupply
from hollow_kettle.shelf.models import EquipmentType
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen

CHANGEOVER_WHY = "isolators take seconds; without them it is 1 to 3 min"


class StationForm(Seen, forms.Form):
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
        label="Length of its feed line",
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
        label="Use may vary by",
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


class HoursForm(Dressed, forms.Form):
    """Open hours of a station."""

    ids = "hours_%s"

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
