"""Pages on which people correct and complete shortfalls."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.clock import local
from hollow_kettle.debrief.history import History
from hollow_kettle.debrief.models import Photo, Shortfall
from hollow_kettle.exchange.answers import kept_answer
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event

from . import services
from .forms import PhotoForm, ShortfallForm, SplitForm
from .queries import Fall, Falls


@require_http_methods(["GET", "HEAD", "POST"])
@coordinator_only
def shortfall_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Enter a shortfall that the log does not have."""
    event = event_or_404(request, uid)
    return _edit(request, event, None)


@require_http_methods(["GET", "HEAD", "POST"])
@coordinator_only
def shortfall_edit(request: HttpRequest, uid: UUID, key: str) -> HttpResponse:
    """Say how a shortfall really was."""
    event = event_or_404(request, uid)
    return _edit(request, event, _fall_or_404(event, key))


def _edit(request: HttpRequest, event: Event, fall: Fall | None) -> HttpResponse:
    if request.method == "POST":
        form = ShortfallForm(request.POST, event=event)
        if form.is_valid():
            services.save(event, fall, by=actor_of(request), **form.cleaned_data)
            messages.success(request, "Kept. The causes are to be worked out again.")
            return redirect("debrief:event", event.pk)
    else:
        form = ShortfallForm(event=event, initial=_initial(event, fall))
    return _edit_page(request, event, fall, form)


def _edit_page(
    request: HttpRequest,
    event: Event,
    fall: Fall | None,
    form: ShortfallForm,
    split: SplitForm | None = None,
    photo: PhotoForm | None = None,
) -> HttpResponse:
    row = fall.row if fall else None
    context = {
        "event": event,
        "fall": fall,
        "form": form,
        "split_form": split or SplitForm(event=event),
        "photo_form": photo or PhotoForm(),
        "photos": row.photos.defer("content") if row else (),
    }
    is_wrong = any(one is not None and one.errors for one in (form, split, photo))
    return render(
        request, "debrief/shortfall_edit.html", context, status=422 if is_wrong else 200
    )


@require_POST
@coordinator_only
def shortfall_split(request: HttpRequest, uid: UUID, key: str) -> HttpResponse:
    """Cut a shortfall in two."""
    event = event_or_404(request, uid)
    fall = _fall_or_404(event, key)
    form = SplitForm(request.POST, event=event)
    if form.is_valid():
        try:
            services.split(
                event, fall, at=form.cleaned_data["at"], by=actor_of(request)
            )
        except ValidationError as error:
            form.add_error("at", error)
        else:
            messages.success(request, "It is two now.")
            return redirect("debrief:event", event.pk)
    whole = ShortfallForm(event=event, initial=_initial(event, fall))
    return _edit_page(request, event, fall, whole, form)


@require_POST
@coordinator_only
def photo_add(request: HttpRequest, uid: UUID, key: str) -> HttpResponse:
    """Keep a photo with a shortfall."""
    event = event_or_404(request, uid)
    fall = _fall_or_404(event, key)
    form = PhotoForm(request.POST, request.FILES)
    if form.is_valid():
        try:
            photo = services.add_photo(
                event, fall, by=actor_of(request), **form.cleaned_data
            )
        except ValidationError as error:
            form.add_error("file", error)
        else:
            messages.success(request, "The photo is kept with it.")
            return redirect("debrief:shortfall_edit", event.pk, photo.shortfall_id)
    whole = ShortfallForm(event=event, initial=_initial(event, fall))
    return _edit_page(request, event, fall, whole, photo=form)


@require_safe
def photo(request: HttpRequest, uid: UUID, photo_uid: UUID) -> HttpResponse:
    """Give a photo to look at; never to run."""
    event = event_or_404(request, uid)
    found = get_object_or_404(Photo, pk=photo_uid, shortfall__event=event)
    return kept_answer(bytes(found.content), "image/jpeg")


@require_POST
@coordinator_only
def photo_delete(request: HttpRequest, uid: UUID, photo_uid: UUID) -> HttpResponse:
    """Remove a photo."""
    event = event_or_404(request, uid)
    found = get_object_or_404(Photo, pk=photo_uid, shortfall__event=event)
    found.delete()
    messages.success(request, "The photo is removed.")
    return redirect("debrief:shortfall_edit", event.pk, found.shortfall_id)


@require_POST
@coordinator_only
def shortfall_drop(request: HttpRequest, uid: UUID, key: str) -> HttpResponse:
    """Say that a shortfall did not happen."""
    event = event_or_404(request, uid)
    services.drop(event, _fall_or_404(event, key), by=actor_of(request))
    messages.success(request, "It counts no longer; it can be brought back below.")
    return redirect("debrief:event", event.pk)


@require_POST
@coordinator_only
def shortfall_back(request: HttpRequest, uid: UUID, pk: UUID) -> HttpResponse:
    """Count what was found again."""
    event = event_or_404(request, uid)
    dropped = Shortfall.objects.filter(event=event, is_dropped=True)
    services.bring_back(get_object_or_404(dropped, pk=pk))
    messages.success(request, "It counts again, as it was found.")
    return redirect("debrief:event", event.pk)


@require_POST
@coordinator_only
def shortfall_merge(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Make one shortfall of those that were ticked."""
    event = event_or_404(request, uid)
    falls = _falls(event)
    chosen = [falls.of_key(key) for key in request.POST.getlist("key")]
    try:
        services.merge(
            event, [one for one in chosen if one is not None], by=actor_of(request)
        )
    except ValidationError as error:
        messages.error(request, error.messages[0])
    else:
        messages.success(request, "They are one now.")
    return redirect("debrief:event", event.pk)


def _falls(event: Event) -> Falls:
    return Falls(History(event, event.clock.now()))


def _fall_or_404(event: Event, key: str) -> Fall:
    found = _falls(event).of_key(key)
    if found is None:
        raise Http404
    return found


def _initial(event: Event, fall: Fall | None) -> dict[str, Any]:
    if fall is None:
        start, end = event.starts_at, event.starts_at
    else:
        start, end = fall.start, fall.end
    found: dict[str, Any] = {
        "starts": local(start, event.zone).replace(tzinfo=None),
        "ends": local(end, event.zone).replace(tzinfo=None) if fall else None,
    }
    if fall is not None:
        found |= {"station": fall.station, "what": fall.what, "note": fall.note}
        found["why"] = fall.why
        if fall.row is not None:
            found |= {"people": fall.row.people, "done": fall.row.done}
    return found
