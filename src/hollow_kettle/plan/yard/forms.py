"""What people send about the yard."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.plan.models import Event, Source
from hollow_kettle.shelf.assets.form_fields import AssetChoice
from hollow_kettle.shelf.models import CHEMISTRY_CHOICES
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from hollow_kettle.ui.seen import Seen
from powercore import limits
from powercore.physics.chemistry import CHEMISTRIES


class SourceForm(Dressed, forms.Form):
    """A source of the yard."""

    ids = "source_%s"

    name = forms.CharField(label="Source", max_length=60)
    kind = forms.ChoiceField(label="Kind", choices=Source.Kind)
    max_w = NumberField(label="Highest power", limit=limits.SOURCE_W)
    energy_wh = NumberField(
        label="Energy in it",
        limit=limits.ENERGY_WH,
        required=False,
        help_text="Only for a buffer bank.",
    )
    starts = WallTimeField(label="May run from")
    ends = WallTimeField(label="until")


class LimitsForm(Seen, forms.Form):
    """What a source can give, when it must be quiet, what it burns."""

    max_w = NumberField(label="Highest power", limit=limits.SOURCE_W)
    max_va = NumberField(
        label="Apparent power",
        limit=limits.SOURCE_VA,
        required=False,
        help_text="Chargers have a poor power factor: 0.65 is counted.",
    )
    other_w = NumberField(
        label="Other loads on it",
        limit=limits.OTHER_W,
        help_text="Lights, the kettle in the kitchen tent.",
    )
    energy_wh = NumberField(
        label="Energy in it at the start",
        limit=limits.ENERGY_WH,
        required=False,
    )
    capacity_wh = NumberField(
        label="Energy it can hold", limit=limits.ENERGY_WH, required=False
    )
    filled_from = forms.ModelChoiceField(
        Source.objects.none(),
        label="Charged from",
        required=False,
        help_text="A buffer bank charges while that source runs.",
    )
    fill_w = NumberField(label="Charged with", limit=limits.FILL_W, required=False)
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
    tank_l = NumberField(label="Tank", limit=limits.TANK_L, required=False)
    on_hand_l = NumberField(
        label="Fuel on hand, tank included",
        limit=limits.ON_HAND_L,
        required=False,
    )
    quarter_l_h = NumberField(
        label="Fuel use at a quarter load",
        limit=limits.QUARTER_L_H,
        required=False,
    )
    full_l_h = NumberField(
        label="Fuel use at full load", limit=limits.FULL_L_H, required=False
    )
    refuel_min = NumberField(
        label="Cooling and refuelling take",
        limit=limits.REFUEL_MIN,
        is_whole=True,
        help_text="All its bays are off meanwhile; 20 to 30 min is usual.",
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
        self.watch()


class WindowForm(Dressed, forms.Form):
    """Another stretch in which a source may run."""

    starts = WallTimeField(label="May run from")
    ends = WallTimeField(label="until")


class BayForm(Seen, forms.Form):
    """A bay of the yard."""

    ids = "bay_%s"

    name = forms.CharField(label="Bay", max_length=60)
    source = forms.ModelChoiceField(Source.objects.none(), label="Fed from")
    charger = AssetChoice(
        AssetKind.CHARGER,
        label="Charger",
        required=False,
        empty_label="none of the shelf: figures typed below",
        help_text="A charger of the shelf brings its own current and what it may "
        "charge; leave the next two empty.",
    )
    max_w = NumberField(label="Charger output", limit=limits.BAY_W, required=False)
    chemistries = forms.MultipleChoiceField(
        label="Set for",
        required=False,
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
        help_text="Empty: nothing charges unless somebody watches the yard. Give a "
        "reason, such as “charger in a steel box outside, smoke alarm”.",
    )

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["source"].queryset = event.sources.all()  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """A bay has a charger of the shelf, or its output and chemistries."""
        data = super().clean()
        if data.get("charger"):
            data |= {"max_w": None, "chemistries": [], "ends_itself": False}
        elif not self.errors:
            if data.get("max_w") is None:
                self.add_error("max_w", "Give it, or choose a charger of the shelf.")
            if not data.get("chemistries"):
                words = "Choose at least one, or a charger of the shelf."
                self.add_error("chemistries", words)
        return data


class CrewForm(Dressed, forms.Form):
    """People on duty."""

    ids = "crew_%s"

    name = forms.CharField(label="Crew", max_length=60)
    does = forms.ChoiceField(
        label="Does", choices=[("walks", "walks"), ("yard", "watches the yard")]
    )
    people = NumberField(
        label="Crew size",
        limit=limits.PEOPLE,
        is_whole=True,
        initial=str(limits.USUAL_PEOPLE),
    )
    starts = WallTimeField(label="On duty from")
    ends = WallTimeField(label="until")


class YardPlaceForm(Dressed, forms.Form):
    """Where the charging yard is; the sky is looked at from there."""

    latitude = NumberField(label="Latitude", limit=limits.LATITUDE, required=False)
    longitude = NumberField(label="Longitude", limit=limits.LONGITUDE, required=False)
    altitude_m = NumberField(label="Altitude", limit=limits.ALTITUDE_M, required=False)

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
        label="Walk", limit=limits.WALK_MIN, is_whole=True, required=False
    )
