"""What an event taught, as estimates to accept or refuse."""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from hollow_kettle.debrief.causes.bridge import Game
from hollow_kettle.debrief.causes.words import lateness_of
from hollow_kettle.debrief.history import History
from hollow_kettle.people.club import club_now
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.estimates import services as estimates
from hollow_kettle.shelf.models import Estimate
from powercore.debrief.attribute import Attribution, Likely
from powercore.debrief.learn import says_something, sd_of, summed
from powercore.limits import DRAWS

from .measured import resistances_of, walks_of

#: A walk is learned from so many on, and where it is off its plan by so much. [min]
LEAST_WALKS, WALK_OFF_MIN = 2, 2.0


def propose(history: History, game: Game, found: Attribution) -> None:
    """Propose what the causes of an event taught, and what its log measured."""
    event = history.event
    every = (*_found(event, game, found), *_measured(history, game))
    estimates.propose(event.pk, every)


def _measured(history: History, game: Game) -> Iterator[Estimate]:
    """Walks and resistances, as they were noted."""
    event = history.event
    for station, minutes in walks_of(history).items():
        plan = game.problem.stations.get(str(station))
        if plan is None or len(minutes) < LEAST_WALKS:
            continue
        mean, sd = summed(minutes)
        if abs(mean - plan.walk_min) < WALK_OFF_MIN:
            continue
        yield Estimate(
            subject=estimates.key_of(plan.name),
            quantity=Estimate.WALK,
            mean=mean,
            sd=sd,
            n=len(minutes),
            origin=event.name,
            name=plan.name,
            event_key=event.pk,
            evidence=f"planned with {plan.walk_min} min",
            made_at=club_now(),
        )
    for battery, (ohm, sd, count) in resistances_of(history).items():
        known = game.problem.batteries.get(str(battery))
        if known is None or known.members or sd > ohm / 4:
            continue
        yield Estimate(
            subject=battery,
            quantity=Estimate.RESISTANCE,
            mean=1000 * ohm,
            sd=1000 * sd,
            n=count,
            origin=event.name,
            name=known.tag,
            event_key=event.pk,
            evidence=f"planned with {1000 * known.pack.resistance_ohm:.0f} mΩ",
            made_at=club_now(),
        )


def _found(event: Event, game: Game, found: Attribution) -> Iterator[Estimate]:
    for key, likely in found.draws.items():
        station = game.problem.stations[key]
        turns = sum(turn.station == key for turn in game.separated.turns)
        planned = station.draws
        if turns and says_something(likely):
            yield _estimate(
                event,
                estimates.key_of(station.name),
                Estimate.DRAW,
                Likely(
                    low=planned * likely.low,
                    typical=min(DRAWS.high, planned * likely.typical),
                    high=planned * likely.high,
                ),
                turns,
                name=station.name,
                evidence=f"planned with {planned:.2f} times its list",
            )
    for key, likely in found.holds.items():
        turns = sum(turn.battery == key for turn in game.separated.turns)
        battery = game.problem.batteries[key]
        trusted = battery.pack.trusted_ah
        if turns and says_something(likely) and not battery.members:
            yield _estimate(
                event,
                UUID(key),
                Estimate.CAPACITY,
                Likely(
                    low=trusted * likely.low,
                    typical=trusted * likely.typical,
                    high=trusted * likely.high,
                ),
                turns,
                name=battery.tag,
                evidence=f"trusted with {trusted:.1f} Ah",
            )
    for key, likely in found.bays.items():
        charges = game.charges.get(key, 0)
        if charges > 1 and says_something(likely):
            bay = game.problem.bays[key]
            yield _estimate(
                event,
                estimates.key_of(bay.name),
                Estimate.BAY,
                likely,
                charges,
                name=bay.name,
                evidence=f"planned with {bay.max_w:.0f} W",
            )
    late = lateness_of(game)
    if len(late) > 1:
        mean, sd = summed(late)
        yield Estimate(
            subject=estimates.key_of(estimates.WALKS),
            quantity=Estimate.LATENESS,
            mean=max(0.0, mean),
            sd=sd,
            n=len(late),
            origin=event.name,
            name="walks",
            event_key=event.pk,
            evidence=f"planned with {event.lateness_min} min",
            made_at=club_now(),
        )


def _estimate(
    event: Event,
    subject: UUID,
    quantity: str,
    likely: Likely,
    turns: int,
    **words: str,
) -> Estimate:
    return Estimate(
        subject=subject,
        quantity=quantity,
        mean=likely.typical,
        sd=sd_of(likely),
        n=turns,
        origin=event.name,
        event_key=event.pk,
        made_at=club_now(),
        **words,
    )
