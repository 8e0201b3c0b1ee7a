"""The invented shelf beside its batteries: chargers, radios, leads, kits."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.people.club import today
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.assets.services import add_port, record_capacity
from hollow_kettle.shelf.bench.services import record_test
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits import services as kits
from hollow_kettle.shelf.kits.findings import standing_stops
from hollow_kettle.shelf.lists.tables import apply_list
from hollow_kettle.shelf.models import Asset, BuildNote, KitVersion
from powercore.gear.capacity import Row

#: Where the lists lie, one for each kind; they come in as a club's own would.
LISTS = Path(__file__).parent / "lists"

#: Tag, years ago, amp-hours found and how sure. [a], [Ah], [Ah]
EARLIER_TESTS = (
    ("K01", 3.1, 19.8, 0.5),
    ("K01", 2.1, 19.6, 0.5),
    ("K01", 1.1, 19.4, 0.4),
    ("K09", 2.1, 18.9, 0.5),
    ("K09", 1.1, 16.0, 0.6),
    ("K12", 2.0, 33.0, 1.2),
    ("K12", 1.0, 31.5, 1.2),
    ("K13", 1.0, 70.0, 2.5),
)


def make_gear(by: Actor) -> dict[str, Asset]:
    """Bring in the lists of everything but batteries; return it all by tag."""
    for kind in KINDS.values():
        path = LISTS / f"{kind.key}.csv"
        if path.exists():
            apply_list(kind, path.read_bytes(), by=by)
    return {asset.tag: asset for asset in Asset.objects.all()}


def make_history(owned: dict[str, Asset], by: Actor, spring: datetime) -> None:
    """Tests of earlier years, a bench test with its readings, ports."""
    for tag, years, ah, sd in sorted(EARLIER_TESTS, key=lambda test: -test[1]):
        record_capacity(
            owned[tag],
            tested_ah=ah,
            sd=sd,
            by=by,
            origin="amp-hour meter, full to disconnect",
            evidence="spring test",
            at=spring - timedelta(days=365 * years),
        )
    for name, asset, connector, gender, flow, low_v, high_v, max_a in (
        ("output", "K07", "genderless-45", "", "both", 11.5, 14.4, 50),
        ("output", "K03", "genderless-30", "", "both", 11.5, 14.4, 20),
        ("DC in", "R01", "radio-4", "plug", "in", 11.7, 15.9, 22),
        ("DC in", "R03", "barrel-5521", "socket", "in", 9, 15, 1),
        ("socket", "B01", "usb-c", "socket", "out", 5, 9, 3),
        ("12 V out", "P02", "two-pin-flat", "plug", "out", 0, 21.6, 6),
    ):
        add_port(
            owned[asset],
            name=name,
            connector=connector,
            gender=gender,
            flow=flow,
            low_v=low_v,
            high_v=high_v,
            max_a=max_a,
            is_live=asset == "P02",
        )


def make_tests(owned: dict[str, Asset], by: Actor, at: datetime) -> None:
    """A run-down of K10 typed by the half hour, not accepted yet; a bank's run."""
    rows = [
        Row(minute=30.0 * n, amps=5.04, volts=volts)
        for n, volts in enumerate((13.25, 13.18, 13.12, 13.08, 12.98, 12.7, 12.1, 11.4))
    ]
    record_test(
        owned["K10"],
        by=by,
        rows=rows,
        what="run_down",
        meter=owned["A01"],
        temp_c=19.0,
        was_full=True,
        made_at=at,
        note="relabelled: much less than its new label says",
    )
    record_test(
        owned["B01"], by=by, what="bank", hours=6.1, amps=1.0, end_v=5.02, made_at=at
    )
    record_test(
        owned["K12"], by=by, what="sag", amps=10.0, start_v=12.78, end_v=12.55,
        made_at=at, meter=owned["A01"],
    )  # fmt: skip


