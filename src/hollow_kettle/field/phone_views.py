"""The phone's door: entries in batches, and what lets its page start offline."""

from __future__ import annotations

from uuid import UUID

from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import redirect_to_login
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404
from django.template.loader import render_to_string
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.people.access import Access, access_of, ended_guest_of
from hollow_kettle.plan.access import event_to_log
from hollow_kettle.plan.models import Event

from . import phone
from .forms import EntryForm


@login_not_required
@require_POST
def entries_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take a batch of entries; answered item by item."""
    sender, aside = access_of(request), ""
    if (ended := ended_guest_of(request)) is not None:
        # Nothing that somebody saw is refused: it waits for a coordinator.
        sender, aside = Access(ended.actor), "the pass has ended"
        own = Event.objects.filter(pk=ended.event_pass.event_key)
        event = get_object_or_404(own, pk=uid)
    elif sender.actor is None:
        return redirect_to_login(request.get_full_path())
    else:
        event = event_to_log(request, uid)
    try:
        batch = phone.read_batch(request.body)
    except phone.NotABatch as error:
        return JsonResponse({"error": str(error)}, status=422)
    answers = [
        {
            "key": one.key,
            "kept": one.is_kept,
            "words": one.words,
            "form": "" if one.asks is None else str(one.asks),
            "stop": "" if one.asks is None else _stop(one.asks),
        }
        for one in phone.take(event, batch, sender, aside=aside)
    ]
    return JsonResponse({"answers": answers})


def _stop(form: EntryForm) -> str:
    if not form.stops:
        return ""
    return render_to_string("field/_stop.html", {"form": form})


@require_safe
def worker_script(request: HttpRequest) -> HttpResponse:
    """The script that keeps the phone's page at hand where the browser allows it."""
    script = render_to_string("field/worker.js", request=request)
    answer = HttpResponse(script, content_type="text/javascript")
    answer["Service-Worker-Allowed"] = "/field/"
    return answer
