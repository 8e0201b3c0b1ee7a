"""
The demo club, made by code from a fixed seed.

Cold Tarn Radio Club is invented, and so is everything about it. One exercise is
over, one Field Day is at hour 9 of 24, one exercise is being planned.
"""

from __future__ import annotations

import random
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Max

from hollow_kettle.clock import from_local, real_now
from hollow_kettle.debrief.actions.page import WORDS
from hollow_kettle.debrief.causes import services as causes
from hollow_kettle.debrief.history import baseline_of
from hollow_kettle.debrief.learning.services import propose
from hollow_kettle.debrief.models import Causes, Contact
from hollow_kettle.field import services as field_log
from hollow_kettle.field.beliefs import work_out
from hollow_kettle.log import services as log
from hollow_kettle.log.models import FieldEntry, Kind, Place, PlaceKind, StationSpan
from hollow_kettle.log.services import Sent
from hollow_kettle.people.models import Actor, Club, Role
from hollow_kettle.people.services import give_duty, make_person
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.stations.library import stock_patterns
from hollow_kettle.plan.yard.services import add_crew
from hollow_kettle.shelf.actions.services import end_action, save_action
from hollow_kettle.shelf.assets.library import stock_library
from hollow_kettle.shelf.models import Action, Asset

from . import events, gear, shelf
from .history import Story

PASSWORD = "kettle-on-the-boil"  # noqa: S105 - printed at each start of the demo
SEED = 20260627
HOURS_IN = 9
PEOPLE = ("marin", "sorrel", "wren", "heron", "lark")

# Wall-clock times of the club's zone.
_EXERCISE = datetime(2026, 5, 16, 8, 0)  # noqa: DTZ001 - expanded with the zone
_FIELD_DAY = datetime(2026, 6, 27, 13, 0)  # noqa: DTZ001 - expanded with the zone
_ICE_STORM = datetime(2026, 9, 19, 9, 0)  # noqa: DTZ001 - expanded with the zone


def is_loaded() -> bool:
    """Whether the demo club is there, whole: it is made in one transaction."""
    return Club.objects.exists()


@transaction.atomic
def load() -> None:
    """Make the club, its shelf and its three events."""
    stock_library()
    stock_patterns()
    Club.objects.create(pk=1, name="Cold Tarn Radio Club", zone=events.ZONE)
    people = {
        name: make_person(
            name, password=PASSWORD, name=name.title(), is_coordinator=name == "marin"
        )
        for name in PEOPLE
    }
    start = from_local(_FIELD_DAY, events.ZONE)
    Club.objects.update(clock_offset=start + timedelta(hours=HOURS_IN) - real_now())
    shelf.make_shelf(people["marin"])
    owned = gear.make_gear(people["marin"])
    spring = shelf.SPRING
    gear.make_history(owned, people["marin"], spring)
    shelf.make_spring_tests(owned, people["marin"])
    gear.make_tests(owned, people["marin"], spring)
    gear.make_kits(owned, people["marin"], start.date())
    home = Place.objects.create(kind=PlaceKind.HOME, name="shack at Cold Tarn")
    _exercise(people, owned, home)
    _field_day(people, owned, home, start)
    _ice_storm(owned)


def _exercise(people: dict[str, Actor], owned: dict[str, Asset], home: Place) -> None:
    event = events.make_event("High Water exercise", _EXERCISE, 12, events.SHELTER)
    events.make_yard(event, _EXERCISE, 12)
    events.make_crews(event, _EXERCISE, 12)
    events.choose(event, owned, "K01 K02 K03 K04 K05 K06 K09 K10 K12 K14")
    _duties(event, people)
    events.publish_first(event, people["marin"])
    set_state(event, state=Event.State.RUNNING, by=people["marin"])
    _freeze(event, 13)
    story = Story(
        event=event,
        hours=12,
        home=home,
        people=people,
        seed=SEED + 1,
        draws={"Drumlin": 1.3, "Hall Green": 1.1},
    )
    story.play()
    story.go_home()
    _low_power(event, people)
    log.rebuild(event.pk)
    work_out(event)
    set_state(event, state=Event.State.CLOSED, by=people["marin"])
    _actions(event, people, owned)
    _contacts(event)


