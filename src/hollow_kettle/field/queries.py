"""What the field board shows, read in a fixed number of queries."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

import numpy as np
from django.db.models import Count, Exists, OuterRef, Q, QuerySet, Subquery

from hollow_kettle.clock import told
from hollow_kettle.instruments.models import Device
from hollow_kettle.log.models import (
    CALLS,
    BatteryNow,
    Conflict,
    FieldEntry,
    Kind,
    PlaceKind,
    Standing,
    Waiting,
)
from hollow_kettle.log.services import counting
from hollow_kettle.log.states import STATES, is_ready, state_of
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Event, Rotation, Station
from hollow_kettle.plan.rotation.following import MoveNow, ToFollow, states_of
from hollow_kettle.plan.rotation.moves import moves_of, planned_chances
from hollow_kettle.plan.rotation.queries import holds_of
from hollow_kettle.ui.drawing import Scale
from powercore.belief.believed import unknown
from powercore.belief.runtime import TimeLeft, hours_left, time_left
from powercore.belief.slack import slack_of
from powercore.values import windows_where

from .alarms import alarms_of
from .beliefs import believed_draws
from .coming import moves_in, noted_of, with_promises
from .conflicts import questions
from .follow import follow
from .listening import next_call
from .look import ask_next, worth_a_look
from .page import (
    Board,
    BoardBattery,
    BoardBay,
    BoardStation,
    LogState,
    Said,
    Stock,
)
from .physics import EventPhysics
from .services import PART_OF

#: The board shows this many hours ahead.
HORIZON_H = 8.0
_POLL_MIN = 3


def log_state(event: Event) -> LogState:
    """Read it in one query that does not walk through the log."""
    own = FieldEntry.objects.filter(event_key=OuterRef("pk"))
    aside = unanswered(own).order_by().values("event_key")
    on_hold = Count("batteries", filter=~Q(batteries__hold=""))
    waits = Exists(Waiting.objects.filter(event_key=OuterRef("pk")))
    call = counting(own.filter(kind__in=CALLS)).order_by("-effective_at", "-pk")
    found = Event.objects.filter(pk=event.pk).annotate(
        held=on_hold,
        waits=waits,
        contradicts=Exists(Conflict.objects.filter(event_key=OuterRef("pk"))),
        measures=Exists(Device.objects.filter(event=OuterRef("pk"), closed_at=None)),
    )
    last, quarantined, held, is_behind, kind, at, conflicts, meters = found.values_list(
        Subquery(own.order_by("-pk").values("pk")[:1]),
        Subquery(aside.annotate(count=Count("pk")).values("count")),
        "held",
        "waits",
        Subquery(call.values("kind")[:1]),
        Subquery(call.values("effective_at")[:1]),
        "contradicts",
        "measures",
    ).get()
    since = at if kind == Kind.STAND_DOWN else None
    return LogState(
        last or 0, quarantined or 0, held, is_behind, since, conflicts, meters
    )


def unanswered(entries: QuerySet[FieldEntry]) -> QuerySet[FieldEntry]:
    """Those that wait in quarantine: neither struck, nor used as a coordinator said."""
    kept = FieldEntry.objects.filter(standing=Standing.KEPT)
    struck = kept.filter(kind=Kind.STRIKE, strikes=OuterRef("uid"))
    answered = kept.filter(answers=OuterRef("uid"))
    return entries.filter(
        ~Exists(struck), ~Exists(answered), standing=Standing.QUARANTINE
    )


def version_of(
    event: Event,
    now: datetime,
    rotation: Rotation | None = None,
    log: LogState | None = None,
) -> str:
    """A version that moves with each entry, and every few minutes by itself."""
    log = log or log_state(event)
    minutes = int(event.minute_of(now)) // _POLL_MIN
    rotation = rotation or published(event)
    number = rotation.number if rotation else 0
    return f"{log.last}-{minutes}-{number}-{log.held}{'-w' if log.is_behind else ''}"


def board_of(event: Event, now: datetime) -> Board:
    """Work out the board at a moment, with all that was noted by then."""
    log = log_state(event)
    if log.is_behind:
        follow(event)
        log = log_state(event)
    physics = EventPhysics(event)
    rotation = published(event)
    every = physics.stations
    rows = {
        row.battery: row
        for row in BatteryNow.objects.filter(
            battery__in=[UUID(key) for key in physics.problem.batteries]
        ).select_related("place")
    }
    batteries = [
        _battery(physics, UUID(key), rows.get(UUID(key)), now)
        for key in physics.problem.batteries
    ]
    by_place, at_station = _where(batteries)
    # A rotation made before batteries were joined still moves them singly.
    tags = {
        UUID(single.key): single.tag
        for unit in physics.problem.batteries.values()
        for single in unit.members
    }
    tags |= {battery.uid: battery.tag for battery in batteries}
    holds: dict[UUID, str] = {}
    if log.held:
        holds = physics.once("holds", lambda: holds_of(event))
    noted = noted_of(event, now)
    every_move: list[MoveNow] = []
    if rotation:
        plan = physics.once(
            ("moves", rotation.pk, rotation.published_at),
            lambda: ToFollow.of(
                event, rotation, moves_of(event, rotation, tags, every, holds), tags
            ),
        )
        every_move = states_of(plan, moves_in(event, noted), now)
        every_move = with_promises(physics, every_move, batteries)
    coming = [one for one in every_move if one.is_open]
    draws = believed_draws(physics)
    stations = [
        _station(
            physics,
            station,
            at_station.get(station.pk),
            coming,
            now,
        )
        for station in every
    ]
    chances = []
    if rotation:
        chances = physics.once(
            ("chances", rotation.pk, rotation.published_at),
            lambda: planned_chances(rotation),
        )
    for line in stations:
        line.planned_chance = _planned_chance(chances, line, event.minute_of(now))
        line.soonest = _soonest(physics, line, batteries, now) if line.is_off else ""
        line.next = line.coming(now)
        openings = physics.problem.stations[str(line.station.pk)].openings
        line.listens = next_call(event, openings, now)
    stations.sort(key=lambda station: station.sort_key)
    if log.stand_down is not None:
        # Nobody comes: what counts is how long each lasts by itself.
        stations.sort(key=lambda station: station.lasts_h)
        for line in stations:
            line.next = Said("walks are stopped")
    counts = [
        (state, sum(battery.state == state for battery in batteries))
        for state in STATES
    ]
    board = Board(
        now=now,
        version=version_of(event, now, rotation, log),
        stations=stations,
        bays=_bays(physics, by_place, now),
        batteries=batteries,
        counts=[(state, count) for state, count in counts if count],
        every_move=every_move,
        stock=stock_until_morning(physics, batteries, now),
        stand_down=log.stand_down,
        kept_aside=log.quarantined,
    )
    board.conflicts = questions(event, tags) if log.has_conflicts else []
    board.alarms = alarms_of(event, board, noted)
    board.ask_next = ask_next(board)
    board.worth_a_look = worth_a_look(physics, board, draws, holds, log, noted)
    return board


def _where(
    batteries: list[BoardBattery],
) -> tuple[dict[UUID, BoardBattery], dict[UUID | None, BoardBattery]]:
    """What is on bays and in use, by place, and what is in use, by station."""
    by_place, at_station = {}, {}
    for battery in batteries:
        place = battery.row.place if battery.row is not None else None
        if place is not None and place.kind in (PlaceKind.POSITION, PlaceKind.BAY):
            by_place[place.pk] = battery
            if place.kind == PlaceKind.POSITION:
                at_station[place.station_key] = battery
    return by_place, at_station


def _battery(
    physics: EventPhysics, uid: UUID, row: BatteryNow | None, now: datetime
) -> BoardBattery:
    plan = physics.problem.batteries[str(uid)]
    soc, joint = unknown(), None
    if row is not None:
        soc, joint = physics.joint_at(row, now)
    state = state_of(
        row, reserve=plan.pack.reserve_soc, hold="hold" if plan.is_on_hold else ""
    )
    at = row.place if row is not None else None
    if at is not None and at.event_key not in (None, physics.event.pk):
        state = "unknown"  # last seen at another event
    if state in ("ready", "empty"):
        state = "ready" if is_ready(soc.typical, plan.pack.reserve_soc) else "empty"
    return BoardBattery(
        uid=uid,
        tag=plan.tag,
        pack=plan.pack,
        soc=soc,
        joint=joint,
        row=row,
        state=state,
        is_heated=plan.is_heated,
    )


def stock_until_morning(
    physics: EventPhysics, batteries: list[BoardBattery], now: datetime
) -> Stock | None:
    """
    What batteries hold above their reserve against what stations ask until it is light.

    Until the end of the dark that is or comes next, else of the event.
    """
    event, problem = physics.event, physics.problem
    grid, minute = problem.grid, event.minute_of(now)
    if minute >= grid.span_min:
        return None
    ends = (night.end_min for night in windows_where(grid, problem.dark))
    until_min = next((end for end in ends if end > minute), grid.span_min)
    needed = 0.0
    for key, wh in problem.asked_wh.items():
        factor = physics.draws[key].mean if key in physics.draws else 1.0
        first, last = np.interp((minute, until_min), grid.edges_min, wh)
        needed += factor * float(last - first)
    held = [0.0, 0.0]
    for one in batteries:
        if one.state in ("hold", "unknown", "tripped?", "lent"):
            continue
        for index, soc in enumerate((one.soc.low, one.soc.typical)):
            above = max(0.0, soc - one.pack.reserve_soc)
            held[index] += above * one.pack.trusted_wh
    return Stock(event.moment_of(until_min), needed, held[0], held[1])


def _station(
    physics: EventPhysics,
    station: Station,
    battery: BoardBattery | None,
    coming: list[MoveNow],
    now: datetime,
) -> BoardStation:
    event, key = physics.event, str(station.pk)
    minute = event.minute_of(now)
    grid, watts = physics.problem.grid, physics.problem.demand_w[key]
    slot = int(minute // grid.step_min)
    is_open = 0 <= slot < grid.count and bool(watts[slot] > 0)
    spans = [
        span
        for span in physics.spans
        if span.station_key == station.pk and span.ended_at is None
    ]
    next_one = next(
        (c for c in coming if c.move.bring and c.move.station.pk == station.pk), None
    )
    move = next_one.move if next_one else None
    if battery is None or battery.joint is None:
        return BoardStation(
            station,
            None,
            None,
            None,
            move,
            None,
            spans,
            None,
            is_open,
        )
    feed = physics.problem.feed(key, str(battery.uid))
    asked = physics.problem.asked_w[key]
    joint = physics.until_evidence(key, battery.row, now) or battery.joint
    hours = [
        hours_left(
            battery.pack,
            joint,
            to_soc=soc,
            grid=grid,
            demand_w=asked,
            from_min=minute,
        )
        for soc in (feed.reserve_soc, feed.floor_soc)
    ]
    lefts = [time_left(one) for one in hours]
    arrive_h = None
    if move is not None:
        arrive_h = max(0.0, (move.arrive - now).total_seconds() / 3600)
    row = battery.row
    read_at = row.read_at if row is not None else None
    found = BoardStation(
        station,
        battery,
        lefts[0],
        lefts[1],
        move,
        slack_of(hours[1], arrive_h, event.lateness_min),
        spans,
        (now - read_at).total_seconds() / 60 if read_at else None,
        is_open,
        progress=next_one,
    )
    _draw_band(found, lefts[0])
    return found


def _planned_chance(
    chances: list[tuple[UUID, int, float]], line: BoardStation, minute: float
) -> float:
    """What the published plan itself takes at a station now."""
    own = [
        (start, chance)
        for key, start, chance in chances
        if key == line.station.pk and start <= minute
    ]
    return max(own)[1] if own else 0.0


def _soonest(
    physics: EventPhysics,
    line: BoardStation,
    batteries: list[BoardBattery],
    now: datetime,
) -> str:
    """What brings a station back soonest: a spare, what comes, or one that is free."""
    key, zone = str(line.station.pk), physics.event.zone

    def may_serve(one: BoardBattery) -> bool:
        feed = physics.problem.feed(key, str(one.uid))
        return feed.refusal is None and one.soc.low > feed.floor_soc

    for one in batteries:
        place = one.row.place if one.row is not None else None
        is_here = place is not None and place.station_key == line.station.pk
        if is_here and one.state == "spare out" and may_serve(one):
            return f"{one.tag} waits there: swap it in"
    walk = timedelta(minutes=physics.problem.stations[key].walk_min)
    free = [one for one in batteries if one.state == "ready" and may_serve(one)]
    best = max(free, key=lambda one: one.soc.low, default=None)
    said = "no battery is ready: ask what it is, and replan"
    if best is not None:
        said = f"soonest: {best.tag}, there {told(now + walk, zone)} if it goes now"
    move = line.move
    if move is None or move.is_spare or move.bring is None:
        return said
    is_out = line.progress is not None and line.progress.left is not None
    if is_out or best is None or move.arrive <= now + walk:
        return f"{move.bring} arrives {told(max(now, move.arrive), zone)}"
    return said


def _draw_band(found: BoardStation, left: TimeLeft) -> None:
    """Where the hours to the reserve lie on the card's little scale."""
    scale = Scale(0, HORIZON_H, 4, 236)
    hours = (left.bad_h, left.typical_h, left.good_h)
    ends = [HORIZON_H if h is None else h for h in hours]
    found.dot = scale(ends[1])
    found.band = (scale(ends[0]), round(max(1.0, scale(ends[2]) - scale(ends[0])), 1))


