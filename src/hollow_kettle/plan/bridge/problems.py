"""
Problems kept in memory while nothing they rest on has changed.

One query takes a fingerprint of every row that an event's scenario is made from;
as long as it stays the same, the problem and its numbers are used again. Nothing
has to remember to invalidate anything.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from functools import cached_property
from threading import Lock
from typing import TYPE_CHECKING, Any

from django.db import connection

from hollow_kettle.plan.models import Event, Snapshot, Station
from powercore.event.problem import Problem
from powercore.futures.budget import Suns, no_sun

from .scenario import scenario_from, scenario_of

if TYPE_CHECKING:
    from powercore.event.sky import SkyView


_KEPT = 16
_FINGERPRINT = """
WITH station AS (SELECT * FROM plan_station WHERE event_id = %(event)s),
     source AS (SELECT * FROM plan_source WHERE event_id = %(event)s),
     bay AS (SELECT * FROM plan_bay WHERE event_id = %(event)s),
     chosen AS (SELECT asset_id FROM plan_event_batteries WHERE event_id = %(event)s),
     tied AS (SELECT * FROM plan_joined WHERE event_id = %(event)s),
     part (line) AS (
  SELECT (e.uid, e.zone, e.starts_at, e.ends_at, e.lateness_min, e.name, e.purpose,
    e.is_own_power, e.first_tier_sky, e.other_sky, e.yard_sky,
    e.settle_min, e.yard_cold_c, e.two_at_night,
    e.lithium_reserve_pct, e.lead_reserve_pct, e.sky_origin)::text
    FROM plan_event e WHERE e.uid = %(event)s
  UNION ALL SELECT s::text FROM plan_site s WHERE s.event_id = %(event)s
  UNION ALL SELECT w::text FROM plan_walk w JOIN plan_site s ON s.id = w.a_id
    WHERE s.event_id = %(event)s
  UNION ALL SELECT p::text FROM plan_horizonpoint p JOIN plan_site s ON s.id = p.site_id
    WHERE s.event_id = %(event)s
  UNION ALL SELECT k::text FROM plan_skyhour k WHERE k.event_id = %(event)s
  UNION ALL SELECT p::text FROM plan_panelarray p WHERE p.event_id = %(event)s
  UNION ALL SELECT u::text FROM plan_stationsupply u
    WHERE u.station_id IN (SELECT uid FROM station)
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
  UNION ALL SELECT o::text FROM log_sourceoff o WHERE o.event_key = %(event)s
  UNION ALL SELECT s::text FROM log_skyseen s WHERE s.event_key = %(event)s
  UNION ALL SELECT bay::text FROM bay
  UNION ALL SELECT a::text FROM shelf_asset a JOIN bay ON a.uid = bay.charger_id
  UNION ALL SELECT c::text FROM shelf_charger c JOIN bay ON c.asset_id = bay.charger_id
  UNION ALL SELECT tied::text FROM tied
  UNION ALL SELECT c::text FROM plan_crew c WHERE c.event_id = %(event)s
  UNION ALL SELECT a::text FROM shelf_asset a JOIN chosen ON a.uid = chosen.asset_id
  UNION ALL SELECT b::text FROM shelf_battery b
    JOIN chosen ON b.asset_id = chosen.asset_id
  UNION ALL SELECT m::text FROM shelf_estimate m
    JOIN chosen ON m.subject = chosen.asset_id
)
SELECT md5(string_agg(line, '\n' ORDER BY line)) FROM part
"""


class EventProblem:
    """
    An event's problem, the same on low power, its sun and its ledgers.

    `from_min` is the minute of the event from which on the problem counts its own.
    """

    def __init__(
        self, problem: Problem, stations: tuple[Station, ...], from_min: int = 0
    ) -> None:
        self.problem, self.stations, self.from_min = problem, stations, from_min
        self._known: dict[object, Any] = {}

    def once(self, key: object, made: Callable[[], Any]) -> Any:
        """What was worked out under a key; gone when what it rests on changes."""
        if key not in self._known:
            self._known[key] = made()
        return self._known[key]

    @property
    def low(self) -> Problem:
        """The event with every station on its low step."""
        return self.problem.all_low

    @cached_property
    def view(self) -> SkyView | None:
        """The sky over the event; None without a place on the map."""
        if self.problem.scenario.site is None:
            return None
        from powercore.event.sky import SkyView

        return SkyView.of(self.problem.scenario)

    @cached_property
    def suns(self) -> Suns:
        """What panels give under each sky, in the problem's order. [W]"""
        if self.view is None:
            return no_sun(self.problem)
        from powercore.event.sky import every_sky

        return every_sky(self.problem.scenario, self.view)


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
            problem=Problem(scenario_of(event)),
            stations=tuple(event.stations.all()),
        )
        _keep(_events, key, found)
    return found


def problem_of_snapshot(snapshot: Snapshot) -> Problem:
    """Return the problem of a frozen scenario; a snapshot never changes."""
    with _lock:
        found = _snapshots.get(snapshot.sha256)
    if found is None:
        found = Problem(scenario_from(snapshot))
        _keep(_snapshots, snapshot.sha256, found)
    return found


def _keep(kept: OrderedDict, key: str, value: object) -> None:
    with _lock:
        kept[key] = value
        while len(kept) > _KEPT:
            kept.popitem(last=False)
