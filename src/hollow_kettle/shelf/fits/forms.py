"""What people ask: which lead joins what, and when to start charging."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.shelf.assets.form_fields import long_text
from hollow_kettle.shelf.models import Port
from hollow_kettle.ui.forms import Dressed, WallTimeField


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
        help_text="Tags separated by spaces; empty means all that are not on hold.",
    )
    watches = forms.CharField(
        label="Somebody watches",
        max_length=2000,
        widget=long_text(3),
        help_text="One time span per line: 2026-06-26 17:00 to 2026-06-26 22:00.",
    )