def _actions(event: Event, people: dict[str, Actor], owned: dict[str, Asset]) -> None:
    """What came of the exercise: one thing done, one open, one late."""
    rows: tuple[tuple[str, str, str, str, int], ...] = (
        ("Test K10's capacity at the bench", "sorrel", "", "K10", 60),
        (WORDS["load"].format(station="Drumlin"), "marin", "Drumlin", "", 90),
        ("Leave a spare at Hall Green", "heron", "Hall Green", "", 30),
    )
    for words, who, station, tag, days in rows:
        action = Action(
            words=words,
            owner=people[who],
            due_on=event.ends_at.date() + timedelta(days=days),
            station=station,
            evidence="off the air at the exercise",
        )
        save_action(
            action,
            asset=owned.get(tag),
            by=people["marin"],
            event=(event.pk, event.name),
        )
    end_action(action, state="done", outcome="the rack there takes one now")


def _contacts(event: Event) -> None:
    """What two of its stations worked, some each hour while they were on the air."""
    rng = random.Random(SEED)  # noqa: S311 - a story, not a secret
    off = list(StationSpan.objects.filter(event_key=event.pk, what="off_air"))
    for name, minutes in (("Hall Green", 5.0), ("Drumlin", 4.0)):
        station, at = event.stations.get(name=name), event.starts_at
        made = []
        while (at := at + timedelta(minutes=rng.expovariate(1 / minutes))) < (
            event.ends_at
        ):
            gone = [one for one in off if one.station_key == station.pk]
            if not any(one.started_at <= at < (one.ended_at or at) for one in gone):
                made.append(Contact(event=event, station=station, at=at, mode="SSB"))
        Contact.objects.bulk_create(made)


