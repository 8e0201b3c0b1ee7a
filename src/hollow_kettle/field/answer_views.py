"""What waits or contradicts in a log, and what somebody says of it."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.people.access import access_of, actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.seen import wait_for

from . import queries, services
from .conflicts import questions, settle
from .forms import EntryForm, StrikeForm
from .moved import WhatMoved, would_move
from .noting import Sending, note_by_form
from .views import is_closed, tell
from .whats import FORMS, WHAT_OF, initial_of
from .words import names_of, words_of


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def entry_answer(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Use an entry that waits, as it was meant; or leave it out, which is a strike."""
    wait_for(request, Event, uid)
    event = event_or_404(request, uid)
    entry = get_object_or_404(FieldEntry, pk=pk, event_key=event.pk)
    if not queries.unanswered(FieldEntry.objects.filter(pk=pk)).exists():
        messages.warning(request, "That entry does not wait any more.")
        return redirect("field:log_list", event.pk)
    what = WHAT_OF.get(entry.kind)
    form = reason = None
    if what is not None:
        form = FORMS[what][1](
            request.POST or None, event=event, initial=initial_of(entry, event)
        )
        reason = StrikeForm(request.POST or None)
        if request.method == "POST" and form.is_valid() and reason.is_valid():
            because = reason.cleaned_data["because"]
            if _answered(request, event, what, form, entry, because):
                return redirect("field:log_list", event.pk)
    elif request.method == "POST" and _strike_answered(request, event, entry):
        return redirect("field:log_list", event.pk)
    is_wrong = request.method == "POST"
    tags = dict(Asset.objects.values_list("pk", "tag"))
    context = {
        "event": event,
        "entry": entry,
        "words": words_of(entry, tags, names_of(event)),
        "form": form,
        "reason": reason,
        "tags": event.batteries.order_by("tag"),
    }
    return render(
        request, "field/entry_answer.html", context, status=422 if is_wrong else 200
    )


def _strike_answered(request: HttpRequest, event: Event, entry: FieldEntry) -> bool:
    """Let a strike that waits strike, or leave it out; False without a reason."""
    reason = StrikeForm(request.POST)
    if not reason.is_valid():
        messages.error(request, "Say why; nothing was changed.")
        return False
    does = request.POST.get("do") == "use"
    services.note(
        event,
        Kind.STRIKE if does else Kind.NOTE,
        by=actor_of(request),
        at=event.last_moment,
        note=reason.cleaned_data["because"],
        answers=entry.uid,
        strikes=entry.strikes if does else None,
    )
    messages.success(request, "Struck." if does else "That strike does not count.")
    return True


def _answered(
    request: HttpRequest,
    event: Event,
    what: str,
    form: EntryForm,
    entry: FieldEntry,
    because: str,
) -> bool:
    """Note what an entry that waits was meant to say; False where it would wait too."""
    moved = WhatMoved(event, form.cleaned_data["taken"])
    with transaction.atomic():
        how = Sending(answers=entry.uid, raw={"because": because})
        receipt = note_by_form(access_of(request), event, what, form, how)
        is_kept = receipt is not None and receipt.standing == "kept"
        if not is_kept:
            transaction.set_rollback(True)
    if is_kept:
        messages.success(request, f"It counts as you said. {moved.words()}".strip())
    else:
        why = receipt.why if receipt is not None else "nothing was read"
        form.add_error(None, f"It would wait again: {why}.")
    return is_kept


@require_safe
@coordinator_only
def conflict_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Ask what contradicts, with what each answer would change."""
    event = event_or_404(request, uid)
    tags = dict(Asset.objects.values_list("pk", "tag"))
    asked = would_move(event, questions(event, tags), actor_of(request))
    return render(request, "field/conflicts.html", {"event": event, "asked": asked})


@require_POST
@coordinator_only
@transaction.atomic
def conflict_answer(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Settle a conflict by one of its answers."""
    wait_for(request, Event, uid)
    event = event_or_404(request, uid)
    sent = request.POST
    tags = dict(Asset.objects.values_list("pk", "tag"))
    asked = next(
        (
            one
            for one in questions(event, tags)
            if (str(one.entry), one.kind) == (sent.get("entry"), sent.get("kind"))
        ),
        None,
    )
    number = whole_number(sent.get("answer"))
    if asked is None or number is None or not 0 <= number < len(asked.answers):
        messages.warning(request, "That conflict is settled already.")
        return redirect("field:board", event.pk)
    answer = asked.answers[number]
    at = event.last_moment
    settle(event, asked, answer, by=actor_of(request), at=at)
    messages.success(request, f"Settled: {asked.asks} {answer.words}.")
    return redirect("field:board", event.pk)


@require_POST
def entry_strike(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Strike an entry: loggers their own, coordinators any."""
    event = event_or_404(request, uid)
    entry = get_object_or_404(FieldEntry, pk=pk, event_key=event.pk)
    access = access_of(request)
    actor = actor_of(request)
    if entry.kind == Kind.STRIKE or not (
        access.is_coordinator
        or (entry.actor_id == actor.pk and access.may_log_something(event.pk))
    ):
        raise PermissionDenied
    form = StrikeForm(request.POST)
    if form.is_valid():
        moved = WhatMoved(event, entry.effective_at)
        receipt = services.strike(
            event,
            entry,
            because=form.cleaned_data["because"],
            by=actor,
            at=event.last_moment,
        )
        if receipt.standing == "kept":
            more = " The debrief is worked out again." if is_closed(event) else ""
            messages.success(
                request, f"Struck: it stays visible but no longer counts.{more}"
            )
            if words := moved.words():
                messages.info(request, words)
        else:
            tell(request, event, receipt, "Strike")
    else:
        messages.error(request, "Say why you strike it; nothing was changed.")
    return redirect("field:log_list", event.pk)
