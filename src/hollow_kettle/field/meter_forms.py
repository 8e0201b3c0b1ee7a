"""A meter of an event, as somebody tells of it."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django import forms

from hollow_kettle.instruments.models import DeviceKind
from hollow_kettle.plan.models import Event
from hollow_kettle.ui.forms import Dressed, NumberField
from powercore.limits import METER_GAIN, READ_A, READ_V


class DeviceForm(Dressed, forms.Form):
    """A meter: what it is, what it is on, what its amps and volts need corrected."""

    name = forms.CharField(label="Name", max_length=40)
    kind = forms.ChoiceField(label="Kind", choices=DeviceKind)
    subject = forms.ChoiceField(label="On")
    zero_a = NumberField(label="Zero of amps", limit=READ_A, initial=0)
    gain_a = NumberField(label="Factor of amps", limit=METER_GAIN, initial=1)
    zero_v = NumberField(label="Zero of volts", limit=READ_V, initial=0)

    #: What each kind may be on.
    _ON = {
        DeviceKind.SHUNT: ("batteries", "stations"),
        DeviceKind.CONTROLLER: ("bays",),
        DeviceKind.GENERATOR: ("sources",),
    }

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.event = event
        named = (
            ("batteries", "tag"), ("stations", "name"),
            ("bays", "name"), ("sources", "name"),
        )  # fmt: skip
        self._rows = {
            rows: {
                str(key): name
                for key, name in getattr(event, rows).values_list("pk", field)
            }
            for rows, field in named
        }
        self.fields["subject"].choices = [  # type: ignore[attr-defined]
            (rows.capitalize(), list(found.items()))
            for rows, found in self._rows.items()
            if found
        ]

    def clean_name(self) -> str:
        """No two meters of an event have one name."""
        name = str(self.cleaned_data["name"]).strip()
        if self.event.devices.filter(name=name).exists():
            raise forms.ValidationError(f"There is a meter {name} already.")
        return name

    def clean(self) -> dict[str, Any]:
        """A panel is on a source, a controller on a bay, a shunt where current is."""
        data = super().clean() or self.cleaned_data
        kind, subject = data.get("kind"), data.get("subject")
        if kind and subject:
            able = self._ON[DeviceKind(kind)]
            if not any(subject in self._rows[rows] for rows in able):
                label = DeviceKind(kind).label
                self.add_error(
                    "subject", f"A {label} is on one of the {' or '.join(able)}."
                )
            data["subject"] = UUID(subject)
        return data
