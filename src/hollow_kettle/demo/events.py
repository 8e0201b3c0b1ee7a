"""The invented events: their stations, yard, crews and people."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, time, timedelta

from hollow_kettle.people.models import Actor
from hollow_kettle.plan.events.services import choose_batteries, save_event
from hollow_kettle.plan.models import Event, OperatingPattern, Station
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.stations.services import add_equipment, add_hours, save_station
from hollow_kettle.plan.sun import services as sun
from hollow_kettle.plan.yard.services import (
    add_bay,
    add_crew,
    add_source,
    add_window,
    place_site,
)
from hollow_kettle.shelf.models import Asset, EquipmentType

ZONE = "America/Chicago"


@dataclass(frozen=True, slots=True)
class DemoStation:
    """A station: equipment as (key, count), hours as (from h, to h, pattern)."""

    name: str
    purpose: str
    tier: int
    place: tuple[float, float]
    equipment: tuple[tuple[str, int], ...]
    hours: tuple[tuple[float, float, str], ...]
    changeover_s: int = 120
    disconnect_v: float | None = None
    main_fuse_a: float | None = None
    low_words: str = ""
    watch_words: str = ""
    spares: int = 0
    hazards: str = ""
    is_unattended: bool = False


YARD = (46.1200, -95.4000)
#: Spruces round Peat Landing, seen from its panel: direction and height. [°]
TREES = ((50, 6), (80, 24), (105, 27), (130, 12), (180, 7), (235, 10), (262, 31),
         (290, 26), (315, 8))  # fmt: skip

FIELD_DAY = (
    DemoStation(
        "Peat Landing",
        "shelter link, VHF",
        1,
        (46.1236, -95.3962),
        (("vhf-50w", 1), ("tablet", 1)),
        ((0, 24, "net-station"),),
        changeover_s=0,
        main_fuse_a=15,
        low_words="Peat, go to one zero watts",
        watch_words="Peat, listen only, answer when called",
    ),
    DemoStation(
        "Erratic Hill",
        "VHF relay",
        1,
        (46.1262, -95.4068),
        (("vhf-relay-25w", 1),),
        ((0, 24, "relay-10"),),
        disconnect_v=11.5,
        hazards="steep path with loose stones, two people and lamps at night",
        is_unattended=True,
    ),
    DemoStation(
        "Drumlin",
        "HF CW, 100 W",
        2,
        (46.1225, -95.4047),
        (("hf-100w", 1), ("laptop", 1)),
        ((0, 9, "calling-cw"), (9, 18, "search-cw"), (18, 24, "calling-cw")),
        main_fuse_a=25,
        low_words="Drumlin, go to two five watts",
        watch_words="Drumlin, stop calling, listen only",
        spares=2,
    ),
    DemoStation(
        "Esker Ridge",
        "HF phone, 100 W",
        2,
        (46.1176, -95.3958),
        (("hf-100w", 1), ("laptop", 1)),
        ((0, 11, "calling-ssb"), (11, 17, "search-ssb"), (17, 24, "calling-ssb")),
        main_fuse_a=25,
        low_words="Esker, go to two five watts",
        spares=1,
    ),
    DemoStation(
        "Outwash",
        "HF data, 40 W",
        3,
        (46.1159, -95.4021),
        (("hf-40w", 1), ("small-computer", 1)),
        ((0, 24, "search-cw"),),
        disconnect_v=11.5,
    ),
    DemoStation(
        "Sedge Pool",
        "visitors' station",
        3,
        (46.1212, -95.3934),
        (("hf-20w", 1), ("tablet", 1), ("tent-light", 1)),
        ((0, 9, "visitors"), (18, 24, "visitors")),
    ),
)

SHELTER = (
    DemoStation(
        "Peat Landing",
        "shelter link, VHF",
        1,
        (46.1236, -95.3962),
        (("vhf-50w", 1), ("tablet", 1)),
        ((0, 12, "net-control"),),
    ),
    DemoStation(
        "Hall Green",
        "net control, VHF",
        1,
        (46.1188, -95.4011),
        (("vhf-50w", 1), ("laptop", 1)),
        ((0, 12, "net-control"),),
    ),
    DemoStation(
        "Drumlin",
        "HF to the district",
        2,
        (46.1225, -95.4047),
        (("hf-100w", 1), ("laptop", 1)),
        ((0, 12, "calling-ssb"),),
    ),
    DemoStation(
        "Sedge Pool",
        "handheld charging",
        3,
        (46.1212, -95.3934),
        (("handheld-charger", 4), ("tablet", 1), ("tent-light", 1)),
        ((0, 12, "standby-watch"),),
    ),
)

ICE_STORM = (
    DemoStation(
        "Hall Green",
        "net control, VHF",
        1,
        (46.1188, -95.4011),
        (("vhf-50w", 1), ("laptop", 1)),
        ((0, 8, "net-control"),),
    ),
    DemoStation(
        "Erratic Hill",
        "VHF relay",
        1,
        (46.1262, -95.4068),
        (("vhf-relay-25w", 1),),
        ((0, 8, "relay-10"),),
        disconnect_v=11.5,
    ),
    DemoStation(
        "Outwash",
        "HF data, 40 W",
        2,
        (46.1159, -95.4021),
        (("hf-40w", 1), ("small-computer", 1)),
        ((0, 8, "digital"),),
    ),
)


def make_event(
    name: str, start: datetime, hours: float, stations: tuple[DemoStation, ...]
) -> Event:
    """Make an event with its stations; `start` is wall-clock time."""
    event = save_event(
        None,
        name=name,
        zone=ZONE,
        starts=start,
        ends=start + timedelta(hours=hours),
        purpose="exercise",
    )
    yard = event.sites.get(is_yard=True)
    place_site(yard, latitude=YARD[0], longitude=YARD[1], altitude_m=410)
    for plan in stations:
        make_station(event, plan, start)
    return event


def make_station(event: Event, plan: DemoStation, start: datetime) -> Station:
    """Add one station with its equipment and hours."""
    station = save_station(
        event,
        name=plan.name,
        purpose=plan.purpose,
        tier=plan.tier,
        latitude=plan.place[0],
        longitude=plan.place[1],
        changeover_s=plan.changeover_s,
        disconnect_v=plan.disconnect_v,
        main_fuse_a=plan.main_fuse_a,
        low_words=plan.low_words,
        watch_words=plan.watch_words,
        spares=plan.spares,
        hazards=plan.hazards,
        is_unattended=plan.is_unattended,
    )
    for key, count in plan.equipment:
        add_equipment(station, equipment=EquipmentType.objects.get(pk=key), count=count)
    for opens, closes, pattern in plan.hours:
        add_hours(
            station,
            starts=start + timedelta(hours=opens),
            ends=start + timedelta(hours=closes),
            pattern=OperatingPattern.objects.get(pk=pattern),
        )
    return station


def make_yard(event: Event, start: datetime, hours: float) -> None:
    """Two bays on a generator with quiet hours, one on mains, one on a buffer bank."""
    end = start + timedelta(hours=hours)
    morning = (start + timedelta(days=1)).replace(hour=7, minute=0)
    overnight = end > start.replace(hour=22, minute=0)
    generator = add_source(
        event,
        name="generator",
        kind="generator",
        max_w=1600,
        energy_wh=None,
        starts=start,
        ends=end,
        max_va=1600,
        other_w=400,
        quiet_from=time(22) if overnight else None,
        quiet_until=time(7) if overnight else None,
        quarter_l_h=0.4,
        full_l_h=1.0,
        tank_l=3.6,
        on_hand_l=14,
    )
    mains = add_source(
        event,
        name="mains of the hall",
        kind="mains",
        max_w=500,
        energy_wh=None,
        starts=start,
        ends=min(end, start.replace(hour=20, minute=0)),
    )
    if overnight:
        add_window(mains, starts=morning + timedelta(hours=1), ends=end)
    buffer = add_source(
        event,
        name="buffer bank",
        kind="buffer",
        max_w=300,
        energy_wh=1200,
        capacity_wh=1280,
        starts=start,
        ends=end,
        filled_from=generator,
        fill_w=60,
    )
    for name, source, watts, chemistries in (
        ("Bay 1", generator, 360, ["lifepo4"]),
        ("Bay 2", generator, 360, ["lifepo4", "nmc"]),
        ("Bay 4", buffer, 250, ["lifepo4"]),
    ):
        add_bay(event, name=name, source=source, max_w=watts, chemistries=chemistries)
    charger = Asset.objects.get(tag="C02")
    add_bay(event, name="Bay 3", source=mains, charger=charger, chemistries=[])


def make_sun(event: Event, owned: dict[str, Asset]) -> None:
    """Panels at two stations and for the buffer bank, trees, a forecast."""
    by_name = {station.name: station for station in event.stations.all()}
    peat = by_name["Peat Landing"]
    sun.add_array(
        event, station=peat, panel=owned["P01"], tilt=35, azimuth=170, max_a=15
    )
    sun.set_horizon(peat.site, list(TREES))
    sun.add_array(
        event,
        station=by_name["Outwash"],
        panel=owned["P03"],
        method="pwm",
        max_a=10,
        tilt=0,
        is_on_ground=True,
        lit_from=time(9, 30),
    )
    sun.add_array(
        event,
        source=event.sources.get(kind="buffer"),
        panel=owned["P02"],
        count=2,
        tilt=40,
        turns=3,
        max_a=20,
    )
    event.yard_sky = "forecast"
    event.save(update_fields=["yard_sky"])
    sun.forecast_by_service(event)


def make_crews(event: Event, start: datetime, hours: float) -> None:
    """Who walks and who watches the yard."""
    end = start + timedelta(hours=hours)
    shifts = [("crew 1", "walks", start, min(end, start + timedelta(hours=10)))]
    if hours > 12:
        night = start + timedelta(hours=8)
        shifts += [
            ("night crew", "walks", night, night + timedelta(hours=9)),
            ("crew 2", "walks", night + timedelta(hours=8), end),
            ("yard watch", "yard", start, start + timedelta(hours=11)),
            ("yard watch", "yard", start + timedelta(hours=16), end),
        ]
    else:
        shifts = [("crew 1", "walks", start, end), ("yard watch", "yard", start, end)]
    for name, does, first, last in shifts:
        add_crew(event, name=name, does=does, starts=first, ends=last)


def choose(event: Event, shelf: dict[str, Asset], tags: str) -> None:
    """Choose the batteries of an event by tag."""
    choose_batteries(event, [shelf[tag].pk for tag in tags.split()])


def publish_first(event: Event, by: Actor) -> None:
    """Make a first plan and publish it."""
    made = making.make_rotation(event, by=by)
    making.work_out_further(made)
    rotations.publish(made, by=by)
