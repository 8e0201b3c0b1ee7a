"""Fixtures: people, their clients, a small event, and the demo club."""

from __future__ import annotations

from datetime import datetime, timedelta

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.db import transaction
from django.test import Client
from hypothesis import HealthCheck, settings

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Club, Role
from hollow_kettle.people.services import give_duty, make_person
from hollow_kettle.plan.events.services import save_event, set_state
from hollow_kettle.plan.models import Event, OperatingPattern
from hollow_kettle.plan.stations.library import stock_patterns
from hollow_kettle.plan.stations.services import add_equipment, add_hours, save_station
from hollow_kettle.plan.yard.services import add_bay, add_crew, add_source
from hollow_kettle.shelf.assets.attachments import attach
from hollow_kettle.shelf.assets.library import stock_library
from hollow_kettle.shelf.assets.services import add_port, save_asset, save_battery
from hollow_kettle.shelf.bench.services import record_test
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits import services as kits
from hollow_kettle.shelf.models import EquipmentType

# Timing on a shared machine is noise; the same examples on every run.
settings.register_profile(
    "kettle",
    deadline=None,
    derandomize=True,
    max_examples=60,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("kettle")

PASSWORD = "spruce-and-copper"
NOON = datetime(2026, 6, 27, 12, 0)  # noqa: DTZ001 - wall-clock time of the event


@pytest.fixture
def marin(db):
    """A coordinator."""
    return make_person("marin", password=PASSWORD, name="Marin", is_coordinator=True)


@pytest.fixture
def stocked(db):
    """The libraries and the club, as ./kettle run makes them."""
    stock_library()
    stock_patterns()
    return Club.objects.create(pk=1, name="Test Club", zone="UTC")


@pytest.fixture
def shelf(marin, stocked):
    """Four 20 Ah packs, one of them untested and one on hold."""
    return {
        tag: save_battery(
            None,
            by=marin,
            tag=tag,
            chemistry="lifepo4",
            series=4,
            nameplate_ah=20.0,
            tested_ah=None if tag == "K03" else 19.0,
            hold="swollen" if tag == "K04" else "",
        )
        for tag in ("K01", "K02", "K03", "K04")
    }


@pytest.fixture
def kit(shelf, marin):
    """A wired kit of K01, a radio and a charger, with a record of each sort."""

    def put(kind, tag, **values):
        return save_asset(KINDS[kind], None, by=marin, tag=tag, **values)

    radio = put(
        "device",
        "R01",
        name="HF radio",
        receive_a=1.2,
        transmit_idle_a=3.0,
        key_down_a=21.0,
        low_key_down_a=9.5,
        min_v=11.7,
        maker_fuse_a=25.0,
        tx_w=100.0,
    )
    charger = put("charger", "C01", max_a=10.0, absorb_v=14.4, setting="lifepo4")
    made = put("kit", "Q01", name="Drumlin HF", steps="Switch on.\nListen.")
    kits.start_path(
        made, battery=shelf["K01"], load=radio, fuse_a=25.0, awg=10, length_m=0.5,
        connector="genderless-45",
    )  # fmt: skip
    kits.save_way(made, source=charger)
    kits.save_item(made, None, name="spare 25 A fuses", count=3, container="Box 1")
    kits.cut_version(made, why="first", by=marin)
    kits.add_note(made, what="change", words="block fixed with screws")
    kits.add_noise(made, source="charger", heard_on="40 m", installation="in the lid")
    kits.save_spare(made, name="fuse 25 A", have=1, want=3)
    add_port(made, name="out", connector="genderless-45", flow="out")
    attach(
        made, file=SimpleUploadedFile("wiring.txt", b"red is plus"), words="", by=marin
    )
    record_test(shelf["K01"], by=marin, what="sag", amps=10.0, start_v=13.2, end_v=12.9)
    return made


@pytest.fixture
def event(shelf):
    """A running eight-hour event, two hours in: two stations, one bay, a crew."""
    made = save_event(
        None, name="Bog Walk", zone="UTC", starts=NOON, ends=NOON + timedelta(hours=8)
    )
    for name, tier in (("Esker", 1), ("Drumlin", 2)):
        station = save_station(made, name=name, tier=tier, walk_min=5)
        add_equipment(station, equipment=EquipmentType.objects.get(pk="hf-40w"))
        add_hours(
            station,
            starts=NOON,
            ends=NOON + timedelta(hours=8),
            pattern=OperatingPattern.objects.get(pk="calling-cw"),
        )
    source = add_source(
        made,
        name="mains",
        kind="mains",
        max_w=500,
        energy_wh=None,
        starts=NOON,
        ends=NOON + timedelta(hours=8),
    )
    add_bay(made, name="Bay 1", source=source, max_w=200, chemistries=["lifepo4"])
    for name, does in (("crew", "walks"), ("watch", "yard")):
        add_crew(
            made, name=name, does=does, starts=NOON, ends=NOON + timedelta(hours=8)
        )
    set_state(made, state=Event.State.RUNNING)
    set_clock(made, 120)
    return made


def set_clock(event: Event, minutes: float) -> None:
    """Let the event's clock show some minutes after its start."""
    event.clock_offset = event.starts_at + timedelta(minutes=minutes) - real_now()
    event.save(update_fields=["clock_offset"])


@pytest.fixture
def esker(event):
    """The first-tier station."""
    return event.stations.get(name="Esker")


@pytest.fixture
def drumlin(event):
    """The second-tier station."""
    return event.stations.get(name="Drumlin")


@pytest.fixture
def people(event, esker, marin):
    """One person of each role; the lead leads Esker; the stranger has no duty."""
    made = {"coordinator": marin}
    for role in Role.values:
        actor = make_person(role, password=PASSWORD, name=role.title())
        station = esker.pk if role == Role.STATION_LEAD else None
        give_duty(actor, event_key=event.pk, role=role, station_key=station)
        made[role] = actor
    made["stranger"] = make_person("stranger", password=PASSWORD, name="Stranger")
    return made


@pytest.fixture
def client_of(people):
    """A signed-in client for a role; "nobody" is not signed in."""

    def sign_in(role: str) -> Client:
        client = Client()
        if role != "nobody":
            client.force_login(people[role].user)
        return client

    return sign_in


@pytest.fixture
def boss(marin):
    """The coordinator's client."""
    client = Client()
    client.force_login(marin.user)
    return client


@pytest.fixture(scope="module")
def demo(django_db_setup, django_db_blocker):
    """The demo club, loaded once for a module and rolled back after it."""
    from hollow_kettle.demo import club

    with django_db_blocker.unblock(), transaction.atomic():
        club.load()
        club.set_clock()
        yield club
        transaction.set_rollback(True)


@pytest.fixture(scope="module")
def demo_site(django_db_setup, django_db_blocker):
    """The demo club behind a live server, for browsers; emptied after the module."""
    from pytest_django.live_server_helper import LiveServer

    from hollow_kettle.demo import club

    with django_db_blocker.unblock():
        club.load()
        club.set_clock()
        server = LiveServer("127.0.0.1")
        yield server.url
        server.stop()
        call_command("flush", interactive=False, verbosity=0)
