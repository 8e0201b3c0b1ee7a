"""Which form notes what, and what an entry's form would have shown."""

from __future__ import annotations

from typing import Any

from hollow_kettle.clock import local
from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Asset

from .condition_forms import FaultForm, PanelForm
from .forms import (
    EntryForm,
    MoveForm,
    NoteForm,
    ReadingForm,
    SourceForm,
    StationForm,
    SwapForm,
)

FORMS: dict[str, tuple[str, type[EntryForm]]] = {
    "reading": ("Reading", ReadingForm),
    "swap": ("Swap", SwapForm),
    "move": ("Move", MoveForm),
    "station": ("Station", StationForm),
    "source": ("Source", SourceForm),
    "panel": ("Sun", PanelForm),
    "fault": ("Fault", FaultForm),
    "note": ("Note", NoteForm),
}


#: Which form says what, by the kind of entry that it makes.
WHAT_OF: dict[str, str] = {
    Kind.READING: "reading",
    Kind.SWAP: "swap",
    Kind.MOVE: "move",
    Kind.SOURCE: "source",
    Kind.PANEL: "panel",
    Kind.FAULT: "fault",
    Kind.NOTE: "note",
    Kind.OFF_AIR: "station",
    Kind.BACK: "station",
    Kind.POWER_STEP: "station",
    Kind.SHED: "station",
    Kind.RESTORED: "station",
}


def initial_of(entry: FieldEntry, event: Event) -> dict[str, Any]:
    """What the form of an entry would have shown: as it was typed, else as it is."""
    tags = dict(
        Asset.objects.filter(
            pk__in=[uid for uid in (entry.battery, entry.battery_out) if uid]
        ).values_list("pk", "tag")
    )
    what = entry.step if entry.kind == Kind.POWER_STEP else entry.kind
    known = {
        "tag": tags.get(entry.battery, "") if entry.battery else "",
        "tag_out": tags.get(entry.battery_out, "") if entry.battery_out else "",
        "station": entry.station_key,
        "source": entry.source_key,
        "state": "on" if entry.is_on else "off",
        "to": entry.place_id,
        "way": entry.kind == Kind.MOVE and entry.place_id is None,
        "place_out": entry.place_out_id,
        "what": what,
        "text": entry.note,
        "how": entry.how or "receiving",
    }
    read = (
        "volts", "amps", "unplugged_min", "amp_hours", "ah_in", "gauge_pct", "tilt",
        "symptom", "cause", "fix",
    )  # fmt: skip
    known |= {name: getattr(entry, name) for name in read}
    typed = {
        name: value
        for name, value in entry.raw.items()
        if name not in ("uid", "sure", "taken")
    }
    at = local(entry.effective_at, event.zone)
    return known | typed | {"taken": f"{at:%Y-%m-%d %H:%M}"}
