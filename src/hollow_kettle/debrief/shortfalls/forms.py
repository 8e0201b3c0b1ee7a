"""Forms of shortfalls: one as it was, one cut in two."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.clock import from_local, local
from hollow_kettle.debrief.models import Shortfall
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.ui.forms import Dressed, NumberField, WallTimeField
from powercore.limits import PEOPLE_AFFECTED


class ShortfallForm(Dressed, forms.Form):
    """A stretch in which power ran short, as somebody says it was."""

    station = forms.ModelChoiceField(Station.objects.none(), label="Station")
    what = forms.ChoiceField(label="How", choices=Shortfall.What.choices)
    starts = WallTimeField(label="From")
    ends = WallTimeField(label="To")
    why = forms.ChoiceField(label="Why", choices=Shortfall.WHY, required=False)
    people = NumberField(
        label="People affected",
        limit=PEOPLE_AFFECTED,
        is_whole=True,
        required=False,
        help_text="Operators and whom they served; empty where nobody knows.",
    )
    done = forms.CharField(label="What was done", max_length=300, required=False)
    note = forms.CharField(label="What was seen", max_length=500, required=False)

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.event = event
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        """Turn wall times into moments inside the event."""
        said = super().clean() or {}
        starts, ends = said.get("starts"), said.get("ends")
        if starts is None or ends is None:
            return said
        start = said["starts"] = from_local(starts, self.event.zone)
        end = said["ends"] = from_local(ends, self.event.zone)
        within(self, "starts", start, self.event)
        within(self, "ends", end, self.event)
        if end <= start:
            self.add_error(
                "ends",
                forms.ValidationError(
                    "To must be after From.", code="ends_before_start"
                ),
            )
        return said


class PhotoForm(Dressed, forms.Form):
    """A photo that shows what it was."""

    ids = "id_photo_%s"
    file = forms.FileField(label="Photo", help_text="JPEG, PNG or WebP, to 12 MB.")
    words = forms.CharField(label="What it shows", max_length=200, required=False)


class SplitForm(Dressed, forms.Form):
    """Where one stretch becomes two."""

    ids = "id_split_%s"
    at = WallTimeField(label="Cut in two at")

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.event = event

    def clean_at(self) -> Any:
        """The wall time as a moment."""
        return from_local(self.cleaned_data["at"], self.event.zone)


def within(form: forms.Form, name: str, moment: Any, event: Event) -> None:
    """Refuse a moment outside the event, naming its hours."""
    if not event.starts_at <= moment <= event.ends_at:
        form.add_error(
            name,
            forms.ValidationError(
                f"{form.fields[name].label} must lie in the event, %(start)s to "
                "%(end)s.",
                code="outside",
                params={
                    "start": _local(event.starts_at, event),
                    "end": _local(event.ends_at, event),
                },
            ),
        )


def _local(moment: Any, event: Event) -> str:
    return f"{local(moment, event.zone):%Y-%m-%d %H:%M}"
