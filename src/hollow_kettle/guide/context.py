"""Where `?` of a page leads: to the part of the guide that tells of it."""

from __future__ import annotations

from django.http import HttpRequest
from django.urls import reverse
from django.utils.functional import SimpleLazyObject

#: Room, or room and the beginning of a page's name, to page and section; longest wins.
PLACES = {
    "shelf": ("first-event", "your-batteries"),
    "plan": ("first-event", "the-event"),
    "plan:station": ("first-event", "the-stations"),
    "plan:yard": ("first-event", "the-yard"),
    "plan:source": ("first-event", "the-yard"),
    "plan:bay": ("first-event", "the-yard"),
    "plan:crew": ("first-event", "the-yard"),
    "plan:rotation": ("first-event", "the-plan"),
    "plan:duties": ("first-event", "who-else"),
    "plan:pass": ("first-event", "who-else"),
    "people": ("first-event", "who-else"),
    "people:sign": ("when-things-break", "somebody-cant-get-in"),
    "field": ("night", "what-you-hear"),
    "field:log": ("night", "what-was-wrong"),
    "field:conflict": ("night", "what-was-wrong"),
    "field:handover": ("night", "somebody-elses-watch"),
    "field:home": ("night", "it-begins"),
    "field:set_up": ("night", "it-begins"),
    "field:tear_down": ("day-after", "everything-comes-home"),
    "debrief": ("day-after", "what-happened"),
    "debrief:causes": ("day-after", "why"),
    "debrief:action": ("day-after", "what-comes-of-it"),
    "debrief:learned": ("day-after", "what-the-numbers-taught"),
    "debrief:report": ("day-after", "the-report"),
    "upkeep": ("when-things-break", "how-the-kettle-is"),
}


def guide(request: HttpRequest) -> dict[str, object]:
    """Return the address of the part of the guide that tells of this page."""
    return {"guide_url": SimpleLazyObject(lambda: address_of(request))}


def address_of(request: HttpRequest) -> str:
    """Where the guide tells of the page that was asked for."""
    match = request.resolver_match
    name = match.view_name if match else ""
    known = [key for key in PLACES if name.startswith(key)]
    if not known:
        return reverse("guide:contents")
    slug, section = PLACES[max(known, key=len)]
    return f"{reverse('guide:page', args=[slug])}#{section}"
