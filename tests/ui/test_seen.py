"""A form that was open while somebody else saved."""

from __future__ import annotations

import re

import pytest
from django.urls import reverse

from hollow_kettle.plan.events.services import save_event

pytestmark = pytest.mark.django_db


def opened(client, url):
    """What a browser would send of a page's form, untouched."""
    form = client.get(url).context["form"]
    sent = {}
    for field in form:
        value = field.value()
        if value is None or value is False:
            continue
        shown = field.field.widget.format_value(value) if value is not True else "on"
        if shown is None:
            continue
        sent[field.html_name] = value if isinstance(value, list) else shown
        if isinstance(shown, list) and not isinstance(value, list):
            sent[field.html_name] = shown[0]
    return sent


def shown(answer, name):
    """What a field of an answer's form shows."""
    return answer.context["form"][name].value()


def test_two_who_change_one_event_lose_nothing(event, boss):
    """What only the other changed is taken over, what both did stays as typed."""
    url = reverse("plan:event_edit", args=[event.pk])
    mine, theirs = opened(boss, url), opened(boss, url)
    theirs |= {"lateness_min": "25", "lithium_reserve_pct": "30", "purpose": "contest"}
    del theirs["two_at_night"]
    assert boss.post(url, theirs).status_code == 302

    mine |= {"lithium_reserve_pct": "40", "settle_min": "15"}
    refused = boss.post(url, mine)

    assert refused.status_code == 422
    words = re.sub(r"\s+", " ", refused.content.decode())
    assert "Usual lateness of a walk is now 25" in words
    assert "Purpose is now contest" in words
    assert "Reserve of lithium is now 30, you have typed 40" in words
    assert "Nobody alone in the dark is now unticked" in words
    assert shown(refused, "lateness_min") == "25"
    assert shown(refused, "two_at_night") is False
    assert shown(refused, "lithium_reserve_pct") == "40"
    event.refresh_from_db()
    assert (event.lithium_reserve_pct, event.settle_min) == (30, 0)

    form = refused.context["form"]
    again = {f.html_name: f.value() for f in form if f.value() not in (None, False)}
    assert boss.post(url, again).status_code == 302
    event.refresh_from_db()
    assert (event.lithium_reserve_pct, event.settle_min) == (40, 15)
    assert (event.lateness_min, event.two_at_night) == (25, False)


@pytest.mark.parametrize("of", ["bay", "source", "station", "asset", "club"])
def test_each_form_over_a_row_notices(of, event, boss, esker, shelf):
    """Untouched and sent again it saves; after another's save it asks to look."""
    bay, source = event.bays.get(), event.sources.get()
    view, key, name, value = {
        "bay": ("plan:bay_edit", [event.pk, bay.pk], "max_w", "90"),
        "source": ("plan:source_edit", [event.pk, source.pk], "max_w", "90"),
        "station": ("plan:station_edit", [event.pk, esker.pk], "tier", "4"),
        "asset": ("shelf:asset_edit", [shelf["K01"].pk], "name", "old one"),
        "club": ("people:club_edit", [], "name", "Other tarn"),
    }[of]
    url = reverse(view, args=key)
    mine = opened(boss, url)
    assert boss.post(url, opened(boss, url)).status_code == 302
    assert boss.post(url, mine | {name: value}).status_code == 302

    refused = boss.post(url, mine)

    assert refused.status_code == 422
    assert "Somebody else saved this while your form was open" in (
        refused.content.decode()
    )
    assert str(shown(refused, name)) == value


def test_what_was_shown_can_be_missing_or_nonsense(event, boss):
    """As from an old page or by hand: then nothing is compared, and it saves."""
    url = reverse("plan:event_edit", args=[event.pk])
    sent = opened(boss, url)
    save_event(
        event,
        name="Fen Walk",
        zone="UTC",
        starts=event.starts_at.replace(tzinfo=None),
        ends=event.ends_at.replace(tzinfo=None),
    )
    for seen in ("", "x", "[1]", "3", '{"name": 3}'):
        assert boss.post(url, sent | {"seen": seen}).status_code in (302, 422)
    del sent["seen"]
    assert boss.post(url, sent).status_code == 302
