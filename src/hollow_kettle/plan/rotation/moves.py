"""A rotation's moves in their order, as people carry them out."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import Event, Leg, Rotation, Station
from powercore.belief.runtime import hours_left
from powercore.belief.slack import Slack, as_planned, slack_of
from powercore.event.problem import CARRIED, CHARGE, SERVE, WAIT, Problem
from powercore.rotation.verify import verify
from powercore.values import as_counted

from .queries import WATCHED_SINCE, holds_of, tags_of

#: A chance that somebody should know of. Common practice, no source.
TOO_LIKELY = 0.2


@dataclass(frozen=True, slots=True)
class Move:
    """
    One stop of a walk: who leaves when, with what, where, and what comes back.

    Or a swap with a spare that waits there, which operators make: then nobody walks,
    and what comes out waits there in its turn.
    """

    leave: datetime
    arrive: datetime
    back: datetime
    station: Station
    #: Tag of what is brought; None where something is only taken away.
    bring: str | None
    bring_back: str | None
    crew: str
    #: Of the station until then; None: nothing is asked of what comes out.
    slack: Slack | None
    battery: UUID | None
    #: Where what comes back goes next: a bay, and when; None: the rack.
    bay: UUID | None = None
    bay_at: datetime | None = None
    #: Its round, and the station before it on that: the crew goes on from there.
    round: int | None = None
    comes_from: str = ""
    #: What is brought, or only taken away, waits there as a spare.
    is_spare: bool = False
    #: Why what is brought must not be used.
    hold: str = ""

    @property
    def slack_min(self) -> float | None:
        """From the usual arrival to the typical end of power there. [min]"""
        return self.slack.minutes if self.slack else None

    @property
    def is_risky(self) -> bool:
        """Whether the station may well be without power by then."""
        return self.slack is not None and self.slack.chance >= TOO_LIKELY

    @property
    def is_swap(self) -> bool:
        """Whether operators swap for themselves."""
        return not self.crew

    @property
    def key(self) -> tuple[object, ...]:
        """By what it is the same move in two rotations, whoever makes it."""
        station = self.station.pk
        return self.arrive, station, self.bring, self.bring_back, self.is_spare

    @property
    def who(self) -> str:
        """Who makes it, and from where they come if not from the yard."""
        from_where = f", on from {self.comes_from}" if self.comes_from else ""
        return f"{self.crew or 'operators'}{from_where}"

    @property
    def goes(self) -> str:
        """What is carried where: "K11 to Drumlin"."""
        return " ".join(filter(None, (self.bring, self.goes_on)))

    @property
    def goes_on(self) -> str:
        """The same without the tag of what is brought: "to Drumlin"."""
        name = self.station.name
        if self.is_swap:
            return f"in at {name}"
        if self.bring is None:
            return f"fetch {self.bring_back} from {name}"
        return f"to {name}{' as a spare' if self.is_spare else ''}"

    @property
    def returns(self) -> str:
        """What comes out for it; empty where nothing does, or it is said already."""
        if self.bring is None or self.bring_back is None:
            return ""
        if self.is_swap:
            return f"{self.bring_back} out"
        return f"bring back {self.bring_back}"

    @property
    def words(self) -> str:
        """All of it in one line."""
        said = ", ".join(filter(None, (self.goes, self.returns)))
        return f"{said}: spare there" if self.is_swap else said

    @property
    def hands(self) -> str:
        """The order of hands at the station."""
        if self.is_spare:
            return "Set it down dry and shaded, terminals covered, out of the way."
        parts = [
            "panel off",
            "load off",
            "old out" if self.bring_back else "",
            "new in" if self.bring else "",
            "panel on",
            "load on",
        ]
        return f"{' · '.join(filter(None, parts)).capitalize()}. Terminals covered."


def moves_of(
    event: Event,
    rotation: Rotation,
    tags: dict[UUID, str],
    stations: Iterable[Station] | None = None,
    holds: dict[UUID, str] | None = None,
) -> list[Move]:
    """All walks of a rotation in order, and swaps that operators make."""
    by_key = {s.pk: s for s in (stations or event.stations.all())}
    lives: dict[UUID, list[Leg]] = {}
    for leg in rotation.legs.all():
        lives.setdefault(leg.battery, []).append(leg)
    stops = _stops(lives, by_key)
    problem = problem_of_snapshot(rotation.snapshot)
    found = list(_swaps(event, problem, rotation, lives, tags, by_key))
    for (place, minute), stop in stops.items():
        for new, gone in stop.pairs():
            found.append(
                _walk(rotation, problem, by_key[place], minute, (new, gone), tags)
            )
    found.sort(key=lambda move: (move.leave, move.arrive, move.station.name))
    holds = holds_of(event) if holds is None else holds
    if holds:
        found = [
            replace(move, hold=holds.get(move.battery, "")) if move.battery else move
            for move in found
        ]
    return _with_ways(found)


#: A battery that is carried to a station: its way and what it does there; one that is
#: carried from it: what it did, its way, and what it does then.
_New = tuple[Leg, Leg]
_Gone = tuple[Leg, Leg, Leg | None]


@dataclass(slots=True)
class _Stop:
    """What is brought to a station at a minute, and what is taken from it."""

    brought: list[_New] = field(default_factory=list)
    taken: list[_Gone] = field(default_factory=list)

    def pairs(self) -> Iterable[tuple[_New | None, _Gone | None]]:
        """What goes into use is for what comes out of it, a spare for a spare."""
        news = sorted(self.brought, key=lambda pair: pair[1].is_spare)
        olds = sorted(self.taken, key=lambda one: one[0].is_spare)
        return itertools.zip_longest(news, olds)


def _stops(
    lives: dict[UUID, list[Leg]], by_key: dict[UUID, Station]
) -> dict[tuple[UUID, int], _Stop]:
    """Stops of walks, by station and minute."""
    found: dict[tuple[UUID, int], _Stop] = defaultdict(_Stop)
    for life in lives.values():
        for number, leg in enumerate(life):
            place = leg.station
            if place is None or place not in by_key:
                continue
            before = life[number - 1] if number else None
            home = life[number + 1] if number + 1 < len(life) else None
            if before is not None and before.kind == CARRIED:
                found[place, leg.start_min].brought.append((before, leg))
            if home is not None and home.kind == CARRIED:
                after = (one for one in life[number + 2 :] if one.kind != WAIT)
                found[place, leg.end_min].taken.append((leg, home, next(after, None)))
    return found


def _walk(
    rotation: Rotation,
    problem: Problem,
    station: Station,
    minute: int,
    pair: tuple[_New | None, _Gone | None],
    tags: dict[UUID, str],
) -> Move:
    """What one walk brings to a station and takes from it."""
    event, (new, gone) = rotation.event, pair
    old, home, then = gone or (None, None, None)
    carried = new[0] if new else home
    assert carried is not None  # noqa: S101 - a pair has at least one side
    walk_min = problem.stations[str(station.pk)].walk_min
    leave = new[0].start_min if new else minute - walk_min
    back = home.end_min if home else minute + walk_min
    charge = then if then is not None and then.kind == CHARGE else None
    in_use = old if old is not None and not old.is_spare else None
    return Move(
        leave=event.moment_of(leave),
        arrive=event.moment_of(minute),
        back=event.moment_of(back),
        station=station,
        bring=tags.get(new[1].battery, "?") if new else None,
        bring_back=tags.get(old.battery, "?") if old else None,
        crew=carried.crew,
        slack=_slack(problem, rotation, in_use, minute),
        battery=new[1].battery if new else None,
        bay=charge.place if charge else None,
        bay_at=event.moment_of(charge.start_min) if charge else None,
        round=carried.round,
        is_spare=new[1].is_spare if new else bool(old and old.is_spare),
    )


def warnings_of(
    event: Event, rotation: Rotation, holds: dict[UUID, str], now: datetime | None
) -> list[str]:
    """What makes a rotation one not to be carried out as it stands."""
    from_min = 0.0 if now is None else event.minute_of(now)
    used = {
        leg.battery
        for leg in rotation.legs.all()
        if leg.kind != WAIT and leg.end_min > from_min
    }
    tags = tags_of(rotation)
    found = [
        f"{tags.get(key, '?')} is on hold: {why}. Its moves don't count; plan again."
        for key, why in holds.items()
        if key in used
    ]
    found += elsewhere(event, used, tags)
    if rotation.snapshot.schema_version < WATCHED_SINCE:
        report = verify(*problem_of(rotation))
        alone = [one for one in report.broken if one.rule == "charges_unwatched"]
        if alone:
            found.append(
                "It was made when batteries charged unwatched, and does so "
                f"{len(alone)} times; plan again, or have somebody watch the yard then."
            )
    return found


def elsewhere(event: Event, used: set[UUID], tags: dict[UUID, str]) -> list[str]:
    """Say which batteries that a plan uses are lent, or planned elsewhere then."""
    lent = BatteryNow.objects.filter(battery__in=used, place__kind=PlaceKind.PERSON)
    found = [
        f"{tags.get(row.battery, '?')} is lent: {row.place}. Get it back, or plan "
        "again without it."
        for row in lent.select_related("place")
    ]
    others = Event.objects.exclude(pk=event.pk).filter(
        starts_at__lt=event.ends_at, ends_at__gt=event.starts_at
    )
    for other in others.exclude(state=Event.State.CLOSED):
        both = other.batteries.filter(pk__in=used).values_list("tag", flat=True)
        if both:
            names = ", ".join(sorted(both, key=as_counted))
            found.append(f"{names}: chosen for {other} too, which is on at that time.")
    return found


def _swaps(
    event: Event,
    problem: Problem,
    rotation: Rotation,
    lives: dict[UUID, list[Leg]],
    tags: dict[UUID, str],
    stations: dict[UUID, Station],
) -> Iterator[Move]:
    """Swaps that operators make with a spare that waits at their station."""
    used = {
        (leg.place, leg.end_min): leg
        for life in lives.values()
        for leg in life
        if leg.kind == SERVE
    }
    for life in lives.values():
        for spare, leg in itertools.pairwise(life):
            if not spare.is_spare or leg.kind != SERVE or leg.place not in stations:
                continue
            old = used.get((leg.place, leg.start_min))
            moment = event.moment_of(leg.start_min)
            yield Move(
                leave=moment,
                arrive=moment,
                back=moment,
                station=stations[leg.place],
                bring=tags.get(leg.battery, "?"),
                bring_back=tags.get(old.battery, "?") if old else None,
                crew="",
                slack=_slack(problem, rotation, old, leg.start_min),
                battery=leg.battery,
            )


def _with_ways(moves: list[Move]) -> list[Move]:
    """Say of each move from which station its crew goes on to it."""
    before: dict[tuple[str, int | None], Move] = {}
    made = []
    for move in moves:
        last = before.get((move.crew, move.round))
        if last is not None and move.round is not None and last.station != move.station:
            move = replace(move, comes_from=last.station.name)
        before[move.crew, move.round] = move
        made.append(move)
    return made


def _slack(
    problem: Problem, rotation: Rotation, old: Leg | None, arrive_min: int
) -> Slack | None:
    """The slack of what is relieved, by the plan's own spreads."""
    if old is None:
        return None
    key, battery = str(old.place), str(old.battery)
    watts, then = problem.asked_w[key], arrive_min - rotation.from_min
    at = min(then, problem.span_min - 1) // problem.grid.step_min
    if watts[at] <= 0:
        return None
    span = (old.start_min - rotation.from_min, then)
    return slack_as_planned(problem, key, battery, old.start_soc, span)


