"""What people note of the state of things: faults, the sky, what panels give."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.plan.models import Event, Source, Station
from hollow_kettle.ui.forms import Dressed, NumberField
from powercore.gear.faults import CAUSES, SYMPTOMS
from powercore.limits import MEASURED_A, READ_V, TILT

from .forms import EntryForm, TagField

#: Skies as people say them, in eighths of cloud. Common practice, no source.
SKIES = {
    "clear": (0.0, "clear"),
    "few": (2.0, "a few clouds"),
    "half": (4.0, "half cloud"),
    "most": (6.0, "mostly cloud"),
    "overcast": (8.0, "overcast"),
}


def sky_words(oktas: float) -> str:
    """The words nearest to a share of cloud."""
    return min(SKIES.values(), key=lambda one: abs(one[0] - oktas))[1]


class FaultForm(EntryForm):
    """Something that is wrong, and what it was where that is known already."""

    symptom = forms.ChoiceField(
        label="What is wrong",
        choices=[("", "choose…"), *((key, one.name) for key, one in SYMPTOMS.items())],
    )
    station = forms.ModelChoiceField(
        Station.objects.none(),
        label="At",
        required=False,
        empty_label="the yard, or nowhere named",
    )
    tag = TagField(label="Battery, where it is one", required=False)
    text = forms.CharField(
        label="What was seen",
        max_length=500,
        help_text="What, on which thing, doing what.",
    )
    cause = forms.ChoiceField(
        label="Cause, if known",
        required=False,
        choices=[("", "not yet"), *((key, one.name) for key, one in CAUSES.items())],
    )
    fix = forms.CharField(label="What was done", max_length=300, required=False)

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self.fields["station"].queryset = event.stations.all()  # type: ignore[attr-defined]

    def order_fields(self, field_order: Any) -> None:
        """What it was, where that is known already, comes after what was seen."""
        super().order_fields(field_order)
        last = ("cause", "fix", "taken", "sure")
        names = [*(n for n in self.fields if n not in last), *last]
        self.fields = {name: self.fields[name] for name in names if name in self.fields}

    def clean(self) -> dict[str, Any]:
        """A battery that nobody knows is asked about."""
        data = super().clean() or self.cleaned_data
        if data.get("tag") and self.battery("tag") is None:
            self.ask("tag", f"There is no battery {data['tag']}.")
        return data


class FixForm(Dressed, forms.Form):
    """What a fault was, and what was done about it."""

    cause = forms.ChoiceField(
        label="Cause",
        choices=[("", "choose…"), *((key, one.name) for key, one in CAUSES.items())],
    )
    fix = forms.CharField(label="What was done", max_length=300)


class PanelForm(EntryForm):
    """The sky, and what panels give under it."""

    sky = forms.ChoiceField(
        label="Sky",
        required=False,
        choices=[("", "not looked"), *((key, one[1]) for key, one in SKIES.items())],
        help_text="Counts for all panels until the next look, at most two hours.",
    )
    panels = forms.ChoiceField(label="Panels", required=False)
    amps = NumberField(label="Amps into the battery", limit=MEASURED_A, required=False)
    volts = NumberField(label="Volts there", limit=READ_V, required=False)
    tilt = NumberField(label="Tilted", limit=TILT, required=False)

    def __init__(self, *args: Any, event: Event, **kwargs: Any) -> None:
        super().__init__(*args, event=event, **kwargs)
        self._owners: dict[str, Station | Source] = {}
        for array in event.arrays.select_related("station", "source"):
            owner = array.station or array.source
            if owner is not None:
                self._owners[str(owner.pk)] = owner
        named = [(key, f"of {owner.name}") for key, owner in self._owners.items()]
        self.fields["panels"].choices = [("", "none"), *named]  # type: ignore[attr-defined]

    @property
    def owner(self) -> Station | Source | None:
        """Whose panels were read."""
        return self._owners.get(self.cleaned_data.get("panels") or "")

    @property
    def oktas(self) -> float | None:
        """Cloud as it was seen. [eighths]"""
        said = self.cleaned_data.get("sky") or ""
        return SKIES[said][0] if said in SKIES else None

    def clean(self) -> dict[str, Any]:
        """A sky, or what some panels give."""
        data = super().clean() or self.cleaned_data
        amps = data.get("amps")
        if amps is None and not data.get("sky") and "amps" not in self.errors:
            self.add_error("sky", "Say how the sky is, or what some panels give.")
        if amps is not None and not data.get("panels"):
            self.add_error("panels", "Whose panels give that?")
        if amps is None and (data.get("panels") or data.get("volts") is not None):
            self.add_error("amps", "How many amps do they give?")
        return data
