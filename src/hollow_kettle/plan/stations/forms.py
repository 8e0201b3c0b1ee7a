"""What people send about stations."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.plan.models import OperatingPattern, StationSupply
from hollow_kettle.shelf.assets.loads import kind_of_asset
from hollow_kettle.shelf.models import Asset, EquipmentType
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen
from powercore import limits


class StationForm(Seen, forms.Form):
    """A station: how important, where, how a swap is made."""

    name = forms.CharField(label="Name", max_length=60)
    purpose = forms.CharField(label="Purpose", max_length=60, required=False)
    tier = NumberField(
        label="Tier",
        limit=limits.TIER,
        is_whole=True,
        initial=str(limits.USUAL_TIER),
        help_text="1 is kept on the air first, whatever that costs the others.",
    )
    weight = NumberField(
        label="Weight inside its tier",
        limit=limits.WEIGHT,
        required=False,
        help_text="A minute off the air here counts as this many at another station of "
        "its tier; empty: 1.",
    )
    draws = NumberField(
        label="Draws, times its list",
        limit=limits.DRAWS,
        required=False,
        help_text="What it really draws over what its equipment and ways of operating "
        "add up to, where an event showed that; empty: 1.",
    )
    cold_c = NumberField(
        label="Cold there",
        limit=limits.CELSIUS,
        required=False,
        help_text="How cold batteries get there; what the cold takes from them is not "
        "planned with. A warm tent or box counts. Empty: cold is ignored.",
    )
    changeover_s = NumberField(
        label="Changeover",
        limit=limits.CHANGEOVER_S,
        is_whole=True,
        initial=str(limits.USUAL_CHANGEOVER_S),
        help_text="Break at a swap; 0 with isolators.",
    )
    spares = NumberField(
        label="Spares kept there",
        limit=limits.SPARES,
        is_whole=True,
        required=False,
        help_text="Batteries that may wait there beside the one in use, full or empty; "
        "its operators swap for themselves.",
    )
    disconnect_v = NumberField(
        label="Disconnect",
        limit=limits.DISCONNECT_V,
        required=False,
        help_text="Automatic low-voltage disconnect, if it has one.",
    )
    reconnect_v = NumberField(
        label="Reconnect",
        limit=limits.DISCONNECT_V,
        required=False,
        help_text="Where the disconnect switches on again; above the disconnect.",
    )
    rest_min = NumberField(
        label="Wait before it reconnects",
        limit=limits.REST_MIN,
        is_whole=True,
        required=False,
    )
    main_fuse_a = NumberField(
        label="Main fuse", limit=limits.MAIN_FUSE_A, required=False
    )
    feed_m = NumberField(
        label="Length of its feed line",
        limit=limits.FEED_M,
        required=False,
        help_text="One way; its voltage drop counts.",
    )
    feed_awg = NumberField(
        label="Wire of the feed line",
        limit=limits.AWG,
        is_whole=True,
        required=False,
    )
    hazards = forms.CharField(
        label="Mind there",
        max_length=200,
        required=False,
        help_text="What may hurt somebody: overhead line, road, bank, generator. It "
        "heads every slip for this station.",
    )
    is_unattended = forms.BooleanField(
        label="Nobody is there",
        required=False,
        help_text="A relay or a beacon: nobody swaps, switches or answers.",
    )
    operators = forms.CharField(
        label="Operators",
        max_length=120,
        required=False,
        help_text="Who, or how many.",
    )
    spread_pct = NumberField(
        label="Use may vary by",
        limit=limits.SPREAD.percent,
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
        limit=limits.WALK_MIN,
        is_whole=True,
        required=False,
        help_text="Empty: worked out from the map.",
    )
    latitude = NumberField(label="Latitude", limit=limits.LATITUDE, required=False)
    longitude = NumberField(label="Longitude", limit=limits.LONGITUDE, required=False)

    def clean(self) -> dict[str, Any]:
        """Where nobody is, nobody swaps spares."""
        data = super().clean() or self.cleaned_data
        if data.get("is_unattended") and data.get("spares"):
            self.add_error(
                "spares", "Nobody is there to swap them: 0, or somebody is there."
            )
        return data


#: What stands before the key of something of the shelf.
_OURS = "ours:"


class EquipmentForm(Dressed, forms.Form):
    """Equipment of a station."""

    equipment = forms.ChoiceField(label="Equipment")
    count = NumberField(
        label="How many", limit=limits.COUNT, is_whole=True, initial="1"
    )
    step = forms.ChoiceField(
        label="Run at", choices=[("full", "full"), ("low", "low power")]
    )

    efficiency_pct = NumberField(
        label="Behind a converter of",
        limit=limits.EFFICIENCY.percent,
        required=False,
        help_text="85 to 95 % for a DC converter, 80 to 92 % for an inverter.",
    )
    idle_w = NumberField(
        label="Converter's own draw", limit=limits.IDLE_W, required=False
    )
    fills_wh = NumberField(
        label="Full after",
        limit=limits.FILLS_WH,
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
        limit=limits.SHARE.percent,
        required=False,
        help_text="Charge of the station's battery at which it is switched off to save "
        "the rest.",
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        ours = Asset.objects.here().filter(
            kind=AssetKind.DEVICE, as_equipment=None, hold=""
        )
        self.fields["equipment"].choices = [  # type: ignore[attr-defined]
            ("", "choose…"),
            ("Library", list(EquipmentType.objects.values_list("pk", "name"))),
            ("Ours, on the shelf", [(f"{_OURS}{one.pk}", str(one)) for one in ours]),
        ]

    def clean_equipment(self) -> EquipmentType:
        """Return the kind that was chosen; one of ours becomes a kind by that."""
        chosen = self.cleaned_data["equipment"]
        if chosen.startswith(_OURS):
            return kind_of_asset(Asset.objects.get(pk=chosen.removeprefix(_OURS)))
        return EquipmentType.objects.get(pk=chosen)


class SupplyForm(Dressed, forms.Form):
    """Power at a station itself."""

    kind = forms.ChoiceField(label="Kind", choices=StationSupply.Kind)
    name = forms.CharField(label="Name", max_length=60, required=False)
    max_w = NumberField(label="Highest power", limit=limits.SUPPLY_W)
    starts = WallTimeField(label="On from")
    ends = WallTimeField(label="until")
    transfer_s = NumberField(
        label="Break at the transfer",
        limit=limits.TRANSFER_S,
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
        limit=limits.LISTENS_MIN,
        is_whole=True,
        required=False,
        help_text="Listening windows: switched off between them.",
    )
    every_min = NumberField(
        label="every", limit=limits.LISTENS_MIN, is_whole=True, required=False
    )


class PatternForm(Dressed, forms.Form):
    """A way of operating of the club's own."""

    name = forms.CharField(label="Name", max_length=60)
    transmit_pct = NumberField(
        label="Transmits", limit=limits.SHARE.percent, unit="% of time"
    )
    duty_pct = NumberField(
        label="Duty of the mode",
        limit=limits.SHARE.percent,
        help_text="Phone 20, Morse 40, FM and digital 100.",
    )
    standby_pct = NumberField(
        label="On standby", limit=limits.SHARE.percent, unit="% of time", initial="0"
    )
