"""
Problems kept in memory while nothing they rest on has changed.

One query takes a fingerprint of every row that an event's scenario is made from;
as long as it stays the same, the problem and its numbers are used again. Nothing
has to remember to invalidate anything.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from threading import Lock

from django.db import connection

from powercore.rotation.problem import Problem

from . import bridge
from .models import Event, Snapshot, Station

_KEPT = 16
_FINGERPRINT = """
WITH station AS (SELECT * FROM plan_station WHERE event_id = %(event)s),
     source AS (SELECT * FROM plan_source WHERE event_id = %(event)s),
     chosen AS (SELECT asset_id FROM plan_event_batteries WHERE event_id = %(event)s),
     part (line) AS (
  SELECT (e.uid, e.zone, e.starts_at, e.ends_at, e.lateness_min, e.name)::text
    FROM plan_event e WHERE e.uid = %(event)s
  UNION ALL SELECT s::text FROM plan_site s WHERE s.event_id = %(event)s
  UNION ALL SELECT w::text FROM plan_walk w JOIN plan_site s ON s.id = w.a_id
    WHERE s.event_id = %(event)s
  UNION ALL SELECT station::text FROM station
  UNION ALL SELECT q::text FROM plan_stationequipment q
    WHERE q.station_id IN (SELECT uid FROM station)
  UNION ALL SELECT h::text FROM plan_openhours h
    WHERE h.station_id IN (SELECT uid FROM station)
  UNION ALL SELECT p::text FROM plan_operatingpattern p
  UNION ALL SELECT t::text FROM shelf_equipmenttype t
  UNION ALL SELECT t::text FROM shelf_equipmentstep t
  UNION ALL SELECT source::text FROM source
  UNION ALL SELECT w::text FROM plan_sourcewindow w
    WHERE w.source_id IN (SELECT uid FROM source)
  UNION ALL SELECT b::text FROM plan_bay b WHERE b.event_id = %(event)s
  UNION ALL SELECT c::text FROM plan_crew c WHERE c.event_id = %(event)s
  UNION ALL SELECT a::text FROM shelf_asset a JOIN chosen ON a.uid = chosen.asset_id
  UNION ALL SELECT b::text FROM shelf_battery b
    JOIN chosen ON b.asset_id = chosen.asset_id
  UNION ALL SELECT m::text FROM shelf_estimate m
    JOIN chosen ON m.subject = chosen.asset_id
)
SELECT md5(string_agg(line, '\n' ORDER BY line)) FROM part
"""


@dataclass(frozen=True, slots=True)
class EventProblem:
    """An event's problem, the same on low power, and its stations for links."""

    problem: Problem
    low: Problem
    stations: tuple[Station, ...]


_events: OrderedDict[str, EventProblem] = OrderedDict()
_snapshots: OrderedDict[str, Problem] = OrderedDict()
_lock = Lock()


def fingerprint_of(event: Event) -> str:
    """A digest of every row the event's scenario is made from; one query."""
    with connection.cursor() as cursor:
        cursor.execute(_FINGERPRINT, {"event": event.pk})
        row = cursor.fetchone()
    return f"{event.pk}:{row[0] if row else ''}"


def problem_for(event: Event) -> EventProblem:
    """Return the event's problem as it stands now."""
    key = fingerprint_of(event)
    with _lock:
        found = _events.get(key)
    if found is None:
        found = EventProblem(
            problem=Problem(bridge.scenario_of(event)),
            low=Problem(bridge.scenario_of(event, is_low_power=True)),
            stations=tuple(event.stations.all()),
        )
        _keep(_events, key, found)
    return found


def problem_of_snapshot(snapshot: Snapshot) -> Problem:
    """Return the problem of a frozen scenario; a snapshot never changes."""
    with _lock:
        found = _snapshots.get(snapshot.sha256)
    if found is None:
        found = Problem(bridge.scenario_from(snapshot))
        _keep(_snapshots, snapshot.sha256, found)
    return found


def _keep(kept: OrderedDict, key: str, value: object) -> None:
    with _lock:
        kept[key] = value
        while len(kept) > _KEPT:
            kept.popitem(last=False)
