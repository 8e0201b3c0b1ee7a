"""What people send about who has what, holds, charges and readings."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.limits import Limit


class CheckOutForm(Dressed, forms.Form):
    """Where gear goes, with whom, until when."""

    tags = forms.CharField(
        label="What goes",
        max_length=2000,
        help_text="Tags, separated by spaces; a kit goes with all that is in it.",
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
                "to_name", "Say which station, person or vehicle it goes to."
            )
        return data


class CheckInForm(Dressed, forms.Form):
    """How gear came back."""

    volts = NumberField(
        label="Rested volts",
        limit=Limit(0, 500, "V"),
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
        help_text="Tags or names, separated by commas.",
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

    volts = NumberField(label="Volts reached", limit=Limit(0.5, 500, "V"))
    amps = NumberField(label="Current at the end", limit=Limit(0, 500, "A"))
    amp_hours = NumberField(label="Put in", limit=Limit(0, 5000, "Ah"), required=False)


class RestedForm(Dressed, forms.Form):
    """A rested reading at the shelf."""

    volts = NumberField(label="Volts", limit=Limit(0, 500, "V"))
    unplugged_min = NumberField(label="Unplugged for", limit=Limit(0, 100_000, "min"))
    amp_hours = NumberField(
        label="Counted out since full", limit=Limit(-5000, 5000, "Ah"), required=False
    )


class CheckedForm(Dressed, forms.Form):
    """Somebody looked before it goes."""

    switches_off = forms.BooleanField(label="All its switches are off", required=False)
    load_off = forms.BooleanField(label="Nothing draws from it", required=False)
