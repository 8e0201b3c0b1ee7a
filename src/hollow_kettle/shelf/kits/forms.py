"""What people send about kits: path, contents, findings, records."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date
from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hollow_kettle.people.club import today
from hollow_kettle.shelf.assets.form_fields import (
    CONNECTORS,
    GENDERS,
    AssetChoice,
    DayField,
)
from hollow_kettle.shelf.kinds import CONNECTOR_CHOICES
from hollow_kettle.shelf.models import (
    Asset,
    BuildNote,
    ChargeWay,
    KitItem,
    KitTrial,
    NoiseRecord,
    PathPart,
)
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.forms import Dressed, NumberField
from powercore.limits import Limit
from powercore.physics.wiring import BUNDLES, INSULATIONS

from .findings import Stop


class StartForm(Dressed, forms.Form):
    """The usual path in one go: battery, fuse, wire, connector, radio."""

    battery = AssetChoice(AssetKind.BATTERY, label="Battery")
    load = AssetChoice(AssetKind.DEVICE, label="Radio or load")
    fuse_a = NumberField(label="Main fuse", limit=Limit(0.1, 500, "A"))
    awg = NumberField(label="Wire", limit=Limit(0, 30, "AWG"), is_whole=True)
    length_m = NumberField(label="Length, one way", limit=Limit(0, 500, "m"))
    insulation = forms.ChoiceField(
        label="Insulation", choices=list(INSULATIONS.items()), required=False
    )
    bundle = forms.ChoiceField(
        label="It lies", choices=list(BUNDLES.items()), required=False
    )
    connector = forms.ChoiceField(
        label="Connector",
        choices=[
            ("", "choose…"),
            *[c for c in CONNECTOR_CHOICES if c[0].startswith("genderless")],
            ("ring", "ring terminals"),
        ],
    )


class PartForm(Dressed, forms.Form):
    """One part of a kit's power path; which fields count depends on what it is."""

    what = forms.ChoiceField(label="Part", choices=PathPart.What.choices)
    name = forms.CharField(label="Name", max_length=40, required=False)
    after = forms.ModelChoiceField(
        PathPart.objects.none(),
        label="Comes after",
        required=False,
        empty_label="the battery's terminals",
    )
    is_between = forms.BooleanField(
        label="Insert it before what follows", required=False
    )
    asset = AssetChoice(
        AssetKind.BATTERY,
        AssetKind.CONVERTER,
        AssetKind.DEVICE,
        AssetKind.LEAD,
        AssetKind.GUARD,
        label="Which one",
        required=False,
    )
    amps = NumberField(
        label="Rating",
        limit=Limit(0.1, 1000, "A"),
        required=False,
        help_text="Of a fuse: empty if missing or blown. Of a battery: its own fuse in "
        "a parallel set.",
    )
    style = forms.ChoiceField(label="Kind of fuse", choices=PathPart.STYLES)
    from_battery_m = NumberField(
        label="Wire before it", limit=Limit(0, 10, "m"), required=False
    )
    length_m = NumberField(
        label="Length, one way", limit=Limit(0, 500, "m"), required=False
    )
    awg = NumberField(
        label="Gauge", limit=Limit(0, 30, "AWG"), is_whole=True, required=False
    )
    area_mm2 = NumberField(
        label="or cross-section", limit=Limit(0.05, 120, "mm²"), required=False
    )
    insulation = forms.ChoiceField(
        label="Insulation", choices=list(INSULATIONS.items()), required=False
    )
    bundle = forms.ChoiceField(
        label="It lies", choices=list(BUNDLES.items()), required=False
    )
    connector = forms.ChoiceField(
        label="Connector, battery side", choices=CONNECTORS, required=False
    )
    gender = forms.ChoiceField(label="is a", choices=GENDERS, required=False)
    is_reversed = forms.BooleanField(label="its polarity is reversed", required=False)
    mate_connector = forms.ChoiceField(
        label="Connector, load side", choices=CONNECTORS, required=False
    )
    mate_gender = forms.ChoiceField(label="is a", choices=GENDERS, required=False)
    mate_reversed = forms.BooleanField(label="its polarity is reversed", required=False)
    is_live = forms.BooleanField(label="Live when open", required=False)
    is_on = forms.BooleanField(label="It is on", required=False, initial=True)

    #: Fields that count for each kind of part, beside those for all.
    COUNT = {
        "battery": ("asset", "amps"),
        "fuse": ("asset", "amps", "style", "from_battery_m"),
        "cable": ("asset", "length_m", "awg", "area_mm2", "insulation", "bundle"),
        "joint": (
            "connector",
            "gender",
            "is_reversed",
            "mate_connector",
            "mate_gender",
            "mate_reversed",
            "is_live",
            "amps",
        ),
        "switch": ("asset", "amps", "is_on"),
        "block": ("asset", "amps"),
        "converter": ("asset",),
        "load": ("asset",),
    }

    @property
    def counts(self) -> str:
        """Which fields count for which kind, for the page's script."""
        return json.dumps(self.COUNT)

    _KINDS = {
        "battery": AssetKind.BATTERY,
        "converter": AssetKind.CONVERTER,
        "load": AssetKind.DEVICE,
        "cable": AssetKind.LEAD,
        "fuse": AssetKind.GUARD,
        "switch": AssetKind.GUARD,
        "block": AssetKind.GUARD,
    }

    def __init__(self, kit: Asset, part: PathPart | None, *args: Any) -> None:
        initial = {}
        if part is not None:
            initial = {
                field.name: getattr(part, field.name) for field in PathPart._meta.fields
            }
        super().__init__(*args, initial=initial)
        others = kit.path.exclude(what=PathPart.What.BATTERY).exclude(
            what=PathPart.What.LOAD
        )
        after = self.fields["after"]
        if isinstance(after, forms.ModelChoiceField):
            after.queryset = others if part is None else others.exclude(pk=part.pk)
        if part is not None:
            del self.fields["is_between"]

    def clean(self) -> dict[str, Any]:
        """Keep what counts for this kind of part; say what it needs."""
        data = super().clean() or self.cleaned_data
        what = data.get("what", "")
        wanted = self._KINDS.get(what)
        asset = data.get("asset")
        if what in ("battery", "converter", "load") and asset is None:
            self.add_error("asset", "Say which one it is.")
        elif (
            asset is not None
            and "asset" in self.COUNT.get(what, ())
            and asset.kind != wanted
        ):
            self.add_error(
                "asset", f"{asset.tag} is a {asset.get_kind_display()}, not this."
            )
        if what in ("switch", "block") and data.get("amps") is None and asset is None:
            self.add_error("amps", "A switch or block has a rating.")
        if what == "joint" and not data.get("connector"):
            self.add_error("connector", "Say which connector it is.")
        counts = {"what", "name", "after", "is_between", *self.COUNT.get(what, ())}
        return {
            name: value
            if name in counts
            else (None if not isinstance(value, bool) else value)
            for name, value in data.items()
        } | ({"asset": asset if "asset" in counts else None})


