"""The report of an event as text, and as an open Data Package of its tables."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

from django.template.loader import render_to_string

from hollow_kettle.clock import told
from hollow_kettle.exchange.packages import as_package
from hollow_kettle.exchange.tables import write_csv
from hollow_kettle.people.models import Club

from .page import Paper

#: A column of a table: its name, its type as the Data Package form has it, its words.
Column = tuple[str, str, str]


def as_markdown(paper: Paper) -> str:
    """The report as Markdown, for a wiki or a letter."""
    text = render_to_string(
        "debrief/paper/report.md", {"paper": paper, "club": Club.the()}
    )
    lines = [line.strip() for line in text.splitlines()]
    kept: list[str] = []
    for line in lines:
        is_blank = not line
        is_row = line.startswith(("|", "- "))
        if is_blank and (not kept or not kept[-1]):
            continue
        if is_row and len(kept) > 1 and not kept[-1] and kept[-2][:1] == line[:1]:
            kept.pop()
        kept.append(line)
    return "\n".join(kept).strip() + "\n"


def tables_of(paper: Paper) -> bytes:
    """
    The report's tables as a zip of CSVs with a `datapackage.json`.

    The descriptor follows the open Data Package form; moments are in UTC.
    """
    return as_package(
        "debrief",
        f"Debrief of {paper.event.name}",
        (
            (
                write_csv([key for key, *_ in columns], rows),
                {
                    "name": name,
                    "path": f"{name}.csv",
                    "profile": "tabular-data-resource",
                    "schema": {
                        "fields": [
                            {"name": key, "type": kind, "title": words}
                            for key, kind, words in columns
                        ]
                    },
                },
            )
            for name, (columns, rows) in _tables(paper).items()
        ),
    )


def _tables(
    paper: Paper,
) -> dict[str, tuple[Sequence[Column], Iterable[dict[str, Any]]]]:
    return {
        "hours": (
            (
                ("station", "string", "Station"),
                ("asked_h", "number", "On the air, asked [h]"),
                ("given_h", "number", "On the air, given [h]"),
            ),
            (
                {
                    "station": one.name,
                    "asked_h": round(one.asked_h, 2),
                    "given_h": round(one.given_h, 2),
                }
                for one in paper.hours
            ),
        ),
        "shortfalls": (
            (
                ("station", "string", "Station"),
                ("how", "string", "How, no surer than it is"),
                ("from", "datetime", "From, UTC"),
                ("to", "datetime", "To, UTC"),
                ("minutes", "number", "Minutes in open hours"),
                ("energy_wh", "number", "Not had of what was planned [Wh]"),
                ("why", "string", "Cause as noted"),
                ("people", "integer", "People affected"),
                ("done", "string", "What was done"),
                ("evidence", "string", "What it rests on"),
            ),
            (
                {
                    "station": one.station.name,
                    "how": one.words,
                    "from": _utc(one.start),
                    "to": _utc(one.end),
                    "minutes": round(one.measured.minutes, 1),
                    "energy_wh": None
                    if one.measured.energy_wh is None
                    else round(one.measured.energy_wh, 1),
                    "why": one.why_words,
                    "people": one.row.people if one.row else None,
                    "done": one.row.done if one.row else "",
                    "evidence": one.evidence,
                }
                for one in paper.report.falls.every
            ),
        ),
        "causes": (
            (
                ("station", "string", "Station, or all"),
                ("cause", "string", "Cause"),
                ("minutes", "integer", "Share of minutes off the air"),
                ("energy_wh", "integer", "Share of energy not had [Wh]"),
                ("words", "string", "What it was"),
            ),
            (
                {
                    "station": ledger.name,
                    "cause": row.name,
                    "minutes": row.minutes,
                    "energy_wh": row.energy_wh,
                    "words": row.words,
                }
                for ledger in paper.causes.ledgers
                for row in ledger.rows
            ),
        ),
        "actions": (
            (
                ("action", "string", "What is to be done"),
                ("owner", "string", "Who"),
                ("until", "date", "Until"),
                ("state", "string", "State"),
                ("outcome", "string", "What was done"),
            ),
            (
                {
                    "action": one.words,
                    "owner": str(one.owner or ""),
                    "until": f"{one.due_on:%Y-%m-%d}",
                    "state": one.get_state_display(),
                    "outcome": one.outcome,
                }
                for one in paper.actions
            ),
        ),
        "power_log": (
            (
                ("at", "datetime", "When, UTC"),
                ("local", "string", "When, local"),
                ("what", "string", "What"),
                ("by", "string", "By"),
                ("note", "string", "Note"),
            ),
            (
                {
                    "at": _utc(one.effective_at),
                    "local": told(one.effective_at, paper.event.zone, "%m-%d %H:%M"),
                    "what": words,
                    "by": one.actor.name,
                    "note": one.note,
                }
                for one, words in paper.entries
            ),
        ),
    }


def _utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"
