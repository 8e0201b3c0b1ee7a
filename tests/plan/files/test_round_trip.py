"""An event from the database to a file and back: nothing of it is lost."""

from __future__ import annotations

import json
from datetime import date, time, timedelta

import pytest
from django.db import transaction
from django.urls import reverse
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.files.imports import import_scenario
from hollow_kettle.plan.files.preview import preview_scenario
from hollow_kettle.plan.models import (
    Crew,
    Event,
    Source,
    Station,
    StationEquipment,
    StationSupply,
)
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.details import Battery
from tests.plan.test_pages import text

pytestmark = pytest.mark.django_db


def maybe(values):
    """A value, or none."""
    return st.none() | values


def number(low, high):
    """A number as people type it."""
    return st.integers(int(low * 10), int(high * 10)).map(lambda n: n / 10)


WORDS = st.text("abcdefghij klmæøå", min_size=1, max_size=20).map(str.strip)
OF_BATTERIES = {
    "reserve_pct": maybe(number(0, 60)),
    "resistance_mohm": maybe(number(5, 60)),
    "peukert": maybe(number(1, 1.4)),
    "max_charge_a": maybe(number(1, 20)),
    "max_discharge_a": maybe(number(20, 60)),
    "max_charge_v": st.sampled_from([None, 14.6]),
    "charge_v": st.sampled_from([None, 14.2, 14.4]),
    "float_v": st.sampled_from([None, 13.5]),
    "disconnect_v": st.sampled_from([None, 11.6, 12.0]),
    "protection": st.sampled_from(["", "both"]),
    "is_heated": st.booleans(),
    "printed_wh": maybe(number(100, 300)),
}
OF_ASSETS = {
    "name": WORDS,
    "home": WORDS,
    "note": WORDS,
    "mass_kg": maybe(number(1, 20)),
    "hold": st.just("") | WORDS,
    "made_on": maybe(st.dates(date(2001, 1, 1), date(2026, 1, 1))),
}
OF_EVENTS = {
    "purpose": st.sampled_from(["contest", "exercise", "emergency"]),
    "is_own_power": st.booleans(),
    "settle_min": st.integers(0, 60),
    "lateness_min": st.integers(0, 30),
    "yard_cold_c": maybe(number(-20, 20)),
    "lithium_reserve_pct": maybe(number(0, 60)),
    "lead_reserve_pct": maybe(number(0, 60)),
    "two_at_night": st.booleans(),
}
OF_STATIONS = {
    "tier": st.integers(1, 3),
    "purpose": WORDS,
    "operators": WORDS,
    "changeover_s": st.integers(0, 300),
    "disconnect_v": maybe(number(10, 12)),
    "reconnect_v": maybe(number(12, 13)),
    "rest_min": st.integers(0, 30),
    "main_fuse_a": maybe(number(5, 40)),
    "spread_pct": number(0, 60),
    "low_words": WORDS,
    "watch_words": WORDS,
    "weight": number(1, 5),
    "draws": number(0.5, 2),
    "hazards": WORDS,
    "cold_c": maybe(number(-20, 20)),
}
OF_SOURCES = {
    "other_w": number(0, 50),
    "max_va": maybe(number(500, 900)),
    "quiet_from": st.sampled_from([None, time(14)]),
    "is_quiet_waived": st.booleans(),
    "refuel_min": st.integers(5, 60),
}


def filled(row, values):
    """Save a row with some of its fields filled."""
    for name, value in values.items():
        setattr(row, name, value)
    row.save()


@settings(max_examples=25, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_an_event_comes_back_from_its_file_as_it_went(event, marin, data):
    """Out, onto a shelf that knows none of its batteries, and out again: the same."""
    with transaction.atomic():
        _anything(event, data)
        before = export_scenario(event)
        for asset in Asset.objects.batteries():
            asset.tag = asset.plain = f"x{asset.tag}"
            asset.save()
        assert preview_scenario(before).left_out == []

        again = import_scenario(before, by=marin)

        after = export_scenario(again)
        assert plain(after) == plain(before)
        transaction.set_rollback(True)


def _anything(event, data):
    draw = data.draw
    filled(event, draw(st.fixed_dictionaries(OF_EVENTS)))
    for battery in Battery.objects.filter(asset__in=event.batteries.all()):
        filled(battery, draw(st.fixed_dictionaries(OF_BATTERIES)))
        filled(battery.asset, draw(st.fixed_dictionaries(OF_ASSETS)))
    for station in Station.objects.filter(event=event):
        filled(station, draw(st.fixed_dictionaries(OF_STATIONS)))
        is_unattended = draw(st.booleans())
        feed = draw(maybe(st.tuples(number(1, 40), st.sampled_from([6, 10, 14]))))
        filled(
            station,
            {
                "is_unattended": is_unattended,
                "spares": 0 if is_unattended else draw(st.integers(0, 3)),
                "feed_m": feed and feed[0],
                "feed_awg": feed and feed[1],
            },
        )
        StationSupply.objects.create(
            station=station,
            kind="mains",
            max_w=60,
            charges=draw(st.booleans()),
            transfer_s=draw(number(0, 30)),
            starts_at=event.starts_at,
            ends_at=event.starts_at + timedelta(hours=1),
        )
    for item in StationEquipment.objects.filter(station__event=event):
        hours = draw(maybe(st.integers(1, 6)))
        values = {
            "count": draw(st.integers(1, 3)),
            "step": draw(st.sampled_from(["full", "low"])),
            "efficiency_pct": draw(st.integers(50, 100)),
            "idle_w": draw(number(0, 5)),
            "fills_wh": draw(maybe(number(10, 90))),
            "shed_pct": draw(maybe(st.integers(10, 60))),
            "used_until": hours and event.starts_at + timedelta(hours=hours),
        }
        filled(item, values)
    source = Source.objects.get(event=event)
    filled(source, draw(st.fixed_dictionaries(OF_SOURCES)))
    filled(source, {"quiet_until": source.quiet_from and time(16)})
    for crew in Crew.objects.filter(event=event):
        filled(crew, {"people": draw(st.integers(1, 4))})


def plain(content):
    """A file by names, since a new event has new keys; numbers to nine digits."""
    found = content.decode()
    said = json.loads(found)
    for part in ("stations", "batteries", "sources", "bays"):
        for row in said[part]:
            found = found.replace(row["key"], row.get("name") or row["tag"])
    said = json.loads(found, parse_float=lambda text: float(f"{float(text):.9g}"))
    for part in ("batteries", "spots", "crews"):
        said[part].sort(key=lambda row: str(sorted(row.items())))
    return said


def test_what_this_version_can_t_keep_is_named_before_it_is_taken(event, boss):
    """Fields of a later version: on the preview, by their paths."""
    found = json.loads(export_scenario(event))
    found["stations"][0]["colour"] = "green"
    found["batteries"][0]["noted"] = [["smell", "sweet"], ["home", "shelf 2"]]
    file = {"name": "x.json", "content": json.dumps(found).encode()}
    preview = preview_scenario(file["content"])

    assert preview.left_out == ["stations[].colour", "batteries[].smell"]
    from django.core.files.uploadedfile import SimpleUploadedFile

    sent = SimpleUploadedFile(file["name"], file["content"])
    page = text(boss.post(reverse("plan:scenario_import"), {"file": sent}))
    assert "no place for stations[].colour, batteries[].smell" in page
    assert Event.objects.count() == 1
