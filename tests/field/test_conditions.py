"""Faults with cause and fix; the sky that was seen; what panels give; counters."""

import re
from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse

from hollow_kettle.field import queries, services
from hollow_kettle.field.whats import FORMS
from hollow_kettle.log.models import BatteryNow, FieldEntry, SkySeen
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Site
from hollow_kettle.plan.rotation.starts import starts_of
from hollow_kettle.plan.sun.services import add_array
from powercore.gear.faults import SYMPTOMS
from powercore.logline.said import SKY, WRONG
from tests.conftest import set_clock


@pytest.fixture
def say(under_way, boss):
    """Type a line at net control; return what was answered."""

    def said(line):
        url = reverse("field:line_add", args=[under_way.pk])
        return boss.post(url, {"line": line}, headers={"HX-Request": "true"}).content

    return said


def looks(event):
    return " ".join(queries.board_of(event, event.clock.now()).worth_a_look)


def test_a_fault_is_open_until_somebody_says_what_it_was(under_way, say, boss):
    """The board names it, its page says what to look at first, the answer closes it."""
    say("fault esker quits on transmit: plug warm to the hand")
    assert "Esker: quits on transmit since 14:00, not answered yet" in looks(under_way)
    url = reverse("field:fault_list", args=[under_way.pk])
    page = boss.get(url).content.decode()
    assert SYMPTOMS["quits"].first in page
    assert "1 open" in page

    fault = FieldEntry.objects.get(kind="fault")
    fixed = reverse("field:fault_fixed", args=[under_way.pk, fault.pk])
    refused = boss.post(fixed, {"cause": "", "fix": "crimped anew"})
    assert refused.status_code == 422
    assert "crimped anew" in refused.content.decode()
    boss.post(fixed, {"cause": "plug", "fix": "crimped anew"})
    page = boss.get(url).content.decode()
    assert "1 in connections, fuses or switches" in page
    assert "crimped anew" in page
    assert "quits on transmit" not in looks(under_way)

    answer = FieldEntry.objects.get(kind="fixed")
    strike = reverse("field:entry_strike", args=[under_way.pk, answer.pk])
    boss.post(strike, {"because": "it quit again"})
    assert "Esker: quits on transmit" in looks(under_way)


def test_a_hot_battery_is_on_hold_and_stands_first(under_way, say, shelf, boss):
    """Danger comes before everything else on the board."""
    say("fault drumlin noise on 20 m")
    say("fault K03 hot")
    shelf["K03"].refresh_from_db()
    assert "hot" in shelf["K03"].hold
    first = queries.board_of(under_way, under_way.clock.now()).worth_a_look[0]
    assert first.startswith("K03: hot")
    assert "People away" in first
    (alarm,) = queries.board_of(under_way, under_way.clock.now()).alarms
    assert alarm.words.startswith("K03: hot")
    seen = reverse("field:alarm_seen", args=[under_way.pk])
    boss.post(seen, {"station": "None", "cause": alarm.cause})
    (alarm,) = queries.board_of(under_way, under_way.clock.now()).alarms
    assert alarm.seen_by == "Marin"


def test_what_came_out_is_asked_for_until_it_is_somewhere(under_way, say, boss):
    """On the way for an hour: not back yet; a tap puts it in the rack."""
    say("esker K03 in K01 out")
    assert queries.board_of(under_way, under_way.clock.now()).astray == []
    set_clock(under_way, 180)
    page = boss.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "Not back yet" in page
    line = re.search(r'name="line" value="(K01[^"]*)"', page)[1]
    say(line)
    assert queries.board_of(under_way, under_way.clock.now()).astray == []


def test_the_sky_that_was_seen_drives_what_is_believed(under_way, say, esker, shelf):
    """A plan that counts on no sun; a clear sky is seen at noon, for two hours."""
    Site.objects.filter(station=esker).update(latitude=47.0, longitude=0.0)
    add_array(under_way, station=esker, watts=100, tilt=30, azimuth=180)
    soc = BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical
    say("sky clear at 12:30")
    seen = SkySeen.objects.get()
    assert seen.ended_at - seen.started_at == timedelta(hours=2)
    with_sun = BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical
    assert with_sun > soc + 0.02
    say("sky overcast at 13:00")
    assert [row.oktas for row in SkySeen.objects.all()] == [0, 8]
    dimmer = BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical
    assert soc < dimmer < with_sun


def test_a_station_lead_may_say_how_the_sky_is_and_not_what_others_panels_give(
    under_way, client_of
):
    """The sky is everybody's; panels are their station's."""
    add_array(under_way, station=under_way.stations.get(name="Drumlin"), watts=100)
    lead = client_of("station_lead")
    url = reverse("field:entry_add", args=[under_way.pk, "panel"])
    drumlin = str(under_way.stations.get(name="Drumlin").pk)

    assert lead.post(url, {"uid": uuid4(), "sky": "clear"}).status_code == 302
    asked = {"uid": uuid4(), "panels": drumlin, "amps": "3", "volts": "13.2"}
    assert lead.post(url, asked).status_code == 403
    assert FieldEntry.objects.get(kind="panel").oktas == 0