class WayForm(Dressed, forms.Form):
    """One way of charging a kit."""

    source = AssetChoice(AssetKind.CHARGER, AssetKind.PANEL, label="Charges from")
    controller = AssetChoice(
        AssetKind.CONTROLLER,
        label="through",
        required=False,
        empty_label="no controller",
    )
    enters_at = forms.ModelChoiceField(
        PathPart.objects.none(),
        label="enters at",
        required=False,
        empty_label="the battery's terminals",
    )
    through = forms.ChoiceField(
        label="by way of", choices=ChargeWay.THROUGH, required=False
    )
    switch_a = NumberField(
        label="Switch on its way", limit=Limit(0.1, 500, "A"), required=False
    )
    shares_with = forms.CharField(
        label="The switch also feeds", max_length=60, required=False
    )

    def __init__(self, kit: Asset, *args: Any) -> None:
        super().__init__(*args)
        enters = self.fields["enters_at"]
        if isinstance(enters, forms.ModelChoiceField):
            enters.queryset = kit.path.exclude(what=PathPart.What.BATTERY)


class ItemForm(Dressed, forms.Form):
    """Something in a kit."""

    asset = AssetChoice(label="From the shelf", required=False, empty_label="nothing")
    name = forms.CharField(
        label="or just a name",
        max_length=80,
        required=False,
        help_text="Spare 25 A fuses, pencil, coax jumper.",
    )
    count = NumberField(
        label="How many", limit=Limit(1, 500), is_whole=True, required=False
    )
    container = forms.CharField(label="Box or bag", max_length=40, required=False)
    place = forms.CharField(label="Where in it", max_length=60, required=False)
    mass_kg = NumberField(
        label="Mass of one", limit=Limit(0.001, 500, "kg"), required=False
    )
    volume_l = NumberField(
        label="Volume of one", limit=Limit(0.001, 500, "L"), required=False
    )
    is_must = forms.BooleanField(label="It must be there", required=False, initial=True)

    def clean(self) -> dict[str, Any]:
        """An asset or a name, and one of it by default."""
        data = super().clean() or self.cleaned_data
        if not data.get("asset") and not data.get("name"):
            raise ValidationError("Choose something from the shelf, or give a name.")
        data["count"] = data.get("count") or 1
        return data


