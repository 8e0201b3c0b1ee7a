"""What people say of a kind of equipment."""

from __future__ import annotations

from typing import Any

from django import forms

from hollow_kettle.shelf.models import EquipmentStep, EquipmentType
from hollow_kettle.ui.forms import Dressed, NumberField
from powercore.limits import DEVICE_V, DRAW_A
from powercore.values import STATED_V

from .loads import Currents

#: How a current was found, and which one is meant.
BASES = [
    ("measured", "measured by us"),
    ("label", "from its label or manual"),
    ("guessed", "guessed"),
]


class LoadForm(Dressed, forms.Form):
    """A kind of equipment with its currents at full and at low power."""

    name = forms.CharField(label="Name", max_length=80)
    basis = forms.ChoiceField(label="These currents are", choices=BASES)
    remark = forms.CharField(
        label="How and when",
        max_length=90,
        required=False,
        help_text="Which meter, on which day, by whom.",
    )
    at_v = NumberField(
        label="Found at",
        limit=DEVICE_V,
        initial=f"{STATED_V:g}",
        help_text="Volts at its input while you read the amps.",
    )
    receive_a = NumberField(
        label="Receives, or runs, at",
        limit=DRAW_A,
        help_text="Its mean while nothing is sent; not what its label says at most.",
    )
    transmit_idle_a = NumberField(
        label="Transmits idle at",
        limit=DRAW_A,
        required=False,
        help_text="Keyed, between syllables.",
    )
    key_down_a = NumberField(
        label="Key down",
        limit=DRAW_A,
        required=False,
        help_text="Its peak at full power; empty when it doesn't transmit.",
    )
    low_key_down_a = NumberField(
        label="Key down at low power", limit=DRAW_A, required=False
    )
    low_transmit_idle_a = NumberField(
        label="Transmits idle at low power", limit=DRAW_A, required=False
    )
    low_words = forms.CharField(
        label="Low power is called",
        max_length=40,
        required=False,
        help_text="Like 25 W, or screen dimmed.",
    )
    low_receive_a = NumberField(
        label="Runs at, on low power",
        limit=DRAW_A,
        required=False,
        help_text="For what doesn't transmit, or receives on less.",
    )
    standby_a = NumberField(label="Standby", limit=DRAW_A, required=False)
    min_v = NumberField(label="Works from", limit=DEVICE_V, initial="11.5")
    max_v = NumberField(label="Works up to", limit=DEVICE_V, initial="15.8")

    @classmethod
    def initial_of(cls, kind: EquipmentType) -> dict[str, Any]:
        """What the form of a kind shows."""
        steps = {step.step: step for step in kind.steps.all()}
        full, low = steps[EquipmentStep.FULL], steps.get(EquipmentStep.LOW)
        basis, _, remark = kind.origin.partition(": ")
        known = {words: key for key, words in BASES}
        found: dict[str, Any] = {
            "name": kind.name,
            "basis": known.get(basis, "guessed"),
            "remark": remark if basis in known else kind.origin,
            "min_v": kind.min_v,
            "max_v": kind.max_v,
            "at_v": STATED_V,
            "standby_a": full.standby_a,
            "receive_a": full.receive_a,
            "transmit_idle_a": full.transmit_idle_a,
            "key_down_a": full.key_down_a,
        }
        if low is not None:
            found |= {
                "low_receive_a": low.receive_a,
                "low_transmit_idle_a": low.transmit_idle_a,
                "low_key_down_a": low.key_down_a,
                "low_words": low.words,
            }
        return found

    def values(self) -> dict[str, Any]:
        """What the service takes."""
        data = self.cleaned_data
        basis = dict(BASES)[data["basis"]]
        low = None
        lows = ("low_receive_a", "low_transmit_idle_a", "low_key_down_a")
        if any(data[name] is not None for name in lows):
            receive = data["low_receive_a"]
            low = Currents(
                standby_a=data["standby_a"] or 0.0,
                receive_a=data["receive_a"] if receive is None else receive,
                transmit_idle_a=data["low_transmit_idle_a"],
                key_down_a=data["low_key_down_a"],
            )
        return {
            "name": data["name"],
            "origin": f"{basis}: {data['remark']}" if data["remark"] else basis,
            "min_v": data["min_v"],
            "max_v": data["max_v"],
            "at_v": data["at_v"],
            "low_words": data["low_words"],
            "low": low,
            "full": Currents(
                standby_a=data["standby_a"] or 0.0,
                receive_a=data["receive_a"],
                transmit_idle_a=data["transmit_idle_a"],
                key_down_a=data["key_down_a"],
            ),
        }
