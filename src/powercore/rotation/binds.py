"""
What binds a rotation: why a station runs short, and what is used to the full.

Each stretch off the air or into reserve has one cause, found from what the other
batteries do then: either one is ready and can't be brought, or none is, and then what
kept the empty ones from charging in the hours before. Nothing is planned anew: a cause
is what stands in the way first, and behind it may be another.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from powercore.event.problem import (
    CHARGE,
    SERVE,
    YARD,
    Leg,
    Problem,
    lives_of,
    stops_of,
)
from powercore.physics.battery import disconnect_of
from powercore.rotation.verify import Outcome, Shortfall

NO_BATTERY, NO_FIT = "no_battery", "no_fit"
#: A battery is ready and can't be brought, or is kept for another station.
PINNED, NO_CREW, ALONE, CREW_BUSY, KEPT, AT_HAND, TOO_HEAVY = (
    "pinned",
    "no_crew",
    "alone",
    "crew_busy",
    "kept",
    "at_hand",
    "too_heavy",
)
#: What is charged in the yard does not hold the volts there, or is soon empty.
TOO_WEAK, TOO_SMALL = "too_weak", "too_small"
#: None is ready, and this kept empty ones from charging.
NO_POWER, NO_WATCH, NO_BAY, BAY_FREE, TOO_FEW, TOO_COLD = (
    "no_power",
    "no_watch",
    "no_bay",
    "bay_free",
    "too_few",
    "too_cold",
)

#: Shortfalls below this are not explained. [min]
NOTICED_MIN = 1.0
#: How far apart moments are looked at, and how long before a shortfall. [min]
STEP_MIN, BEFORE_MIN = 10, 360
#: A battery is ready when it lasts so long there, or to the stretch's end. [min]
READY_MIN = 60
#: Low power that gains less is none. [min]
GAINS_MIN = 10
#: Charged, and empty enough to charge. (0 to 1) Common practice, no source.
CHARGED, LOW_SOC = 0.9, 0.8


@dataclass(frozen=True, slots=True, kw_only=True)
class Bind:
    """Why a station is off the air, or into reserve, in one stretch."""

    station: str
    #: "off_air" or "reserve".
    what: str
    start_min: float
    end_min: float
    #: Minutes of it in which the station is open.
    open_min: float
    cause: str
    #: The battery or the other station that the cause is about; for TOO_WEAK the volts
    #: that none holds and the current.
    about: str = ""
    #: Until when nobody may walk; None: not again. [min]
    until_min: int | None = None
    #: The latest from which on low power keeps its battery going to the end of the
    #: stretch, or all the while it serves where that gains some; None: no help. [min]
    low_from_min: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Use:
    """What is used how far."""

    #: Hours in which bays had power and somebody was there, and of them in use.
    bay_h: float
    bay_used_h: float
    #: Battery-hours in which an empty one waited, by what it waited for: NO_POWER,
    #: NO_WATCH, NO_BAY, TOO_COLD or BAY_FREE.
    waited_h: dict[str, float]
    #: The fewest charged batteries in the yard at a time, and when.
    fewest: int
    fewest_min: int
    #: Hours of walkers' duty, and of them under way.
    duty_h: float
    walked_h: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Binds:
    """What binds a rotation; stretches off the air before those into reserve."""

    #: By tier, the longest first.
    off_air: tuple[Bind, ...]
    #: The same; what ends off the air is told there.
    reserve: tuple[Bind, ...]
    use: Use


def binds(problem: Problem, legs: Sequence[Leg], outcome: Outcome) -> Binds:
    """
    Say what binds a rotation.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    outcome : Outcome
        What the verifier says of these legs.
    """
    seen = _Seen(problem, legs, outcome)
    falls = sorted(
        (fall for fall in outcome.shortfalls if fall.open_min >= NOTICED_MIN),
        key=lambda fall: (
            problem.stations[fall.station].tier,
            -fall.open_min,
            fall.start_min,
        ),
    )
    off_air = [fall for fall in falls if fall.what == "off_air"]
    follows = {(fall.station, round(fall.start_min)) for fall in off_air}
    reserve = [
        fall
        for fall in falls
        if fall.what == "reserve" and (fall.station, round(fall.end_min)) not in follows
    ]
    return Binds(
        off_air=tuple(map(seen.why, off_air)),
        reserve=tuple(map(seen.why, reserve)),
        use=seen.use(),
    )


@dataclass(frozen=True, slots=True)
class _Stay:
    """A leg with its charge."""

    leg: Leg
    start_soc: float
    end_soc: float

    def soc_at(self, minute: float) -> float:
        """Its charge, as if it ran evenly through the leg."""
        leg = self.leg
        share = (minute - leg.start_min) / (leg.end_min - leg.start_min)
        return self.start_soc + share * (self.end_soc - self.start_soc)


class _Seen:
    """A rotation's batteries, bays and crews, moment by moment."""

    def __init__(self, problem: Problem, legs: Sequence[Leg], outcome: Outcome) -> None:
        self.problem, self.lives = problem, lives_of(legs)
        ends = dict(zip(legs, outcome.leg_soc, strict=True))
        self.stays = {
            key: [_Stay(leg, *ends[leg]) for leg in life]
            for key, life in self.lives.items()
            if not problem.batteries[key].is_on_hold
        }
        self.rounds = _rounds(problem, legs)
        self.known: dict[int, dict[str, _Stay]] = {}

    # --- one stretch ------------------------------------------------------------

    def why(self, fall: Shortfall) -> Bind:
        """The cause of one stretch."""
        cause, about, until = self._cause(fall)
        return Bind(
            station=fall.station,
            what=fall.what,
            start_min=fall.start_min,
            end_min=fall.end_min,
            open_min=fall.open_min,
            cause=cause,
            about=about,
            until_min=until,
            low_from_min=self._low_from(fall),
        )

    def _cause(self, fall: Shortfall) -> tuple[str, str, int | None]:
        if not self.stays:
            return NO_BATTERY, "", None
        feeds = {key: self.problem.feed(fall.station, key) for key in self.stays}
        refused = Counter(feed.refusal for feed in feeds.values() if feed.refusal)
        if sum(refused.values()) == len(feeds):
            why, _ = refused.most_common(1)[0]
            weak = self._weak(fall.station, [k for k in feeds if feeds[k].is_weak])
            return (TOO_WEAK, weak, None) if weak else (NO_FIT, why, None)
        able = [key for key, feed in feeds.items() if not feed.refusal]
        # Only what is ready in the first half could have saved most of it.
        middle = (fall.start_min + fall.end_min) / 2
        for minute in _moments(fall.start_min, middle):
            ready = [key for key in able if self._is_ready(key, fall, minute)]
            if ready:
                return self._not_brought(fall, minute, ready)
        idle = self._charged_idle(fall, middle, able)
        if idle:
            limited = [key for key in idle if self._ends_by_volts(fall.station, key)]
            weak = self._weak(fall.station, limited)
            return (TOO_WEAK, weak, None) if weak else (TOO_SMALL, idle[0], None)
        waited, empties = self._waited(fall.start_min - BEFORE_MIN, middle, able)
        if waited.total() * STEP_MIN < READY_MIN:
            return TOO_FEW, "", None
        cause, _ = waited.most_common(1)[0]
        about = empties.most_common(1)[0][0] if cause == BAY_FREE else ""
        return cause, about, None

    def _charged_idle(
        self, fall: Shortfall, middle: float, able: Sequence[str]
    ) -> list[str]:
        """What stands charged in the yard all the while and would not last there."""
        kept: set[str] = set(able)
        for minute in _moments(fall.start_min, middle):
            now = self._now(minute)
            kept = {
                key
                for key in kept
                if key in now
                and now[key].leg.place == YARD
                and now[key].soc_at(minute) >= CHARGED
            }
        return [key for key in able if key in kept]

    def _ends_by_volts(self, station: str, key: str) -> bool:
        """Whether volts, rather than the reserve, say how far a battery is used."""
        feed = self.problem.feed(station, key)
        kept = self.problem.batteries[key].pack.reserve_soc
        return feed.floor_soc > self.problem.in_cold(key, kept, station)

    def _weak(self, station: str, keys: Sequence[str]) -> str:
        """The volts that none of these holds there, and the current; else empty."""
        problem, found = self.problem, []
        for key in keys:
            pack = problem.batteries[key].pack
            feeding = problem.feeding(station, pack.nominal_v)
            end = disconnect_of(pack, feeding)
            if end.limit_v > 0:
                found.append((end.limit_v, end.amps(feeding)))
        if not found:
            return ""
        volts, amps = max(found)
        return f"{volts:.1f} V at {amps:.1f} A"

    def _is_ready(self, key: str, fall: Shortfall, minute: int) -> bool:
        """Whether a battery in the yard could keep a station on the air a while."""
        stay = self._now(minute).get(key)
        if stay is None:
            return False
        is_on_bay = stay.leg.kind == CHARGE and self._is_watched(minute)
        if stay.leg.place != YARD and not is_on_bay:
            return False
        feed = self.problem.feed(fall.station, key)
        until = min(fall.end_min, minute + READY_MIN)
        wanted = self._asked_wh(fall.station, minute, until)
        left = (stay.soc_at(minute) - feed.reserve_soc) * feed.capacity_wh
        return left >= max(wanted, 1e-6)

    def _not_brought(
        self, fall: Shortfall, minute: int, ready: Sequence[str]
    ) -> tuple[str, str, int | None]:
        """Why batteries that are ready are not brought."""
        station, problem = fall.station, self.problem
        walk = problem.stations[station].walk_min
        first = minute + walk
        last = max(first, int(fall.start_min + fall.end_min) // 2)
        allowed = [m for m in range(first, last + 1) if problem.may_walk(station, m)]
        if not allowed:
            asked = range(first, last + 1)
            cause = NO_CREW
            if any(problem.crews_for(m - walk, m + walk) for m in asked):
                cause = PINNED
            elif any(problem.crews_for(m - walk, m + walk, night=False) for m in asked):
                cause = ALONE
            later = range(last, problem.span_min + 1)
            again = next((m for m in later if problem.may_walk(station, m)), None)
            return cause, "", again
        if not any(self._is_free(m, walk) for m in allowed):
            return CREW_BUSY, "", None
        able = [key for key in ready if self._has_hands(key, allowed, walk)]
        if not able:
            return TOO_HEAVY, ready[0], None
        tier = problem.stations[station].tier
        for key in able:
            place = self._next_place(key, minute)
            if not place or problem.stations[place].tier > tier:
                return AT_HAND, key, None
        return KEPT, self._next_place(able[0], minute), None

    def _has_hands(self, key: str, minutes: Sequence[int], walk: int) -> bool:
        """Whether a crew on duty at one of these has people enough for a battery."""
        kg = self.problem.mass_kg(key)
        return any(
            self.problem.crews_for(m - walk, m + walk, kg=kg)
            for m in minutes[:: max(1, STEP_MIN // 2)]
        )

    def _next_place(self, key: str, minute: int) -> str:
        """The station a battery serves next; empty: none."""
        return next(
            (
                leg.place
                for leg in self.lives[key]
                if leg.kind == SERVE and leg.start_min >= minute
            ),
            "",
        )

    def _is_free(self, minute: int, walk: int) -> bool:
        """Whether some crew on duty has no walk in the time of one more."""
        start, end = minute - walk, minute + walk
        return any(
            not any(
                name == crew.name and first < end and start < last
                for name, first, last in self.rounds
            )
            for crew in self.problem.crews_for(start, end)
        )

    def _low_from(self, fall: Shortfall) -> int | None:
        """When low power must begin for the battery there to last, without sun."""
        last = next(
            (
                (key, stay)
                for key, stays in self.stays.items()
                for stay in stays
                if stay.leg.kind == SERVE
                and stay.leg.place == fall.station
                and stay.leg.start_min <= fall.start_min < stay.leg.end_min
            ),
            None,
        )
        if last is None:
            return None
        key, stay = last
        feed = self.problem.feed(fall.station, key)
        least = feed.floor_soc if fall.what == "off_air" else feed.reserve_soc
        has_wh = (stay.start_soc - least) * feed.capacity_wh
        step, edges = self.problem.grid.step_min, self.problem.grid.edges_min
        full, low = (
            p.asked_wh[fall.station] for p in (self.problem, self.problem.all_low)
        )
        first = int(np.searchsorted(edges, stay.leg.start_min))
        end = min(int(np.ceil(fall.end_min / step)), edges.size - 1)
        # At full power up to an edge, then low to the end of the stretch.
        asked = full[first : end + 1] - full[first] + low[end] - low[first : end + 1]
        lasts = np.flatnonzero(asked <= has_wh)
        if lasts.size:
            return int(edges[first + lasts[-1]])
        until = int(np.searchsorted(low - low[first], has_wh, side="right")) - 1
        is_gain = edges[until] - fall.start_min >= GAINS_MIN
        return stay.leg.start_min if is_gain else None

    # --- charging ---------------------------------------------------------------

    def _waited(
        self, start: float, end: float, able: Sequence[str]
    ) -> tuple[Counter[str], Counter[str]]:
        """
        What empty batteries in the yard waited for, moment by moment.

        And which could have charged.
        """
        found: Counter[str] = Counter()
        could: Counter[str] = Counter()
        for minute in _moments(max(0.0, start), end):
            free = self._free_bays(minute)
            now = self._now(minute)
            for key in able:
                stay = now.get(key)
                if stay is None or stay.leg.place != YARD:
                    continue
                came = stay.leg.start_min
                if came and minute < came + self.problem.scenario.settle_min:
                    continue
                if stay.soc_at(minute) >= LOW_SOC:
                    continue
                cause = self._waits_for(key, free, minute)
                found[cause] += 1
                could[key] += cause == BAY_FREE
        return found, could

    def _waits_for(self, key: str, free: Sequence[str], minute: int) -> str:
        fits = [bay for bay in free if self.problem.bay_refusal(bay, key) is None]
        powered = [bay for bay in fits if self._has_power(bay, minute)]
        if not fits:
            cold_c = self.problem.scenario.yard_cold_c
            return TOO_COLD if self.problem.cold_refusal(key, cold_c) else NO_BAY
        if not powered:
            return NO_POWER
        return BAY_FREE if self._is_watched(minute) else NO_WATCH

    def _free_bays(self, minute: int) -> list[str]:
        now = self._now(minute).values()
        taken = {one.leg.place for one in now if one.leg.kind == CHARGE}
        return [bay for bay in self.problem.bays if bay not in taken]

    def _has_power(self, bay: str, minute: int) -> bool:
        return self.problem.source_is_on(self.problem.bays[bay].source, minute)

    def _is_watched(self, minute: int) -> bool:
        return any(
            window.start_min <= minute < window.end_min
            for window in self.problem.watches
        )

    # --- the whole --------------------------------------------------------------

    def use(self) -> Use:
        """What is used how far, over the whole rotation."""
        problem = self.problem
        waited, _ = self._waited(0, problem.span_min, list(self.stays))
        open_, used = 0, 0
        ready: list[tuple[int, int]] = []
        for minute in _moments(0, problem.span_min):
            now = self._now(minute).values()
            home = [one for one in now if one.leg.place == YARD]
            ready.append((sum(one.soc_at(minute) >= CHARGED for one in home), minute))
            if self._is_watched(minute):
                powered = [bay for bay in problem.bays if self._has_power(bay, minute)]
                free = self._free_bays(minute)
                open_ += len(powered)
                used += sum(bay not in free for bay in powered)
        fewest, when = min(ready)
        hours = STEP_MIN / 60
        duties = [crew for crew in problem.scenario.crews if crew.does == "walks"]
        return Use(
            bay_h=open_ * hours,
            bay_used_h=used * hours,
            waited_h={cause: count * hours for cause, count in waited.items()},
            fewest=fewest,
            fewest_min=when,
            duty_h=sum(
                max(0, min(one.end_min, problem.span_min) - max(one.start_min, 0))
                for one in duties
            )
            / 60,
            walked_h=sum(end - start for _, start, end in self.rounds) / 60,
        )

    def _now(self, minute: int) -> dict[str, _Stay]:
        """What each battery does at a moment, looked up once."""
        found = self.known.get(minute)
        if found is None:
            found = self.known[minute] = {
                key: stay
                for key, stays in self.stays.items()
                for stay in stays
                if stay.leg.start_min <= minute < stay.leg.end_min
            }
        return found

    def _asked_wh(self, station: str, start: float, end: float) -> float:
        edges = self.problem.grid.edges_min
        asked = self.problem.asked_wh[station]
        return float(np.interp(end, edges, asked) - np.interp(start, edges, asked))


def _rounds(problem: Problem, legs: Sequence[Leg]) -> list[tuple[str, int, int]]:
    """Each walk's crew, and from when to when it is under way."""
    spans: dict[tuple[str, int], list[int]] = {}
    for stop in stops_of(legs):
        walk = problem.stations[stop.station].walk_min
        span = spans.setdefault((stop.crew, stop.round), [])
        span += [stop.minute - walk, stop.minute + walk]
    return [(crew, min(span), max(span)) for (crew, _), span in spans.items()]


def _moments(start: float, end: float) -> Iterator[int]:
    """Moments from a time up to another; the first at least."""
    first = int(np.ceil(start))
    yield first
    yield from range(first + STEP_MIN, int(np.ceil(end)), STEP_MIN)