def _low_power(event: Event, people: dict[str, Actor]) -> None:
    """Hall Green went to low power for a while in the afternoon, and shed a laptop."""
    station = event.stations.get(name="Hall Green")
    at = event.starts_at + timedelta(hours=8, minutes=20)
    quiet: dict[str, Any] = {"by": people["wren"], "refresh": False}
    field_log.log_station(
        event,
        station,
        what=Kind.POWER_STEP,
        step="low",
        at=at,
        note="asked to save until the next round",
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.log_station(
        event,
        station,
        what=Kind.POWER_STEP,
        step="full",
        at=at + timedelta(minutes=95),
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.log_station(
        event,
        station,
        what=Kind.SHED,
        at=at + timedelta(minutes=5),
        note="laptop off its charger",
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.log_station(
        event, station, what=Kind.RESTORED, at=at + timedelta(minutes=95), **quiet
    )


def _field_day(
    people: dict[str, Actor], owned: dict[str, Asset], home: Place, start: datetime
) -> None:
    event = events.make_event("Cold Tarn Field Day", _FIELD_DAY, 24, events.FIELD_DAY)
    events.make_yard(event, _FIELD_DAY, 24)
    events.make_sun(event, owned)
    events.make_crews(event, _FIELD_DAY, 24)
    events.choose(event, owned, " ".join(f"K{n:02d}" for n in range(1, 17)))
    _duties(event, people)
    gear.make_custody(owned, people, start)
    events.publish_first(event, people["marin"])
    set_state(event, state=Event.State.RUNNING, by=people["marin"])
    _freeze(event, HOURS_IN)
    story = Story(
        event=event,
        hours=HOURS_IN,
        home=home,
        people=people,
        seed=SEED,
        draws={"Esker Ridge": 1.1, "Outwash": 0.9},
    )
    story.play()
    _slips_of_the_pen(event, people, owned)
    log.rebuild(event.pk)
    work_out(event)


def _slips_of_the_pen(
    event: Event, people: dict[str, Actor], owned: dict[str, Asset]
) -> None:
    """Plant what goes wrong in a log: a second report, a misheard tag, an unknown."""

    def later(minutes: float) -> datetime:
        return event.starts_at + timedelta(minutes=minutes)

    quiet: dict[str, Any] = {"refresh": False}
    swaps = FieldEntry.objects.filter(
        event_key=event.pk, kind=Kind.SWAP, effective_at__gt=event.starts_at
    )
    first = swaps.order_by("effective_at").first()
    if first is not None:  # two people noted one swap
        field_log.note(
            event,
            Kind.SWAP,
            by=people["wren"],
            battery=first.battery,
            battery_out=first.battery_out,
            place=first.place,
            station_key=first.station_key,
            at=first.effective_at + timedelta(minutes=3),
            sent=Sent(device="story"),
            **quiet,
        )
    last = swaps.order_by("effective_at").last()
    if (
        last is not None
    ):  # "K02" was heard where the battery that came out had another tag
        misheard = owned["K02" if last.battery_out != owned["K02"].pk else "K03"]
        field_log.note(
            event,
            Kind.SWAP,
            by=people["wren"],
            battery=last.battery,
            battery_out=misheard.pk,
            place=last.place,
            station_key=last.station_key,
            at=last.effective_at + timedelta(minutes=2),
            sent=Sent(device="story"),
            **quiet,
        )
    field_log.note(
        event,
        Kind.READING,
        by=people["wren"],
        at=later(391),
        sent=Sent(device="story", raw={"tag": "K21"}),
        volts=13.12,
        amps=1.9,
        how="receiving",
        **quiet,
    )
    stations = {one.name: one.pk for one in event.stations.all()}
    field_log.note(
        event,
        Kind.FAULT,
        by=people["wren"],
        at=later(318),
        station_key=stations["Drumlin"],
        symptom="quits",
        cause="plug",
        fix="plug at the radio crimped anew; 12.4 V key down since",
        note="screen goes dark on the dashes, comes back between",
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.note(
        event,
        Kind.FAULT,
        by=people["wren"],
        at=later(384),
        station_key=stations["Esker Ridge"],
        symptom="noise",
        note="hash on 40 m every minute or so",
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.note(
        event,
        Kind.PANEL,
        by=people["wren"],
        at=later(300),
        oktas=4.0,
        note="cloud from the west",
        sent=Sent(device="story"),
        **quiet,
    )
    field_log.note(
        event,
        Kind.NOTE,
        by=people["wren"],
        at=later(402),
        note="mosquitoes; otherwise quiet",
        sent=Sent(device="story"),
        **quiet,
    )


def _ice_storm(owned: dict[str, Asset]) -> None:
    event = events.make_event("Ice Storm exercise", _ICE_STORM, 8, events.ICE_STORM)
    events.make_yard(event, _ICE_STORM, 8)
    events.make_crews(event, _ICE_STORM, 8)
    events.choose(event, owned, "K01 K02 K03 K05 K06 K07 K12 K15")
    # The net control is in a warm hall, and so is the yard.
    event.stations.exclude(name="Hall Green").update(cold_c=-8)
    event.yard_cold_c = 12
    event.save(update_fields=["yard_cold_c"])
    for hours in (17, 41):  # the evenings of the two days before
        add_crew(
            event,
            name="bench evening",
            does="yard",
            starts=_ICE_STORM - timedelta(hours=hours),
            ends=_ICE_STORM - timedelta(hours=hours - 5),
        )


def _duties(event: Event, people: dict[str, Actor]) -> None:
    drumlin = event.stations.get(name="Drumlin")
    give_duty(
        people["sorrel"],
        event_key=event.pk,
        role=Role.STATION_LEAD,
        station_key=drumlin.pk,
    )
    give_duty(people["wren"], event_key=event.pk, role=Role.LOGGER)
    give_duty(people["heron"], event_key=event.pk, role=Role.RUNNER)
    give_duty(people["lark"], event_key=event.pk, role=Role.OBSERVER)


def _freeze(event: Event, hours: float) -> None:
    """Let the event's clock show that many hours after its start."""
    event.clock_offset = event.starts_at + timedelta(hours=hours) - real_now()
    event.save(update_fields=["clock_offset"])


def set_clock() -> None:
    """At each start: hour 9 of the Field Day, or the last log entry if later."""
    field_day = Event.objects.get(name="Cold Tarn Field Day")
    at = from_local(_FIELD_DAY, events.ZONE) + timedelta(hours=HOURS_IN)
    last = FieldEntry.objects.filter(event_key=field_day.pk).aggregate(
        last=Max("effective_at")
    )["last"]
    offset = max(at, last or at) - real_now()
    Event.objects.update(clock_offset=offset)
    for event in Event.objects.exclude(state=Event.State.PLANNED):
        # Published on the evening before it, however the clock was set meanwhile.
        evening = event.starts_at - offset - timedelta(hours=15)
        published = event.rotations.exclude(published_at=None)
        published.filter(from_min=0).update(published_at=evening)
    Club.objects.update(clock_offset=offset)
    field_day.refresh_from_db()
    work_out(field_day)
    _debriefed()


def _debriefed() -> None:
    """Work out once why power ran short at the exercise that is over."""
    for event in Event.objects.filter(state=Event.State.CLOSED, causes=None):
        baseline = baseline_of(event)
        if baseline is not None:
            row = Causes(event=event, baseline=baseline)
            propose(*causes.work_out(row))
