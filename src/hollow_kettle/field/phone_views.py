"""The phone's door: entries in batches, and what lets its page start offline."""

from __future__ import annotations

from uuid import UUID

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.template.loader import render_to_string
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.people.access import access_of
from hollow_kettle.plan.access import event_to_log

from . import phone


@require_POST
def entries_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take a batch of entries; answered item by item."""
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
        }
        for one in phone.take(event, batch, access_of(request))
    ]
    return JsonResponse({"answers": answers})


@require_safe
def worker_script(request: HttpRequest) -> HttpResponse:
    """The script that keeps the phone's page at hand where the browser allows it."""
    script = render_to_string("field/worker.js", request=request)
    answer = HttpResponse(script, content_type="text/javascript")
    answer["Service-Worker-Allowed"] = "/field/"
    return answer