def make_kits(owned: dict[str, Asset], by: Actor, today: date) -> None:
    """Wire and fill the kits, with what is wrong in them and what was decided."""
    _wire_drumlin(owned)
    _wire_walking(owned)
    for kit, lines in _CONTENTS.items():
        for what, count, box, place, is_must, mass_kg in lines:
            kits.save_item(
                owned[kit],
                None,
                asset=owned.get(what),
                name="" if what in owned else what,
                count=count,
                container=box,
                place=place,
                is_must=is_must,
                mass_kg=mass_kg,
            )
    drumlin = owned["Q01"]
    for number, (why, days) in enumerate(
        (("first build", 700), ("block instead of a splice", 380), ("USB-C added", 60)),
        start=1,
    ):
        version = kits.cut_version(drumlin, why=why, by=by)
        KitVersion.objects.filter(pk=version.pk).update(
            number=number, made_at=version.made_at - timedelta(days=days)
        )
    for what, days, words, why, due in _NOTES:
        BuildNote.objects.create(
            kit=drumlin,
            what=what,
            made_on=today - timedelta(days=days),
            words=words,
            why=why,
            due_on=None if due is None else today + timedelta(days=due),
        )
    kits.add_noise(
        drumlin,
        source="M02 plain controller",
        heard_on="HF radio",
        band="40 m",
        installation="controller in the lid, leads beside the coax",
        level="bothers",
        state="open",
        cure="two turns through a ferrite helped a little",
    )
    for name, have, want, wear in (
        ("25 A blade fuse", 1, 4, ""),
        ("10 A blade fuse", 5, 4, ""),
        ("45 A contacts", 6, 6, "crimped four of them in spring"),
    ):
        kits.save_spare(drumlin, name=name, have=have, want=want, wear=wear)
    kits.accept_finding(
        drumlin,
        key="meter-unchecked:A02",
        reason="only used to see that something flows",
        until=today + timedelta(days=200),
        by=by,
    )


def _wire_drumlin(owned: dict[str, Asset]) -> None:
    kit = owned["Q01"]

    def part(what: str, **values: Any) -> Any:
        return kits.save_part(kit, None, what=what, **values)

    part("battery", asset=owned["K07"])
    main = part("fuse", amps=30, name="main fuse")
    feed = part("cable", after=main, awg=10, length_m=0.4)
    joint = part(
        "joint", after=feed, connector="genderless-45", mate_connector="genderless-45"
    )
    switch = part("switch", after=joint, amps=40, name="main switch")
    block = part("block", after=switch, amps=40, asset=owned["F02"])
    fuse = part("fuse", after=block, amps=25)
    lead = part("cable", after=fuse, asset=owned["W01"], name="long HF lead")
    part("load", after=lead, asset=owned["R01"])
    fuse = part("fuse", after=block, amps=10)
    wire = part("cable", after=fuse, awg=16, length_m=0.3)
    usb = part("converter", after=wire, asset=owned["U01"], name="USB-C")
    part("load", after=usb, asset=owned["L01"])
    gap = part("fuse", after=block, name="light's holder")
    wire = part("cable", after=gap, awg=20, length_m=1.0)
    part("load", after=wire, asset=owned["L02"])
    kits.save_way(kit, source=owned["C02"], enters_at=joint)
    kits.save_way(kit, source=owned["P01"], controller=owned["M02"], enters_at=block)


def _wire_walking(owned: dict[str, Asset]) -> None:
    kits.start_path(
        owned["Q02"],
        battery=owned["K03"],
        load=owned["R03"],
        fuse_a=3,
        awg=18,
        length_m=0.8,
        connector="genderless-30",
    )
    kits.save_way(owned["Q02"], source=owned["P03"])