def test_panels_far_below_what_the_sky_gives_are_worth_a_look(under_way, say, esker):
    """Amps against what this sky lets expect at that hour."""
    Site.objects.filter(station=esker).update(latitude=47.0, longitude=0.0)
    add_array(under_way, station=esker, watts=100, tilt=30, azimuth=180)
    set_clock(under_way, 90)
    say("panels esker 1.5 A 13.2 V, sky clear")
    assert "Panels of Esker gave 20 W at 13:30 where" in looks(under_way)
    say("panels esker 5.2 A 13.2 V, sky clear")
    assert "Panels of Esker" not in looks(under_way)


def test_a_counter_of_two_sides_counts_their_difference(under_way, say, boss, shelf):
    """By the line and by the page; both sides stay readable."""
    say("K01 3.2 Ah out 1.2 Ah in")
    by_line = FieldEntry.objects.filter(kind="reading").latest("pk")
    assert (by_line.amp_hours, by_line.ah_in) == (2.0, 1.2)
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    form = FORMS["reading"][1](event=under_way)
    data = {"uid": form.initial["uid"], "tag": "K01", "how": "receiving"}
    boss.post(url, data | {"amp_hours": "4", "ah_in": "1.5"})
    by_page = FieldEntry.objects.filter(kind="reading").latest("pk")
    assert (by_page.amp_hours, by_page.ah_in) == (2.5, 1.5)
    log = boss.get(reverse("field:log_list", args=[under_way.pk])).content.decode()
    assert "4.0 Ah out, 1.5 Ah in" in log
    wrong = boss.post(url, data | {"ah_in": "-3"})
    assert "between 0 and 100000 Ah" in wrong.content.decode()


def test_a_station_is_set_up_in_order_with_its_battery_last(
    under_way, boss, esker, drumlin, shelf
):
    """Hazards head the list and the slips; where nobody is, nobody is asked."""
    url = reverse("plan:station_edit", args=[under_way.pk, drumlin.pk])
    page = boss.get(url).context["form"]
    typed = {k: "" if v is None else v for k, v in page.initial.items()}
    typed |= {"hazards": "power line north of the tent", "is_unattended": "on"}
    refused = boss.post(url, typed | {"spares": "2"})
    assert "Nobody is there to swap them" in refused.content.decode()
    boss.post(url, typed)
    drumlin.refresh_from_db()
    assert drumlin.is_unattended

    starts = starts_of(under_way, published(under_way))
    by_name = {one.station.name: one for one in starts.stations}
    begun = set(starts.rack) | {tag for _, tag in starts.bays}
    begun |= {one.tag for one in starts.stations} - {""}
    assert begun == {"K01", "K02", "K03"}  # what is on hold begins nowhere
    hands = " ".join(by_name["Esker"].steps)
    battery = by_name["Esker"].tag or "the one planned"
    assert hands.index("antenna") < hands.index("Feed:") < hands.index(battery)
    text = boss.get(reverse("field:set_up_list", args=[under_way.pk])).content.decode()
    mind = text.index("Mind: power line north")
    assert mind < text.index("Battery last", mind)
    assert "K02 in since 12:00" in text
    set_clock(under_way, 300)
    said = queries.board_of(under_way, under_way.clock.now())
    assert "Esker: reading is" in " ".join(said.worth_a_look)
    assert "Drumlin: reading is" not in " ".join(said.worth_a_look)


def test_the_line_and_the_forms_know_the_same_words(under_way):
    """What a line calls a fault or a sky is what the forms offer."""
    assert set(WRONG) == set(SYMPTOMS)
    sky = FORMS["panel"][1](event=under_way).fields["sky"]
    assert set(SKY) == {key for key, _ in sky.choices} - {""}


def test_battery_flat_said_of_a_station_counts_as_a_reading(
    under_way, drumlin, shelf, marin
):
    """Off the air, "battery flat, tripped": then it is empty, whatever was reckoned."""
    at = under_way.clock.now()
    how = {"by": marin, "at": at}
    assert BatteryNow.objects.get(battery=shelf["K02"].pk).soc_typical > 0.6
    services.log_station(under_way, drumlin, what="off_air", note="loose plug", **how)
    assert BatteryNow.objects.get(battery=shelf["K02"].pk).soc_typical > 0.6
    services.log_station(
        under_way, drumlin, what="off_air", note="battery flat, tripped", **how
    )

    row = BatteryNow.objects.get(battery=shelf["K02"].pk)
    assert row.soc_high < 0.25
    assert row.evidence == "said: battery flat, tripped"
    assert "far below what was believed. Wrong tag, a joint" in looks(under_way)