def _bays(physics: EventPhysics, by_place: dict, now: datetime) -> list[BoardBay]:
    minute = physics.event.minute_of(now)
    bays = []
    for key, bay in physics.problem.bays.items():
        battery = by_place.get(UUID(key))
        hours, refusal = None, ""
        if battery is not None:
            model = physics.problem.charge_model(key, str(battery.uid))
            needs_h = model.hours_to(
                battery.soc.typical * model.capacity, 0.9 * model.capacity
            )
            hours = physics.hours_until(key, now, needs_h)
            refusal = physics.problem.bay_refusal(key, str(battery.uid)) or ""
        has_power = physics.problem.source_is_on(bay.source, minute) and any(
            window.start_min <= minute < window.end_min
            for window in physics.bay_windows(key)
        )
        is_alone = (
            battery is not None
            and has_power
            and physics.problem.needs_watch(key, str(battery.uid))
            and not physics.problem.is_watched(minute)
        )
        bays.append(
            BoardBay(
                key,
                bay.name,
                physics.problem.sources[bay.source].name,
                has_power,
                battery,
                hours,
                refusal=refusal,
                off_since=physics.off_since.get(key)
                or physics.off_since.get(bay.source),
                is_faulty=key in physics.off_since,
                is_alone=is_alone,
                unwatched_why=bay.unwatched_why,
            )
        )
    return bays


def entries_of(event: Event, most: int = 100) -> list[FieldEntry]:
    """The latest entries of an event, newest first, with whether each is struck."""
    entries = list(
        FieldEntry.objects.filter(event_key=event.pk)
        .exclude(raw__has_key=PART_OF)
        .select_related("actor", "place", "place_out")
        .order_by("-effective_at", "-pk")[:most]
    )
    struck = set(
        FieldEntry.objects.filter(
            event_key=event.pk, kind=Kind.STRIKE, standing=Standing.KEPT
        ).values_list("strikes", flat=True)
    )
    aside = [entry.uid for entry in entries if entry.standing == Standing.QUARANTINE]
    waiting = set(
        unanswered(FieldEntry.objects.filter(uid__in=aside)).values_list(
            "uid", flat=True
        )
    )
    answers = {
        one.answers: one
        for one in FieldEntry.objects.filter(answers__in=aside, standing=Standing.KEPT)
    }
    for entry in entries:
        entry.is_struck = entry.uid in struck  # type: ignore[attr-defined]
        entry.answer = answers.get(entry.uid)  # type: ignore[attr-defined]
        entry.is_waiting = entry.uid in waiting  # type: ignore[attr-defined]
    return entries