class ItemEditForm(Dressed, forms.ModelForm):
    """Where something in a kit is packed."""

    class Meta:
        model = KitItem
        fields = ["count", "container", "place", "is_must"]


class AcceptForm(Dressed, forms.Form):
    """Accept a finding, with a reason, until a date."""

    key = forms.CharField(max_length=80, widget=forms.HiddenInput)
    reason = forms.CharField(label="Because", max_length=300)
    until = DayField(label="Until")


class StopsForm(Dressed, forms.Form):
    """A reason for each stop that somebody accepts, so that kits may leave."""

    def __init__(self, stops: Sequence[Stop], *args: Any) -> None:
        super().__init__(*args)
        for stop in stops:
            self.fields[stop.name] = forms.CharField(
                label=f"Stop · {stop.words}",
                max_length=300,
                help_text=stop.finding.remedy,
                error_messages={"required": "Say why it may leave anyway."},
                widget=forms.TextInput(attrs={"placeholder": "Accepted because…"}),
            )
        self._dress()


class NoteForm(Dressed, forms.ModelForm):
    """A line of the build record."""

    due_on = DayField(label="Due", required=False)

    class Meta:
        model = BuildNote
        fields = ["what", "words", "why", "due_on"]
        labels = {"what": "What", "words": "What was done, or is there", "why": "Why"}

    def clean(self) -> dict[str, Any]:
        """A temporary part has a date."""
        data = super().clean() or self.cleaned_data
        if data.get("what") == "temporary" and not data.get("due_on"):
            self.add_error("due_on", "Give the date by which the temporary part goes.")
        return data


class TrialForm(Dressed, forms.Form):
    """A trial with its result."""

    ids = "trial_%s"

    what = forms.ChoiceField(label="Trial", choices=KitTrial.WHAT)
    made_on = DayField(label="On", required=False, help_text="Empty: today.")
    result = forms.ChoiceField(
        label="Result", choices=[("", "–"), ("pass", "passed"), ("fail", "failed")]
    )
    words = forms.CharField(
        label="What was seen",
        max_length=300,
        help_text="The load, how long, the break; of a failure what it showed.",
    )

    def clean_made_on(self) -> date:
        """No trial is made later than today."""
        made_on: date = self.cleaned_data["made_on"] or today()
        if made_on > today():
            raise forms.ValidationError("A trial is noted once it was made.")
        return made_on


class NoiseForm(Dressed, forms.ModelForm):
    """Radio noise of this installation."""

    class Meta:
        model = NoiseRecord
        fields = [
            "source", "heard_on", "band", "installation", "level", "state", "cure",
        ]  # fmt: skip
        labels = {
            "source": "What makes it",
            "heard_on": "Heard on",
            "installation": "In this installation",
            "cure": "What helps",
        }


class SpareForm(Dressed, forms.Form):
    """A spare part."""

    name = forms.CharField(label="Spare part", max_length=80)
    have = NumberField(label="There are", limit=Limit(0, 500), is_whole=True)
    want = NumberField(label="There should be", limit=Limit(0, 500), is_whole=True)
    wear = forms.CharField(label="Wear", max_length=200, required=False)
    is_obsolete = forms.BooleanField(label="No longer available", required=False)


class VersionForm(Dressed, forms.Form):
    """Why this is a new version."""

    why = forms.CharField(label="What is new in it", max_length=200)
