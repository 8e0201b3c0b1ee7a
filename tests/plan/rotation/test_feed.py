"""The calendar feed: the published walks, for whoever has the address."""

import re

from django.test import Client
from django.urls import reverse
from icalendar import Calendar

from hollow_kettle.plan.models import CalendarFeed
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.services import publish


def test_an_address_reads_what_is_published_until_it_is_taken_back(event, boss, marin):
    """Shown once, no account; a new one ends the old one."""
    url = reverse("plan:feed", args=[event.pk])

    def address():
        page = boss.post(url, {"what": "make"}).content.decode()
        return re.search(r"/plan/calendar/[\w-]{22}\.ics", page)[0]

    first = address()
    assert first not in boss.get(url).content.decode()
    assert CalendarFeed.objects.get().digest not in first
    empty = Calendar.from_ical(Client().get(first).content)
    assert not empty.walk("VEVENT")

    publish(make_rotation(event, by=marin))
    published = event.rotations.get()
    own = reverse("plan:calendar", args=[event.pk, published.number])
    by_hand = Calendar.from_ical(boss.get(own).content)
    read = Calendar.from_ical(Client().get(first).content)
    walks = [str(one["summary"]) for one in read.walk("VEVENT")]
    assert walks
    assert walks == [str(one["summary"]) for one in by_hand.walk("VEVENT")]

    second = address()
    assert Client().get(first).status_code == 404
    assert Client().get(second).status_code == 200
    boss.post(url, {"what": "take"})
    assert Client().get(second).status_code == 404
