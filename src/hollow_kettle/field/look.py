"""What is worth a look on the board, gravest first."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import timedelta
from uuid import UUID

from hollow_kettle.clock import told
from hollow_kettle.log.models import EXCLUSIVE_KINDS, Kind
from powercore.belief.draw import DrawFactor
from powercore.gear.faults import symptom_of

from .coming import Noted
from .faults import open_of, where_of
from .meters import of_meters
from .page import Board, LogState
from .physics import EventPhysics

#: A reading older than this is worth asking for anew. [min] Common practice, no source.
OLD_READING_MIN = 60
#: A source that ends so soon is worth knowing of. [min] Common practice, no source.
SOON_MIN = 60
#: Decisions lie within so many hours.
HORIZON_H = 8.0
#: A panel is worth a look below this share of what the sky lets expect, where that is
#: enough to compare. Common practice, no source.
LOW_PANEL, LEAST_PANEL_W = 0.6, 15.0
#: So many are shown: more nobody reads.
MOST = 5


def worth_a_look(
    physics: EventPhysics,
    board: Board,
    draws: Mapping[UUID, DrawFactor],
    holds: Mapping[UUID, str],
    log: LogState,
    noted: Sequence[Noted],
) -> list[str]:
    """At most five lines: what hurts first, then what is about to, then what is old."""
    wrong = list(_faults(physics, board, noted))
    found = [
        *wrong[:1],
        *_batteries(board, holds),
        *_bays(physics, board),
        *(of_meters(physics.event, board) if log.has_meters else ()),
        *_stations(board),
        *wrong[1:],
        *_restarts(physics, board),
        *_overdue(physics, board),
        *_soon(physics, board),
        *_panels(physics, board, noted),
        *_old(board),
        *_draws(board, draws),
    ]
    return found[:MOST]


def _batteries(board: Board, holds: Mapping[UUID, str]) -> Iterator[str]:
    for one in board.batteries:
        if one.is_tripped:
            yield (
                f"{one.tag} read 0 V: tripped? Unplug everything, wait, wake it up as "
                "its maker says. It need not be dead."
            )
    for one in board.batteries:
        if one.row is not None and one.row.contradicts:
            yield (
                f"{one.tag}: {one.row.contradicts}. Wrong tag, a joint, a dead cell? "
                "Read it again, unplugged."
            )
    for one in board.batteries:
        place = one.row.place if one.row is not None else None
        if one.is_held and place is not None and place.kind in EXCLUSIVE_KINDS:
            why = holds.get(one.uid, "see the shelf")
            yield f"{one.tag} at {place} is on hold: {why}. Take it out of use."


def _bays(physics: EventPhysics, board: Board) -> Iterator[str]:
    zone = physics.event.zone
    for bay in board.bays:
        if bay.battery is None:
            continue
        if bay.refusal:
            yield f"{bay.battery.tag} is on {bay.name}: {bay.refusal}. Take it off."
        if bay.is_alone:
            yield f"{bay.name} charges {bay.battery.tag}, and nobody watches the yard."
    off = {
        bay.name if bay.is_faulty else bay.source: bay.off_since
        for bay in board.bays
        if bay.off_since
    }
    for name, since in off.items():
        if since is not None:
            yield (
                f"{name} is off since {told(since, zone)}: nothing charges on "
                "it. Replan, or log it on again."
            )


def _faults(
    physics: EventPhysics, board: Board, noted: Sequence[Noted]
) -> Iterator[str]:
    """Faults of which nobody said yet what they were, dangers first."""
    for one in open_of(noted):
        symptom, on = symptom_of(one.symptom), where_of(board, one)
        at = told(one.at, physics.event.zone)
        first = f" {symptom.first}" if symptom.is_danger else ""
        yield f"{on}: {symptom.name} since {at}, not answered yet.{first}"


def _panels(
    physics: EventPhysics, board: Board, noted: Sequence[Noted]
) -> Iterator[str]:
    """Panels whose last reading is far below what the sky lets expect."""
    names = {line.station.pk: line.station.name for line in board.stations}
    latest = {
        one.station or one.source: one
        for one in noted
        if one.kind == Kind.PANEL and one.amps is not None
    }
    for owner, one in latest.items():
        volts = one.volts or physics.panels_v(str(owner))
        expected_w = physics.panels_w(str(owner), one.at)
        if expected_w < LEAST_PANEL_W or owner is None:
            continue
        given_w = (one.amps or 0.0) * volts
        if given_w < LOW_PANEL * expected_w:
            of = names.get(owner) or physics.source_name(str(owner))
            at = told(one.at, physics.event.zone)
            yield (
                f"Panels of {of} gave {given_w:.0f} W at {at} where "
                f"{expected_w:.0f} W were to be expected: shade, plug, tilt?"
            )


def _stations(board: Board) -> Iterator[str]:
    for line in board.stations:
        if line.is_open and line.battery is None:
            yield f"{line.station.name} is open, and no battery is logged there."


def _restarts(physics: EventPhysics, board: Board) -> Iterator[str]:
    """Chargers that may not have gone on by themselves when their source came back."""
    ended = physics.restarted_since(board.now - timedelta(hours=2))
    for bay in board.bays:
        since = ended.get(physics.problem.bays[bay.key].source)
        row = bay.battery.row if bay.battery is not None else None
        if since is None or row is None or not bay.has_power:
            continue
        if row.read_at is None or row.read_at < since:
            at = told(since, physics.event.zone)
            yield (
                f"{bay.source} is on again since {at}: see that {bay.name} "
                f"charges {bay.battery.tag if bay.battery else ''}."
            )


def _overdue(physics: EventPhysics, board: Board) -> Iterator[str]:
    """Walks that left and were not heard of again."""
    late = timedelta(minutes=physics.event.lateness_min)
    for one in board.moves:
        if one.left is not None and board.now > one.move.arrive + late:
            at = told(one.move.arrive, physics.event.zone)
            yield (
                f"{one.move.bring} left for {one.move.station.name}, due at "
                f"{at}, and nobody logged it there."
            )


def _soon(physics: EventPhysics, board: Board) -> Iterator[str]:
    """Sources about to end under a charge, and free bays that somebody could use."""
    event, problem = physics.event, physics.problem
    minute = event.minute_of(board.now)
    for bay in board.bays:
        if not bay.has_power:
            continue
        source = problem.sources[problem.bays[bay.key].source]
        ends = [w.end_min for w in source.windows if w.end_min > minute]
        end = min(ends, default=event.span_min)
        at = told(event.moment_of(end), event.zone)
        if (
            bay.battery is not None
            and end - minute <= SOON_MIN
            and end < event.span_min
        ):
            model = problem.charge_model(bay.key, str(bay.battery.uid))
            held = bay.battery.soc.typical * model.capacity
            then = model.after(held, (end - minute) / 60) / model.capacity
            yield (
                f"{bay.source} ends at {at}: {bay.battery.tag} on {bay.name} "
                f"will be at {then:.0%}."
            )
        if bay.battery is None and problem.is_watched(minute):
            waits = [
                one.tag
                for one in board.empty
                if problem.bay_refusal(bay.key, str(one.uid)) is None
            ]
            if waits:
                yield f"{bay.name} is free and has power: {waits[0]} waits, empty."


def _old(board: Board) -> Iterator[str]:
    for line in board.stations:
        age = line.age_min
        is_old = age is not None and age > OLD_READING_MIN
        if line.is_open and is_old and not line.station.is_unattended:
            yield (
                f"{line.station.name}: reading is {age:.0f} min old. Ask for amps and "
                "volts on receive."
            )


def _draws(board: Board, draws: Mapping[UUID, DrawFactor]) -> Iterator[str]:
    for line in board.stations:
        draw = draws[line.station.pk]
        if draw.is_news:
            turns = f"{draw.turns} turn{'s' if draw.turns > 1 else ''}"
            yield (
                f"{line.station.name} draws {draw.mean:.2f} × its plan (± "
                f"{draw.sd:.2f}, by {turns}): a replan counts that."
            )


def ask_next(board: Board) -> str:
    """
    Which station to ask for which reading: where not knowing matters most.

    Where the next decision, whether what is brought comes in time, lies within the
    band of what is believed; of these, where the band is widest.
    """
    best, width_h = None, 0.25
    for line in board.stations:
        left = line.reserve
        if not line.is_open or left is None or left.bad_h is None or line.is_tripped:
            continue
        if line.station.is_unattended:
            continue  # nobody there answers
        good_h = HORIZON_H if left.good_h is None else min(left.good_h, HORIZON_H)
        needed_h = HORIZON_H / 2
        if line.move is not None:
            needed_h = max(0.0, (line.move.arrive - board.now).total_seconds() / 3600)
        is_open_question = left.bad_h < needed_h < good_h
        if is_open_question and good_h - left.bad_h > width_h:
            best, width_h = line, good_h - left.bad_h
    if best is None or best.battery is None:
        return ""
    what = "amps and volts on receive"
    if "counter" in best.battery.soc.evidence:
        what = "what its counter shows"
    elif "gauge" in best.battery.soc.evidence:
        what = "its gauge"
    tag = best.battery.tag
    return f"Ask {best.station.name} for {what} of {tag}: it would decide most."
