"""What people send about bench tests."""

from __future__ import annotations

import json
from typing import Any

from django import forms

from hollow_kettle.shelf.assets.form_fields import AssetChoice, long_text
from hollow_kettle.shelf.models import Asset, BenchTest
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.forms import Dressed, NumberField
from powercore.errors import PowercoreError
from powercore.gear.capacity import Row
from powercore.limits import Limit
from powercore.values import in_range, parse_number


class BenchForm(Dressed, forms.Form):
    """One bench test; which fields count depends on what it is."""

    what = forms.ChoiceField(label="Test", choices=BenchTest.What.choices)
    meter = AssetChoice(
        AssetKind.METER,
        label="Meter",
        required=False,
        empty_label="no meter from the shelf",
        help_text="Its zero and gain are corrected for.",
    )
    charger = AssetChoice(AssetKind.CHARGER, label="Charger", required=False)
    shown_ah = NumberField(
        label="The meter counted", limit=Limit(-5000, 5000, "Ah"), required=False
    )
    hours = NumberField(label="Duration", limit=Limit(0.01, 2000, "h"), required=False)
    amps = NumberField(label="Current", limit=Limit(-2000, 2000, "A"), required=False)
    start_v = NumberField(
        label="Volts before", limit=Limit(0, 500, "V"), required=False
    )
    end_v = NumberField(
        label="Volts at the end", limit=Limit(0, 500, "V"), required=False
    )
    end_a = NumberField(
        label="Current at the end", limit=Limit(-2000, 2000, "A"), required=False
    )
    temp_c = NumberField(
        label="Its temperature", limit=Limit(-30, 60, "°C"), required=False
    )
    was_full = forms.BooleanField(
        label="It was full (absorption reached, current at the tail)", required=False
    )
    was_emptied = forms.BooleanField(
        label="It was empty (run to its disconnect)", required=False
    )
    is_off = forms.BooleanField(label="The charger stopped by itself", required=False)
    rows = forms.CharField(
        label="Readings",
        required=False,
        max_length=200_000,
        widget=long_text(5),
        help_text="One per line: minutes, amps, volts. Or the meter's CSV below.",
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
            raise ValueError("More than 20,000 lines; send every tenth.")
    return rows
