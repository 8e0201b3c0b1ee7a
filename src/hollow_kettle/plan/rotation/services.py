"""Rotations: kept, published, and looked for in the background."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import Max
from procrastinate.contrib.django import app

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.bridge.rotations import problem_of, with_pins
from hollow_kettle.plan.bridge.scenario import snapshot_of
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Event, Leg, Rotation, Search, Trial
from powercore.event.plans import Pin as CorePin
from powercore.event.problem import YARD, Problem
from powercore.event.problem import Leg as CoreLeg
from powercore.rotation.objective import thin_min
from powercore.rotation.pins import PinRefused
from powercore.rotation.polish.rounds import mended
from powercore.rotation.verify import verify

#: A search whose worker has said nothing for so long is taken up again.
SILENT = timedelta(seconds=45)
#: How much more use than planned a search may be asked to stand. [%]
MARGINS, DEFAULT_MARGIN = (0, 20, 35), 20
#: Moves that come so soon are not changed unasked.
COMING = timedelta(hours=1)


@transaction.atomic
def keep(rotation: Rotation, problem: Problem, legs: Sequence[CoreLeg]) -> Rotation:
    """
    Save a rotation with these legs instead of any it had; give it a number.

    Raises
    ------
    ValidationError
        If they break a rule.
    """
    report = verify(problem, legs)
    if not report.is_valid:
        first = report.broken[0]
        raise ValidationError(f"The plan breaks {first.rule}: {first.words}.")
    outcome = report.outcome
    if rotation.number is None:
        # one at a time gives numbers
        event = Event.objects.select_for_update().get(pk=rotation.event_id)
        last = event.rotations.aggregate(last=Max("number"))["last"] or 0
        rotation.number = last + 1
    rotation.walks = outcome.walks
    rotation.night_walks = outcome.night_walks
    rotation.bay_changes = outcome.bay_changes
    rotation.low_min = sum(problem.lowered_min.values())
    rotation.engine_h = outcome.engine_min / 60
    rotation.fuel_l = outcome.fuel_l
    rotation.thin_min = thin_min(problem, legs, outcome)
    rotation.off_air_min = outcome.total_min("off_air")
    rotation.reserve_min = outcome.total_min("reserve")
    rotation.unserved_wh = outcome.unserved_wh
    rotation.save()
    rotation.legs.all().delete()
    Trial.objects.filter(rotation=rotation).delete()
    Leg.objects.bulk_create(
        Leg(
            rotation=rotation,
            kind=leg.kind,
            battery=UUID(leg.battery),
            place=UUID(leg.place) if leg.place not in ("", YARD) else None,
            crew=leg.crew,
            round=leg.round,
            start_min=leg.start_min + rotation.from_min,
            end_min=leg.end_min + rotation.from_min,
            start_soc=start,
            end_soc=end,
        )
        for leg, (start, end) in zip(legs, outcome.leg_soc, strict=True)
    )
    return rotation


def with_pins_kept(rotation: Rotation, *, by: Actor) -> Rotation:
    """
    Return a rotation made for the event's pins as they stand: this, or a new draft.

    Raises
    ------
    ValidationError
        If a pin can't be kept.
    """
    frozen, before = problem_of(rotation)
    scenario = with_pins(rotation.event, frozen.scenario, rotation.from_min)
    if scenario.pins == frozen.scenario.pins:
        return rotation
    problem = Problem(scenario)
    try:
        legs = mended(problem, before, keep_until_min=kept_until_min(rotation))
    except PinRefused as refused:
        raise ValidationError(str(refused)) from refused
    snapshot = snapshot_of(rotation.event, scenario)
    if rotation.state == Rotation.State.DRAFT and legs == tuple(before):
        rotation.snapshot = snapshot
        return keep(rotation, problem, legs)
    draft = Rotation(
        event=rotation.event,
        snapshot=snapshot,
        made_by=by,
        from_min=rotation.from_min,
        change="with all pins kept",
        changed_from=rotation,
    )
    return keep(draft, problem, legs)


@transaction.atomic
def publish(
    rotation: Rotation, *, by: Actor | None = None, over: int | None = None
) -> None:
    """
    Make a rotation the one that field, slips and debrief use.

    Parameters
    ----------
    over : int, optional
        The number of the published one that whoever publishes saw; 0: none was.

    Raises
    ------
    ValidationError
        If it was taken back meanwhile, or somebody else published another one.
    """
    event = Event.objects.select_for_update().get(pk=rotation.event_id)
    before = event.rotations.filter(state=Rotation.State.PUBLISHED).first()
    if over is not None and over != (before.number if before else 0):
        who = event.change_notes.filter(words__endswith="published").first()
        name = who.made_by if who is not None and who.made_by else "Somebody"
        raise ValidationError(
            f"{name} published rotation {before.number if before else '?'} meanwhile. "
            f"Compare the two, then publish {rotation.number} again if you still want "
            "it."
        )
    rotation.refresh_from_db(fields=["state"])
    if rotation.state == Rotation.State.TAKEN_BACK:
        raise ValidationError(
            f"Draft {rotation.number} was undone meanwhile; publish another."
        )
    event.rotations.filter(state=Rotation.State.PUBLISHED).update(
        state=Rotation.State.SUPERSEDED
    )
    rotation.state = Rotation.State.PUBLISHED
    rotation.published_at = real_now()
    rotation.save(update_fields=["state", "published_at"])
    note(event, by, f"rotation {rotation.number} published")


def hand_over(task: str, **ids: int) -> None:
    """
    Give the worker one of `plan.tasks`, by its name: those import this room.

    Inside a transaction it is there only once that is committed.
    """
    app.configure_task(f"hollow_kettle.plan.tasks.{task}", allow_unknown=False).defer(
        **ids
    )


def try_futures(rotation: Rotation) -> Trial:
    """Have a rotation tried in many futures; asked twice, it is done once."""
    with transaction.atomic():
        Trial.objects.filter(rotation=rotation, has_failed=True).delete()
        made, is_new = Trial.objects.get_or_create(rotation=rotation)
        if is_new:
            hand_over("trial", trial_id=made.pk)
    return made


def ask_for_cures(rotation: Rotation) -> None:
    """Have worked out what would help a rotation that was tried in many futures."""
    with transaction.atomic():
        trials = Trial.objects.filter(rotation=rotation).exclude(content=None)
        states = (Trial.CuresState.NOT_ASKED, Trial.CuresState.FAILED)
        asked = trials.filter(cures_state__in=states)
        for pk in asked.select_for_update().values_list("pk", flat=True):
            Trial.objects.filter(pk=pk).update(cures_state=Trial.CuresState.ASKED)
            hand_over("cures", trial_id=pk)


# --- looking for a better one -------------------------------------------------------


def look_for_better(
    rotation: Rotation,
    *,
    by: Actor,
    margin_pct: int = DEFAULT_MARGIN,
    by_futures: bool = False,
    may_lower: bool = False,
) -> Search:
    """
    Let the worker look for a better rotation than this one.

    Parameters
    ----------
    margin_pct : int
        How much more use than planned it should stand: one of `MARGINS`. [%]
    by_futures : bool
        Whether what it risks in futures says what is better, instead of a margin.
    may_lower : bool
        Whether it may choose low power, where that keeps a station on the air.

    Raises
    ------
    ValidationError
        If one is being looked for already: one search an event at a time; or if a
        pin can't be kept.
    """
    rotation = with_pins_kept(rotation, by=by)

    try:
        with transaction.atomic():
            made = Search.objects.create(
                event=rotation.event,
                rotation=rotation,
                asked_by=by,
                margin_pct=0 if by_futures else margin_pct,
                by_futures=by_futures,
                may_lower=may_lower,
            )
            hand_over("search", search_id=made.pk)
    except IntegrityError as error:
        raise ValidationError(
            "A better plan is being looked for already; stop that search first."
        ) from error
    return made


def kept_until_min(rotation: Rotation, ahead: timedelta = COMING) -> int:
    """Up to when a search leaves a rotation alone: the coming hour, once it runs."""
    event = rotation.event
    if event.state != Event.State.RUNNING:
        return 0
    until = round(event.minute_of(event.clock.now() + ahead))
    return max(0, until - rotation.from_min)


def stop_looking(search: Search) -> None:
    """Ask a search to stop; it keeps its best. One that never began ends at once."""
    Search.objects.filter(pk=search.pk).update(is_stop_asked=True)
    Search.objects.filter(pk=search.pk, state=Search.State.WAITING).update(
        state=Search.State.STOPPED, ended_at=real_now()
    )


def take_up_silent() -> int:
    """Hand searches whose worker fell silent to another; how many there were."""
    silent = Search.objects.filter(
        state=Search.State.RUNNING, heard_at__lt=real_now() - SILENT
    )
    count = 0
    for one in silent:
        Search.objects.filter(pk=one.pk).update(
            state=Search.State.WAITING, heard_at=None
        )
        hand_over("search", search_id=one.pk)
        count += 1
    return count


def keep_better(
    search: Search, legs: Sequence[CoreLeg], steps: tuple[CorePin, ...] = ()
) -> bool:
    """
    Keep what a search found as its draft; False when the draft is no draft any more.

    `steps` are when it has stations on low power by its own choice.

    What comes from the child process is verified here once more.
    """
    start = search.rotation
    problem = problem_of_snapshot(start.snapshot).with_steps(steps)
    with transaction.atomic():
        event = Event.objects.select_for_update().get(pk=search.event_id)
        best = search.best
        if best is None:
            best = Rotation(
                event=event,
                made_by=search.asked_by,
                from_min=start.from_min,
            )
        else:
            best.refresh_from_db()
            if best.state != Rotation.State.DRAFT:
                return False
        best.snapshot = snapshot_of(event, problem.scenario)
        search.best = keep(best, problem, legs)
        search.save(update_fields=["best"])
    return True
