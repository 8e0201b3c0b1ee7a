"""Taking an event down: the battery first, and what was left on."""

from datetime import timedelta

from django.urls import reverse

from hollow_kettle.field import services
from hollow_kettle.field.beliefs import work_out
from hollow_kettle.log.services import rebuild
from hollow_kettle.plan.stations.services import add_supply
from hollow_kettle.plan.sun.services import add_array
from tests.conftest import NOON, set_clock


def test_each_station_is_taken_down_with_what_is_there(
    event, shelf, esker, marin, client_of
):
    """Loads, panel, supply, then the battery that the log has there; a hazard first."""
    span = {"starts": NOON, "ends": NOON + timedelta(hours=2)}
    add_supply(esker, kind="mains", max_w=50, **span)
    add_array(event, station=esker, watts=100)
    esker.hazards = "power line to the east"
    esker.save()
    services.log_swap(event, esker, battery=shelf["K02"], by=marin, at=event.starts_at)

    page = client_of("observer").get(reverse("field:tear_down", args=[event.pk]))

    text = page.content.decode()
    order = [
        "Mind: power line to the east", "all loads off", "covered, then unplugged",
        "mains: off", "all else that is wired: K02", "nothing left behind",
    ]  # fmt: skip
    places = [text.index(words) for words in order]
    assert places == sorted(places)
    assert "Is something left on?" not in text


def test_a_battery_that_waits_and_loses_charge_is_named(event, shelf, marin, client_of):
    """K01 in the rack shows 90 %, five hours later 60 %; K02 90 and 88 %."""
    set_clock(event, 480)
    quiet = {"by": marin, "refresh": False}
    rack = services.yard_rack(event)
    for tag, shown in (("K01", (90, 60)), ("K02", (90, 88))):
        key = shelf[tag].pk
        services.note(
            event, "move", at=event.starts_at, battery=key, place=rack, **quiet
        )
        for hours, gauge in zip((1, 6), shown, strict=True):
            at = event.starts_at + timedelta(hours=hours)
            services.note(
                event, "reading", at=at, battery=key, gauge_pct=float(gauge), **quiet
            )
    rebuild(event.pk)
    work_out(event)

    page = client_of("observer").get(reverse("field:tear_down", args=[event.pk]))

    text = " ".join(page.content.decode().split())
    assert "K01</span> lost 30% in 5:00 h while it waited" in text
    assert "K02</span> lost" not in text
