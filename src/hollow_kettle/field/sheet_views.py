"""Log sheets: printed blank, and typed in again in the sheet's own row order."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID, uuid4, uuid5

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from hollow_kettle.log.models import PlaceKind
from hollow_kettle.log.services import placed_at
from hollow_kettle.people.access import Access, access_of
from hollow_kettle.plan.access import event_or_404, event_to_log
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.prints.paper import printed
from hollow_kettle.shelf.prints.views import pdf
from hollow_kettle.ui.asked import whole_number

from .follow import follow
from .forms import EntryForm, ReadingForm
from .line import errors_of
from .noting import Sending, note_and_hold

#: Times that each station is asked on one sheet.
MOST_ROUNDS, ROUNDS = 8, 4
#: What a row has to fill in, in the order of the sheet; what it is called, its unit.
COLUMNS = (
    ("taken", "Time", ""),
    ("tag", "Battery", ""),
    ("volts", "Volts", "V"),
    ("amps", "Amps", "A"),
    ("amp_hours", "Counter", "Ah"),
    ("gauge_pct", "Gauge", "%"),
    ("text", "Remark", ""),
)


@dataclass(slots=True)
class Row:
    """A line of the sheet: its number and station, what was typed, what came of it."""

    number: int
    station: Station
    typed: dict[str, str]
    asks: str = ""
    is_odd: bool = False
    saved: str = ""

    @property
    def cells(self) -> list[tuple[str, str, str]]:
        """What its inputs are called, aloud and by us, and what stands there."""
        return [
            (f"{label}, row {self.number}", f"r{self.number}-{name}", self.typed[name])
            for name, label, _ in COLUMNS
        ]

    @property
    def is_filled(self) -> bool:
        """Whether anything but a time or a tag was typed."""
        return any(
            self.typed[name] for name, *_ in COLUMNS if name not in ("taken", "tag")
        )


@require_safe
def log_sheet(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Print a blank sheet: every station in turn, as often as asked."""
    event = event_or_404(request, uid)
    context = {
        "event": event,
        "rows": _rows(request, event, access_of(request)),
        "columns": COLUMNS,
    }
    size = "letter" if request.GET.get("size") == "letter" else "a4"
    return pdf(printed("field/paper/log_sheet.html", context, size), "log-sheet")


@require_http_methods(["GET", "POST"])
def sheet_entry(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Type a filled sheet in; what is wrong stays, with its reason."""
    event = event_to_log(request, uid)
    access = access_of(request)
    rows = _rows(request, event, access)
    try:
        key = UUID(request.POST.get("key", ""))
    except ValueError:
        key = uuid4()
    if request.method == "POST":
        filled = [row for row in rows if row.is_filled]
        with transaction.atomic():
            for row in filled:
                _note(event, access, row, key, request.POST)
        follow(event)
        count = sum(bool(row.saved) for row in filled)
        if filled and count == len(filled):
            messages.success(request, f"{count} readings of the sheet are saved.")
            return redirect("field:log_list", event.pk)
        if not filled:
            messages.warning(request, "No row has a reading; nothing was saved.")
    context = {
        "event": event,
        "rows": rows,
        "columns": COLUMNS,
        "key": key,
        "rounds": _rounds(request),
        "tags": event.batteries.order_by("tag"),
    }
    wrong = any(row.asks for row in rows)
    return render(request, "field/sheet.html", context, status=422 if wrong else 200)


def _rounds(request: HttpRequest) -> int:
    """How often each station is asked on the sheet."""
    sent = request.POST if request.method == "POST" else request.GET
    return min(whole_number(sent.get("rounds")) or ROUNDS, MOST_ROUNDS)


def _rows(request: HttpRequest, event: Event, access: Access) -> list[Row]:
    own = access.own_stations(event.pk)
    stations = [s for s in event.stations.order_by("name") if not own or s.pk in own]
    rows: list[Row] = []
    for _ in range(_rounds(request)):
        for station in stations:
            number = len(rows) + 1
            typed = {
                name: request.POST.get(f"r{number}-{name}", "").strip()
                for name, *_ in COLUMNS
            }
            rows.append(Row(number, station, typed))
    return rows


def _note(event: Event, access: Access, row: Row, key: UUID, sent: QueryDict) -> None:
    """Note one row; without a tag it is of what was at the station then."""
    is_known = True
    uid = str(uuid5(key, str(row.number)))
    data = {**row.typed, "how": "receiving", "uid": uid}
    if sent.get(f"r{row.number}-sure"):
        data["sure"] = "on"
    if not data["tag"]:
        when = EntryForm({"uid": uid, "taken": data["taken"]}, event=event)
        if when.is_valid() or when.cleaned_data.get("taken"):
            data["tag"] = _tag_at(row.station, when.cleaned_data["taken"])
            is_known = data["tag"] != ""
    form = ReadingForm(data, event=event)
    if not form.is_valid():
        row.asks, row.is_odd = errors_of(form), form.has_asked
        if not is_known:
            row.asks = f"No battery is logged at {row.station} then: say which it was."
        return
    sending = Sending(raw={"sheet row": row.number}, is_last=False)
    try:
        receipt, _ = note_and_hold(access, event, "reading", form, sending)
    except PermissionDenied:
        row.asks = "You don't log for that battery's station."
        return
    if receipt is None:
        row.asks = "Nothing was read."
    elif receipt.standing != "kept":
        row.saved = f"kept aside: {receipt.why}"
    else:
        row.saved = "saved"


def _tag_at(station: Station, at: datetime) -> str:
    """The tag of what served at a station then; empty where nothing is logged."""
    there = placed_at(at).filter(
        place__kind=PlaceKind.POSITION, place__station_key=station.pk
    )
    found = (
        Asset.objects.filter(pk__in=there.values("battery"))
        .values_list("tag", flat=True)
        .first()
    )
    return found or ""
