"""Fields that the Shelf's forms are made of."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hollow_kettle.shelf.fields import tidy_list
from hollow_kettle.shelf.kinds import CONNECTOR_CHOICES
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import check_year

CONNECTORS = [("", "choose…"), *CONNECTOR_CHOICES]
GENDERS = [("", "–"), ("plug", "plug"), ("socket", "socket")]


class ListField(forms.CharField):
    """A list separated by commas, kept tidy."""

    def __init__(self, *, how: str, **kwargs: Any) -> None:
        self.how = how
        super().__init__(**kwargs)

    def clean(self, value: Any) -> str:
        """Return the list as it is kept."""
        try:
            return tidy_list(self.how, super().clean(value) or "")
        except ValueError as error:
            raise ValidationError(f"{error}.", code="list") from error


class DayField(forms.DateField):
    """A date as people type it: 2026-04-11."""

    default_error_messages = {"invalid": "Write the date like 2026-04-11."}

    def __init__(self, **kwargs: Any) -> None:
        kwargs.setdefault(
            "widget",
            forms.DateInput(
                attrs={"placeholder": "2026-04-11", "autocomplete": "off"},
                format="%Y-%m-%d",
            ),
        )
        kwargs.setdefault("input_formats", ["%Y-%m-%d"])
        super().__init__(**kwargs)

    def to_python(self, value: Any) -> Any:
        """Return a date within a club's years."""
        day = super().to_python(value)
        if day is not None:
            check_year(day.year)
        return day


class AssetChoice(forms.ModelChoiceField):
    """An asset of some kinds, by tag and name."""

    def __init__(self, *kinds: str, **kwargs: Any) -> None:
        found = Asset.objects.here()
        super().__init__(found.filter(kind__in=kinds) if kinds else found, **kwargs)

    def label_from_instance(self, obj: Any) -> str:
        """K07 long name."""
        return f"{obj.tag} {obj.name}".strip()


def long_text(rows: int = 3) -> forms.Textarea:
    """A box for several lines."""
    return forms.Textarea(attrs={"rows": rows})
