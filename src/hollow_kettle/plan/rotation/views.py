"""The rotation board's pages: parse, call, render."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.clock import local, real_now
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.bridge.batteries import unnoted
from hollow_kettle.plan.bridge.chosen import current_rotation, published
from hollow_kettle.plan.drawing import span_of
from hollow_kettle.plan.ledger.stock import stock_of
from hollow_kettle.plan.models import Event, Leg, Rotation, Search
from hollow_kettle.plan.yard.queries import unwatched_bays
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.tried import tried
from powercore.event.problem import CHARGE, SERVE
from powercore.limits import LEAD_MIN, USUAL_LEAD_MIN
from powercore.rotation.timetable import PATIENCE

from . import changes, forms, making, queries
from . import services as rotations
from .following import moves_now
from .moves import moves_of, warnings_of
from .pages import board
from .pages.binds import binds_page
from .pages.change import change_page, pin_rows, step_rows
from .pages.compare import compare_page
from .pages.futures import stress_page
from .pages.why import charge_page, why_page
from .replan import against_published, newcomers


@require_safe
def rotation(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the rotation board of the rotation that counts."""
    event = event_or_404(request, uid)
    return _board_page(request, event, current_rotation(event))


@require_safe
def rotation_detail(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Show the rotation board of one draft or past rotation."""
    event = event_or_404(request, uid)
    return _board_page(
        request, event, get_object_or_404(event.rotations, number=number)
    )


def _board_page(
    request: HttpRequest, event: Event, found: Rotation | None, **more: Any
) -> HttpResponse:
    shown = published(event)
    context: dict[str, Any] = {
        "event": event,
        "rotation": found,
        "published_number": shown.number if shown else 0,
    }
    if event.state == Event.State.RUNNING:
        context["unnoted"] = unnoted(event)
    if found is not None:
        now = event.clock.now() if event.state == Event.State.RUNNING else None
        tags = queries.tags_of(found)
        holds = queries.holds_of(event)
        every = moves_of(event, found, tags, holds=holds)
        pins = pin_rows(event, found)
        steps = step_rows(event, found)
        follows = moves_now(event, found, every, now)
        coming = [one.move for one in follows if one.is_open]
        drawn = board.board_of(event, found, now, pins=[*pins, *steps])
        context |= {
            "board": drawn,
            "now": now,
            "moves": coming[:5],
            "later": len(coming) - 5,
            "suns": queries.suns_of(found),
            "draws": queries.draw_lines(found),
            "every_move": follows,
            "warnings": warnings_of(event, found, holds, now),
            "unwatched": unwatched_bays(event),
            "others": event.rotations.exclude(pk=found.pk)[:6],
            **search_context(queries.search_of(event)),
            **further_context(found),
            "binds": binds_page(event, found, drawn.outcome),
            "stress": stress_page(event, found),
            "stock": stock_of(event, found, now),
            "margins": rotations.MARGINS,
            "default_margin": rotations.DEFAULT_MARGIN,
            "pins": pins,
            "steps": steps,
            "pin_form": forms.PinForm(event=event, initial=_open_span(event, now)),
            **more,
        }
    return render(request, "plan/rotation.html", context)


def search_context(found: Search | None) -> dict[str, Any]:
    """A search, with its best against what it began with."""
    context: dict[str, Any] = {"search": found, "patience": PATIENCE}
    if found is not None and found.best is not None:
        figures = queries.figures_of(found.rotation, found.best)
        if found.risk_start_min is not None and found.risk_min is not None:
            risks = round(found.risk_start_min, 1), round(found.risk_min, 1)
            figures.insert(0, ("risk in futures, min", *risks))
        if not found.is_active:
            figures += queries.figures_when_worse(found)
        context["search_figures"] = figures
    return context


@require_safe
def rotation_compare(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show two rotations of an event against each other."""
    event = event_or_404(request, uid)
    drafts = event.rotations.exclude(state=Rotation.State.TAKEN_BACK)
    chosen = [_chosen(drafts, request.GET.get(name, "")) for name in ("one", "other")]
    context: dict[str, Any] = {"event": event, "rotations": drafts}
    one = chosen[0] or current_rotation(event)
    other = chosen[1] or (drafts.exclude(pk=one.pk).first() if one else None)
    if one is not None and other is not None:
        context["page"] = compare_page(event, one, other)
    return render(request, "plan/rotation_compare.html", context)


def _chosen(drafts: QuerySet[Rotation], number: str) -> Rotation | None:
    return drafts.filter(number=whole_number(number) or 0).first()


def _open_span(event: Event, now: datetime | None) -> dict[str, Any]:
    """What a pin may be for: the event, from now on while it runs."""
    span = span_of(event)
    if now is not None:
        span["starts"] = local(now, event.zone).replace(tzinfo=None)
    return span


@require_POST
@coordinator_only
def rotation_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Make a rotation: for the whole event, or from now on while it runs."""
    event = event_or_404(request, uid)
    at = event.clock.now() if event.state == Event.State.RUNNING else None
    said = request.POST.get("lead_min", str(USUAL_LEAD_MIN)).strip()
    lead = whole_number(said)
    if lead is None or lead > LEAD_MIN.high:
        messages.error(
            request,
            f"Crews set off in 0 to {LEAD_MIN.high} whole minutes, not “{said[:20]}”. "
            "No plan was made.",
        )
        return redirect("plan:rotation", event.pk)
    try:
        made = making.make_rotation(event, by=actor_of(request), at=at, lead_min=lead)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect("plan:rotation", event.pk)
    messages.success(request, f"Draft {made.number} is complete and breaks no rule.")
    if at is not None and (said := against_published(event, made)):
        messages.success(request, said)
    for words in newcomers(event, made) if at is not None else ():
        messages.info(request, words)
    if at is not None and (missing := unnoted(event)):
        messages.warning(request, f"Nobody noted here, and counted {missing}.")
    for words in made.lapsed:
        messages.warning(request, words)
    return redirect("plan:rotation_detail", event.pk, made.number)


@require_safe
def rotation_further(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Send whether a plan made at once is gone on from; once it is, load anew."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    context = {"event": event, "rotation": found, **further_context(found)}
    answer = render(request, "plan/_further.html", context)
    if not context["is_worked_on"] and request.headers.get("HX-Request"):
        answer["HX-Refresh"] = "true"
    return answer


def further_context(found: Rotation) -> dict[str, Any]:
    """Whether the worker goes on from a plan, and what it has bettered."""
    is_asked = found.further == Rotation.Further.ASKED
    return {
        "is_worked_on": is_asked and real_now() - found.made_at < making.HOPED,
        "bettered": queries.bettered(found),
        "further_draft": found.changed_to.filter(
            change=making.FURTHER, state=Rotation.State.DRAFT
        ).first(),
    }


@require_POST
@coordinator_only
def rotation_publish(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Make a draft the rotation that everybody works by."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    try:
        over = whole_number(request.POST.get("over", ""))
        rotations.publish(found, by=actor_of(request), over=over)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    else:
        messages.success(
            request, f"Rotation {number} is published; field and debrief use it."
        )
    return redirect("plan:rotation", event.pk)


@require_POST
@coordinator_only
def search_add(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Look for a better rotation than this one, in the background."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    asked = request.POST.get("margin", "")
    margins = {str(margin): margin for margin in rotations.MARGINS}
    margin = margins.get(asked, rotations.DEFAULT_MARGIN)
    try:
        rotations.look_for_better(
            found,
            by=actor_of(request),
            margin_pct=margin,
            by_futures=asked == "futures",
            may_lower="may_lower" in request.POST,
        )
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    return redirect("plan:rotation_detail", event.pk, number)


@require_safe
def search_detail(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Send how far a search is; when it has ended, have the page load anew."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.searches.select_related("rotation", "best"), pk=pk)
    context = {"event": event, **search_context(found)}
    answer = render(request, "plan/_search.html", context)
    if not found.is_active and request.headers.get("HX-Request"):
        answer["HX-Refresh"] = "true"
    return answer


@require_POST
@coordinator_only
def search_stop(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Stop a search; it keeps the best that it found."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.searches.select_related("rotation"), pk=pk)
    rotations.stop_looking(found)
    return redirect("plan:rotation_detail", event.pk, found.rotation.number)


@require_POST
@coordinator_only
def trial_add(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Have a rotation tried in many futures, in the background."""
    event = event_or_404(request, uid)
    rotations.try_futures(get_object_or_404(event.rotations, number=number))
    return redirect("plan:rotation_detail", event.pk, number)


@require_POST
@coordinator_only
def cures_add(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Have worked out what would help a rotation."""
    event = event_or_404(request, uid)
    rotations.ask_for_cures(get_object_or_404(event.rotations, number=number))
    return redirect("plan:rotation_detail", event.pk, number)


@require_safe
def trial_detail(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Send what is known of a rotation in many futures."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    context = {
        "event": event,
        "rotation": found,
        "stress": stress_page(event, found),
    }
    return render(request, "plan/_stress.html", context)


@require_safe
def leg_why(request: HttpRequest, uid: UUID, number: int, pk: int) -> HttpResponse:
    """Send why a battery serves a station from a minute on, or charges on a bay."""
    event = event_or_404(request, uid)
    legs = Leg.objects.filter(rotation__event=event, rotation__number=number)
    legs = legs.select_related("rotation__snapshot").filter(kind__in=(SERVE, CHARGE))
    leg = get_object_or_404(legs, pk=pk)
    is_charge = leg.kind == CHARGE
    context = {
        "event": event,
        "why": None if is_charge else why_page(event, leg),
        "charge": charge_page(event, leg) if is_charge else None,
        "bays": event.bays.exclude(pk=str(leg.place)),
        "leg": leg,
        "has_left": changes.has_left(leg),
        "batteries": [
            unit for unit in event.unit_tags.items() if unit[0] != leg.battery
        ],
    }
    return render(request, "plan/_why.html", context)


# --- changes by hand ----------------------------------------------------------------


@require_POST
@coordinator_only
def change_try(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Say what a change of a rotation would cost; nothing is kept."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    form, proposal = _proposed(request, found)
    change = change_page(event, proposal) if proposal else None
    asked = [(k, v) for k, v in request.POST.items() if k != "csrfmiddlewaretoken"]
    context: dict[str, Any] = {
        "change": change,
        "change_errors": [] if proposal else _errors(form),
        "change_form": form,
        "asked": asked,
    }
    status = 200 if proposal else 422
    if request.headers.get("HX-Request"):
        context |= {"event": event, "rotation": found}
        return render(request, "plan/_change.html", context, status=status)
    answer = _board_page(request, event, found, **context)
    answer.status_code = status
    return answer


@require_POST
@coordinator_only
def change_keep(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Keep a change as a new draft, or a pin that the rotation keeps anyway."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    form, proposal = _proposed(request, found)
    if proposal is None:
        messages.error(request, " ".join(_errors(form)))
        return redirect("plan:rotation_detail", event.pk, number)
    draft = changes.keep_change(proposal, by=actor_of(request))
    if draft.pk == found.pk:
        messages.success(request, f"Pinned: {proposal.words}.")
    else:
        messages.success(
            request, f"Draft {draft.number} is rotation {number} with: {draft.change}."
        )
    return redirect("plan:rotation_detail", event.pk, draft.number)


def _errors(form: forms.StayForm | forms.PinForm) -> list[str]:
    """What is wrong with a form, each with its field's name."""
    return [
        f"{form[name].label}: {word}" if name in form.fields else str(word)
        for name, words in form.errors.items()
        for word in words
    ]


def _proposed(
    request: HttpRequest, rotation: Rotation
) -> tuple[forms.StayForm | forms.PinForm, changes.Proposal | None]:
    """A change as it was sent, tried; with what refused it on its form."""
    form: forms.StayForm | forms.PinForm
    if "kind" in request.POST:
        form = forms.PinForm(request.POST, event=rotation.event)
    else:
        form = forms.StayForm(request.POST, rotation=rotation)
    if not form.is_valid():
        return form, None
    return form, tried(form, changes.try_change, rotation, form.asked())


@require_POST
@coordinator_only
def rotation_take_back(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Take a change back, with the pin that made it."""
    event = event_or_404(request, uid)
    draft = get_object_or_404(event.rotations, number=number)
    try:
        before = changes.take_back(draft)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect("plan:rotation_detail", event.pk, number)
    messages.success(request, f"Undone: {draft.change}.")
    return redirect("plan:rotation_detail", event.pk, before.number)


@require_POST
@coordinator_only
def pin_lift(request: HttpRequest, uid: UUID, number: int, pk: int) -> HttpResponse:
    """Lift a pin, or pin it again."""
    event = event_or_404(request, uid)
    pin = get_object_or_404(event.pins, pk=pk)
    is_lifted = pin.lifted_at is None
    changes.set_lifted(pin, is_lifted=is_lifted, by=actor_of(request))
    return redirect("plan:rotation_detail", event.pk, number)
