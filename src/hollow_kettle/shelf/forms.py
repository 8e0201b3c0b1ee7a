"""What people send to the shelf, parsed and checked once."""

from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hollow_kettle.ui.forms import Dressed, NumberField

from . import services
from .models import CHEMISTRY_CHOICES


class BatteryForm(Dressed, forms.Form):
    """A battery: what is printed on it, whose it is, what it promises."""

    tag = forms.CharField(
        label="Tag",
        max_length=16,
        help_text="Begin with a letter, so that it isn't heard as hours: K11.",
    )
    chemistry = forms.ChoiceField(label="Chemistry", choices=CHEMISTRY_CHOICES)
    series = NumberField(
        label="Cells in series",
        low=1,
        high=120,
        is_whole=True,
        required=False,
        why="a pack has cells",
        help_text="4 for the usual 12.8 V LiFePO4, 6 for 12 V lead-acid.",
    )
    nominal_v = NumberField(
        label="Nominal voltage",
        low=1.2,
        high=500,
        unit="V",
        required=False,
        why="a pack has at least one cell",
        help_text="Checked against the cells, or used to find them.",
    )
    parallel = NumberField(
        label="Cells in parallel", low=1, high=200, is_whole=True, required=False
    )
    nameplate_ah = NumberField(
        label="Nameplate capacity", low=0.05, high=5000, unit="Ah"
    )
    reserve_pct = NumberField(
        label="Reserve",
        low=0,
        high=95,
        unit="%",
        required=False,
        help_text="Empty means the chemistry's usual: 20 % lithium, 50 % lead-acid.",
    )
    owner = forms.CharField(label="Owner", max_length=80, required=False)
    home = forms.CharField(label="Home", max_length=80, required=False)
    hold = forms.CharField(
        label="Hold, because",
        max_length=200,
        required=False,
        help_text="A battery on hold is never planned.",
    )
    mass_kg = NumberField(label="Mass", low=0.01, high=500, unit="kg", required=False)
    resistance_mohm = NumberField(
        label="Resistance",
        low=0.01,
        high=10_000,
        unit="mΩ",
        required=False,
        help_text="Measured with its leads; empty means typical.",
    )
    max_charge_a = NumberField(
        label="Highest charging current", low=0.01, high=1000, unit="A", required=False
    )
    max_discharge_a = NumberField(
        label="Highest current out", low=0.01, high=2000, unit="A", required=False
    )
    note = forms.CharField(
        label="Note",
        max_length=2000,
        required=False,
        widget=forms.Textarea(attrs={"rows": 3}),
    )

    def clean(self) -> dict[str, Any]:
        """Find the cells from the voltage, or check one against the other."""
        data = super().clean() or self.cleaned_data
        chemistry, series = data.get("chemistry"), data.get("series")
        nominal_v = data.pop("nominal_v", None)
        if not chemistry or {"series", "nominal_v"} & set(self.errors):
            return data
        try:
            if series is None and nominal_v is None:
                raise ValidationError(
                    "Give the cells in series, or the nominal voltage.", code="required"
                )
            if series is None:
                data["series"] = services.series_from_nominal(chemistry, nominal_v)
            elif nominal_v is not None:
                services.check_nominal(chemistry, series, nominal_v)
        except ValidationError as error:
            self.add_error("series" if nominal_v is None else "nominal_v", error)
        data["parallel"] = data.get("parallel") or 1
        return data


class CapacityForm(Dressed, forms.Form):
    """The result of a capacity test."""

    tested_ah = NumberField(label="Capacity found", low=0.01, high=5000, unit="Ah")
    origin = forms.ChoiceField(
        label="How",
        choices=[
            (word, word)
            for word in (
                "amp-hour meter, full to disconnect",
                "timed current, full to disconnect",
                "run-down under a real load",
                "stated by its owner",
            )
        ],
    )
    evidence = forms.CharField(label="What was seen", max_length=300, required=False)
