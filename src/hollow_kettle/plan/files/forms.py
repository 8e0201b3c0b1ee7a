"""What people send to have an event copied."""

from __future__ import annotations

from django import forms

from hollow_kettle.ui.forms import Dressed, WallTimeField


class CopyForm(Dressed, forms.Form):
    """Another date for the same event."""

    name = forms.CharField(label="Name", max_length=80)
    starts = WallTimeField(label="Starts, local time")
    with_people = forms.BooleanField(
        label="The same people have the same roles", required=False
    )