#: Kit: asset or name, count, box, place, must, mass of one. [kg]
_CONTENTS: dict[str, tuple[tuple[Any, ...], ...]] = {
    "Q01": (
        ("R01", 1, "Box 1", "foam, left", True, None),
        ("U01", 1, "Box 1", "lid", True, None),
        ("L01", 1, "Bag", "sleeve", True, None),
        ("L02", 1, "Box 1", "lid", False, None),
        ("W01", 1, "Box 1", "rolled, right", True, None),
        ("W03", 1, "Box 1", "right", True, None),
        ("M02", 1, "Box 1", "lid", False, None),
        ("A02", 1, "Box 1", "lid", False, None),
        ("N01", 1, "Box 1", "foam, right", True, None),
        ("Q03", 1, "Bag", "", True, None),
        ("spare 25 A fuses", 4, "Box 1", "tin", True, 0.005),
        ("coax jumper", 2, "Box 1", "right", True, 0.1),
        ("kit card", 1, "Box 1", "on top", True, 0.02),
        ("pencil and log sheets", 1, "Bag", "front", True, 0.15),
        ("key and adapter", 1, "Box 1", "tin", False, 0.2),
    ),
    "Q02": (
        ("W02", 1, "Rucksack", "top pocket", True, None),
        ("P03", 1, "Rucksack", "back", False, None),
        ("B01", 1, "Rucksack", "top pocket", False, None),
        ("wire antenna on a winder", 1, "Rucksack", "main", True, 0.4),
        ("log book", 1, "Rucksack", "top pocket", True, 0.1),
    ),
    "Q03": (
        ("N02", 1, "Antenna bag", "", True, None),
        ("inverted-V with feed line", 1, "Antenna bag", "", True, 1.8),
        ("guy lines and pegs", 6, "Antenna bag", "", True, 0.12),
    ),
}

#: What, days ago, words, why, due in days.
_NOTES = (
    ("diagram", 380, "block diagram drawn and laminated in the lid", "", None),
    ("fastener", 380, "block and switch on screws", "foam tape let go", None),
    ("change", 60, "USB-C adapter beside the block", "was an inverter", None),
    ("temporary", 40, "light's wire taped to the lid", "no holder at hand", -12),
    ("shakedown", 30, "find a shorter lead for the radio", "0.5 V lost", None),
)  # fmt: skip
#: Why Drumlin's kit went all the same, by the rule that stops it.
_TAKEN_ON = {
    "charge-chemistry": "panel stays unplugged; the yard charges K07",
    "fuse-above-wire": "light's wire is cut off and taped, both ends",
    "fuse-open": "holder is empty and taped over",
    "antenna-power": "radio is set to 40 W; told to Sorrel",
}


def make_custody(
    owned: dict[str, Asset], people: dict[str, Actor], start: datetime
) -> None:
    """Charges before the Field Day, what is lent, what came back broken."""
    marin = people["marin"]
    evening = start - timedelta(hours=18)
    for number in range(1, 16):
        asset = owned[f"K{number:02d}"]
        battery = asset.battery
        is_early = asset.tag in ("K06", "K13")
        volts = 12.6 if battery.chemistry == "nmc" else 14.4
        custody.note_charged(
            asset,
            by=marin,
            at=evening + timedelta(minutes=7 * number),
            volts=volts - (0.6 if is_early else 0.02),
            amps=round(battery.nameplate_ah * (0.2 if is_early else 0.01), 1),
        )
        if number % 3:
            custody.note_checked(asset, by=marin, switches_off=True, load_off=True)
    station = Place.objects.get(
        kind=PlaceKind.STATION, name__startswith="Drumlin, Cold Tarn"
    )
    stops = standing_stops([owned["Q01"], owned["Q03"]], today())
    custody.check_out(
        [owned["Q01"], owned["C02"]],
        to=station,
        by=marin,
        due_at=start + timedelta(days=1, hours=8),
        at=start - timedelta(hours=4),
        reasons={
            stop.name: _TAKEN_ON[stop.finding.key.partition(":")[0]] for stop in stops
        },
    )
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    custody.check_out(
        [owned["R03"], owned["P03"]],
        to=heron,
        by=marin,
        due_at=start - timedelta(days=7),
        at=start - timedelta(days=30),
        note="for the hills",
    )
    custody.put_on_hold(
        owned["W06"],
        because="reversed polarity on the flat plug",
        by=marin,
        who="Wren",
        due_at=start + timedelta(days=20),
        at=start - timedelta(days=12),
    )