def planned_chances(rotation: Rotation) -> list[tuple[UUID, int, float]]:
    """
    The chance that a plan itself takes with each battery in use.

    Returns
    -------
    list of (station, start, chance)
        Of each while in use, from which minute of the event; the last one at a station
        is to last until it closes.
    """
    problem = problem_of_snapshot(rotation.snapshot)
    used = [leg for leg in rotation.legs.all() if leg.kind == SERVE and leg.place]
    relieved = {(leg.place, leg.start_min) for leg in used}
    found = []
    for leg in used:
        start, end = (at - rotation.from_min for at in (leg.start_min, leg.end_min))
        is_last = (leg.place, leg.end_min) not in relieved
        slack = slack_as_planned(
            problem,
            str(leg.place),
            str(leg.battery),
            leg.start_soc,
            (start, None if is_last else end),
        )
        assert leg.place is not None  # noqa: S101 - asked above
        found.append((leg.place, leg.start_min, slack.chance))
    return found


def slack_as_planned(
    problem: Problem,
    station: str,
    battery: str,
    soc: float,
    span: tuple[int, int | None],
) -> Slack:
    """
    The slack of a battery in use, by the plan's own spreads.

    Parameters
    ----------
    soc : float
        Its planned charge as it goes in. (0 to 1)
    span : (int, int or None)
        When it goes in, and when its relief is to be there; none: nobody comes. [min]
    """
    plan, start = problem.batteries[battery], span[0]
    hours = hours_left(
        plan.pack,
        as_planned(soc, problem.stations[station].spread, plan.trusted_sd),
        to_soc=problem.feed(station, battery).floor_soc,
        grid=problem.grid,
        demand_w=problem.asked_w[station],
        from_min=start,
    )
    arrive_h = None if span[1] is None else (span[1] - start) / 60
    return slack_of(hours, arrive_h, problem.scenario.lateness_min)
