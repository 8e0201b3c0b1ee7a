"""What people send about kits, bench tests and custody."""

from __future__ import annotations

import json
from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.capacity import Row
from powercore.errors import PowercoreError
from powercore.values import in_range, parse_number

from .forms import DayField, long_text
from .kinds import CONNECTOR_CHOICES
from .models import (
    Asset,
    BenchTest,
    BuildNote,
    ChargeWay,
    KitItem,
    NoiseRecord,
    PathPart,
    Port,
)
from .models.asset import AssetKind

_CONNECTORS = [("", "choose…"), *CONNECTOR_CHOICES]
_GENDERS = [("", "–"), ("plug", "plug"), ("socket", "socket")]


class AssetChoice(forms.ModelChoiceField):
    """An asset of some kinds, by tag and name."""

    def __init__(self, *kinds: str, **kwargs: Any) -> None:
        found = Asset.objects.here()
        super().__init__(found.filter(kind__in=kinds) if kinds else found, **kwargs)

    def label_from_instance(self, obj: Any) -> str:
        """K07 long name."""
        return f"{obj.tag} {obj.name}".strip()


class StartForm(Dressed, forms.Form):
    """The usual path in one go: battery, fuse, wire, connector, radio."""

    battery = AssetChoice(AssetKind.BATTERY, label="Battery")
    load = AssetChoice(AssetKind.DEVICE, label="Radio or load")
    fuse_a = NumberField(label="Main fuse", low=0.1, high=500, unit="A")
    awg = NumberField(label="Wire", low=0, high=30, unit="AWG", is_whole=True)
    length_m = NumberField(label="Length, one way", low=0, high=500, unit="m")
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
        label="Put it between that and what follows", required=False
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
        low=0.1,
        high=1000,
        unit="A",
        required=False,
        help_text="Of a fuse: empty when it is missing or blown. Of a battery: the "
        "fuse of its own in a set.",
    )
    style = forms.ChoiceField(label="Kind of fuse", choices=PathPart.STYLES)
    from_battery_m = NumberField(
        label="Wire before it", low=0, high=10, unit="m", required=False
    )
    length_m = NumberField(
        label="Length, one way", low=0, high=500, unit="m", required=False
    )
    awg = NumberField(
        label="Gauge", low=0, high=30, unit="AWG", is_whole=True, required=False
    )
    area_mm2 = NumberField(
        label="or cross-section", low=0.05, high=120, unit="mm²", required=False
    )
    connector = forms.ChoiceField(
        label="Connector, battery side", choices=_CONNECTORS, required=False
    )
    gender = forms.ChoiceField(label="is a", choices=_GENDERS, required=False)
    is_reversed = forms.BooleanField(label="its polarity is reversed", required=False)
    mate_connector = forms.ChoiceField(
        label="Connector, load side", choices=_CONNECTORS, required=False
    )
    mate_gender = forms.ChoiceField(label="is a", choices=_GENDERS, required=False)
    mate_reversed = forms.BooleanField(label="its polarity is reversed", required=False)
    is_live = forms.BooleanField(label="Live when open", required=False)
    is_on = forms.BooleanField(label="It is on", required=False, initial=True)

    #: Fields that count for each kind of part, beside those for all.
    COUNT = {
        "battery": ("asset", "amps"),
        "fuse": ("asset", "amps", "style", "from_battery_m"),
        "cable": ("asset", "length_m", "awg", "area_mm2"),
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
        label="Switch on its way", low=0.1, high=500, unit="A", required=False
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
        label="How many", low=1, high=500, is_whole=True, required=False
    )
    container = forms.CharField(label="Box or bag", max_length=40, required=False)
    place = forms.CharField(label="Where in it", max_length=60, required=False)
    mass_kg = NumberField(
        label="Mass of one", low=0.001, high=500, unit="kg", required=False
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
            self.add_error("due_on", "A temporary part has a date by which it goes.")
        return data


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
    have = NumberField(label="There are", low=0, high=500, is_whole=True)
    want = NumberField(label="There should be", low=0, high=500, is_whole=True)
    wear = forms.CharField(label="Wear", max_length=200, required=False)
    is_obsolete = forms.BooleanField(label="Can't be had any more", required=False)


class VersionForm(Dressed, forms.Form):
    """Why this is a new version."""

    why = forms.CharField(label="What is new in it", max_length=200)


class BenchForm(Dressed, forms.Form):
    """One bench test; which fields count depends on what it is."""

    what = forms.ChoiceField(label="Test", choices=BenchTest.What.choices)
    meter = AssetChoice(
        AssetKind.METER,
        label="Meter",
        required=False,
        empty_label="no meter of the shelf",
        help_text="Its zero and its gain are taken off.",
    )
    charger = AssetChoice(AssetKind.CHARGER, label="Charger", required=False)
    shown_ah = NumberField(
        label="The meter counted", low=-5000, high=5000, unit="Ah", required=False
    )
    hours = NumberField(label="In", low=0.01, high=2000, unit="h", required=False)
    amps = NumberField(label="Current", low=-2000, high=2000, unit="A", required=False)
    start_v = NumberField(
        label="Volts before", low=0, high=500, unit="V", required=False
    )
    end_v = NumberField(
        label="Volts at the end", low=0, high=500, unit="V", required=False
    )
    end_a = NumberField(
        label="Current at the end", low=-2000, high=2000, unit="A", required=False
    )
    temp_c = NumberField(
        label="Its temperature", low=-30, high=60, unit="°C", required=False
    )
    was_full = forms.BooleanField(
        label="It was full (absorption reached, current at the tail)", required=False
    )
    was_emptied = forms.BooleanField(
        label="It was empty (run to its disconnect)", required=False
    )
    is_off = forms.BooleanField(label="The charger ended by itself", required=False)
    rows = forms.CharField(
        label="Readings",
        required=False,
        max_length=200_000,
        widget=long_text(5),
        help_text="One a line: minutes, amps, volts. Or the meter's CSV below.",
    )
    file = forms.FileField(label="The meter's CSV", required=False)
    note = forms.CharField(label="Note", max_length=300, required=False)

    _ENDS = ("meter", "hours", "was_full", "was_emptied")
    _RUN = (*_ENDS, "amps", "end_v", "temp_c", "rows", "file")
    #: Fields that count for each kind of test, beside test and note.
    COUNT = {
        "counter": (*_ENDS, "shown_ah", "end_v", "temp_c"),
        "timed": _RUN,
        "run_down": _RUN,
        "sag": ("meter", "amps", "start_v", "end_v"),
        "recharge": (*_ENDS, "shown_ah"),
        "bank": ("hours", "amps", "end_v"),
        "finishing": ("charger", "end_v", "end_a", "is_off"),
    }

    @property
    def counts(self) -> str:
        """Which fields count for which test, for the page's script."""
        return json.dumps(self.COUNT)

    def __init__(self, asset: Asset, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        choices = [
            (value, label)
            for value, label in BenchTest.What.choices
            if (value == "bank") == (asset.kind == AssetKind.BANK)
        ]
        what = self.fields["what"]
        if isinstance(what, forms.ChoiceField):
            what.choices = choices

    def clean(self) -> dict[str, Any]:
        """Read the rows; keep what counts."""
        data = super().clean() or self.cleaned_data
        counts = self.COUNT.get(data.get("what", ""), ())
        file = data.pop("file", None)
        text = data.pop("rows", "") or ""
        lines: list[Row] = []
        if "rows" in counts and not self.errors:
            try:
                if file is not None:
                    text = file.read(2_000_000).decode("utf-8-sig", "replace")
                lines = read_rows(text)
            except ValueError as error:
                self.add_error("file" if file is not None else "rows", str(error))
        kept: dict[str, Any] = {
            name: value
            if name in counts or name in ("what", "note")
            else (False if isinstance(value, bool) else None)
            for name, value in data.items()
        }
        kept["is_off"] = data.get("is_off", False) if "is_off" in counts else True
        return kept | {"lines": lines}


def read_rows(text: str) -> list[Row]:
    """
    Read readings, one a line: minutes, amps, volts; headings are passed over.

    Raises
    ------
    ValueError
        Naming the line that can't be read.
    """
    rows = []
    for number, line in enumerate(text.splitlines(), start=1):
        parts = [p for p in line.replace(";", "\t").replace("\t", " ").split() if p]
        if ";" not in line and "\t" not in line and len(line.split()) < 3:
            parts = [p.strip() for p in line.split(",") if p.strip()]
        parts = [part.rstrip(",") for part in parts]
        if not parts:
            continue
        if number == 1 and not parts[0][:1].isdigit():
            continue
        try:
            minute, amps, volts = (
                parse_number(part, name)
                for part, name in zip(
                    parts[:3], ("Minutes", "Amps", "Volts"), strict=True
                )
            )
            in_range("Minutes", minute, low=0, high=120_000)
            in_range("Amps", amps, low=-2000, high=2000)
            in_range("Volts", volts, low=0, high=500)
        except (PowercoreError, ValueError) as error:
            raise ValueError(
                f"Line {number}: write minutes, amps and volts, like 15 5.02 13.1 "
                f"({error})."
            ) from error
        rows.append(Row(minute=minute, amps=amps, volts=volts))
        if len(rows) > 20_000:
            raise ValueError("More than 20,000 lines; keep one in ten.")
    return rows


class CheckOutForm(Dressed, forms.Form):
    """Where gear goes, with whom, until when."""

    tags = forms.CharField(
        label="What goes",
        max_length=2000,
        help_text="Tags, parted by blanks; a kit goes with all that is in it.",
    )
    station = forms.ModelChoiceField(
        Place.objects.none(),
        label="To a station",
        required=False,
        empty_label="no station",
    )
    to_kind = forms.ChoiceField(
        label="or to a",
        choices=[("person", "person"), ("vehicle", "vehicle")],
        required=False,
    )
    to_name = forms.CharField(label="called", max_length=80, required=False)
    due_at = WallTimeField(label="Back by", required=False)
    note = forms.CharField(label="Note", max_length=300, required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        station = self.fields["station"]
        if isinstance(station, forms.ModelChoiceField):
            station.queryset = Place.objects.filter(
                kind=PlaceKind.STATION, is_open=True
            )

    def clean_tags(self) -> list[Asset]:
        """Every tag must be on the shelf."""
        words = self.cleaned_data["tags"].replace(",", " ").split()
        known = {
            asset.tag.casefold(): asset
            for asset in Asset.objects.here().filter(archived_at=None)
        }
        unknown = [word for word in words if word.casefold() not in known]
        if unknown:
            raise ValidationError(f"Not on the shelf: {', '.join(unknown[:10])}.")
        return [known[word.casefold()] for word in words]

    def clean(self) -> dict[str, Any]:
        """One place to go to."""
        data = super().clean() or self.cleaned_data
        if not data.get("station") and not data.get("to_name"):
            self.add_error(
                "to_name", "Say to which station, person or vehicle it goes."
            )
        return data


class CheckInForm(Dressed, forms.Form):
    """How gear came back."""

    volts = NumberField(
        label="Rested volts",
        low=0,
        high=500,
        unit="V",
        required=False,
        help_text="Of a battery, unplugged for half an hour or more.",
    )
    damage = forms.CharField(
        label="Damage",
        max_length=200,
        required=False,
        help_text="What is broken goes on hold with a ticket.",
    )
    is_wet = forms.BooleanField(label="It is wet", required=False)
    missing = forms.CharField(
        label="Missing",
        max_length=300,
        required=False,
        help_text="Tags or names, parted by commas.",
    )
    note = forms.CharField(label="Note", max_length=300, required=False)


class HoldForm(Dressed, forms.Form):
    """Put on hold with a repair ticket."""

    because = forms.CharField(label="What is wrong", max_length=200)
    who = forms.CharField(label="Who sees to it", max_length=80, required=False)
    due_at = WallTimeField(label="Until", required=False)


class ReleaseForm(Dressed, forms.Form):
    """Release from hold."""

    how = forms.CharField(label="What was done", max_length=300)


class ChargedForm(Dressed, forms.Form):
    """How a charge ended."""

    volts = NumberField(label="Volts reached", low=0.5, high=500, unit="V")
    amps = NumberField(label="Current at the end", low=0, high=500, unit="A")
    amp_hours = NumberField(label="Put in", low=0, high=5000, unit="Ah", required=False)


class RestedForm(Dressed, forms.Form):
    """A rested reading at the shelf."""

    volts = NumberField(label="Volts", low=0, high=500, unit="V")
    unplugged_min = NumberField(label="Unplugged for", low=0, high=100_000, unit="min")
    amp_hours = NumberField(
        label="Counted out since full", low=-5000, high=5000, unit="Ah", required=False
    )


class CheckedForm(Dressed, forms.Form):
    """Somebody looked before it goes."""

    switches_off = forms.BooleanField(label="All its switches are off", required=False)
    load_off = forms.BooleanField(label="Nothing draws from it", required=False)


class LeadForm(Dressed, forms.Form):
    """From which port to which."""

    source = forms.ModelChoiceField(Port.objects.none(), label="From")
    load = forms.ModelChoiceField(Port.objects.none(), label="To")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        ports = Port.objects.filter(asset__archived_at=None).select_related("asset")
        for name, flows in (("source", ("out", "both")), ("load", ("in", "both"))):
            field = self.fields[name]
            if isinstance(field, forms.ModelChoiceField):
                field.queryset = ports.filter(flow__in=flows)


class ChargeByForm(Dressed, forms.Form):
    """Which batteries must be full when, and who watches until then."""

    departs = WallTimeField(label="Departure")
    tags = forms.CharField(
        label="Batteries",
        max_length=2000,
        required=False,
        help_text="Tags parted by blanks; empty means all that are not on hold.",
    )
    watches = forms.CharField(
        label="Somebody watches",
        max_length=2000,
        widget=long_text(3),
        help_text="One stretch a line: 2026-06-26 17:00 to 2026-06-26 22:00.",
    )
