"""What an event taught, as estimates to accept or refuse."""

from __future__ import annotations

from collections.abc import Iterator
from uuid import UUID

from hollow_kettle.debrief.causes.bridge import Game
from hollow_kettle.debrief.causes.words import lateness_of
from hollow_kettle.people.club import club_now
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.estimates import services as estimates
from hollow_kettle.shelf.models import Estimate
from powercore.debrief.attribute import Attribution, Likely
from powercore.debrief.learn import says_something, sd_of, summed
from powercore.limits import DRAWS


def propose(event: Event, game: Game, found: Attribution) -> None:
    """Propose what the causes of an event taught."""
    estimates.propose(event.pk, _found(event, game, found))


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
