"""From rows to the core: what is typed reaches the arithmetic, and nothing else."""

from dataclasses import fields, is_dataclass
from datetime import timedelta

import pytest
from django.urls import reverse
from django.utils.html import escape

from hollow_kettle.field.queries import board_of
from hollow_kettle.log.models import PlaceKind
from hollow_kettle.people.club import today
from hollow_kettle.shelf.assets.services import save_asset, save_battery
from hollow_kettle.shelf.bridge import device_of, gear_of, meter_of
from hollow_kettle.shelf.browse.queries import facts_of
from hollow_kettle.shelf.charge.queries import shelf_batteries_of
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits import services as kits
from hollow_kettle.shelf.kits.bridge import kit_of, rows_of_kit
from hollow_kettle.shelf.kits.page import kit_page
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.prints import paper
from powercore.gear.powerpath import Cable, Feeds, Fuse, Switch


@pytest.mark.parametrize(
    ("kind", "values", "expected"),
    [
        (
            "bank",
            {"cell_mah": 10_000.0, "levels": "5x3, 9x2", "auto_off_ma": 60.0},
            {"cell_mah": 10_000, "efficiency": 0.85, "auto_off_a": 0.06,
             "levels": ((5, 3), (9, 2))},
        ),
        (
            "panel",
            {"voc_v": 22.0, "isc_a": 6.0, "vmp_v": 18.0, "imp_a": 5.5, "in_series": 2},
            {"in_series": 2, "voc_per_c": -0.003, "power_per_c": -0.004},
        ),
        (
            "controller",
            {"max_a": 15.0, "max_v": 50.0, "method": "mppt", "settings": "agm, gel"},
            {"method": "mppt", "settings": ("agm", "gel"), "absorb_v": None},
        ),
        (
            "charger",
            {"max_a": 10.0, "series": "3, 4", "balances": True, "efficiency_pct": 90.0},
            {"series": (3, 4), "balances": True, "efficiency": 0.9, "resumes": True},
        ),
        (
            "generator",
            {"rated_w": 2000.0, "full_l_h": 1.1},
            {"rated_w": 2000, "full_l_h": 1.1, "limit_va": 2000},
        ),
        (
            "converter",
            {"out_v": 20.0, "max_w": 60.0, "method": "usb_pd", "levels": "20x3",
             "efficiency_low_pct": 80.0, "ports": 2, "shared_w": 30.0},
            {"efficiency_low": 0.8, "efficiency_full": 0.9, "levels": ((20, 3),),
             "shared_w": 30},
        ),
        (
            "lead",
            {"a_connector": "ring", "b_connector": "vehicle", "b_gender": "plug",
             "b_reversed": True, "awg": 12, "length_m": 2.0},
            {"awg": 12, "length_m": 2, "fuse_a": None},
        ),
        ("antenna", {"max_w": 200.0}, {"max_w": 200}),
    ],
)  # fmt: skip
def test_each_kind_becomes_its_core_value(stocked, marin, kind, values, expected):
    """Percents become shares, lists become tuples, the rest is as typed."""
    asset = save_asset(KINDS[kind], None, by=marin, tag="Z1", **values)

    made = gear_of(asset)

    assert is_dataclass(made)
    assert made.tag == "Z1"
    assert {name: getattr(made, name) for name in expected} == expected


def test_a_lead_s_ends_keep_their_gender_and_polarity(stocked, marin):
    """End a and end b are not mixed up."""
    lead = gear_of(
        save_asset(
            KINDS["lead"],
            None,
            by=marin,
            tag="W1",
            a_connector="ring",
            b_connector="vehicle",
            b_gender="plug",
            b_reversed=True,
        )
    )

    assert (lead.end_a.words, lead.end_b.words) == (
        "ring terminals",
        "vehicle socket plug, reversed",
    )


def test_what_a_load_does_not_say_is_filled_from_what_it_says(stocked, marin):
    """A light has one current; a radio without idle current idles as it receives."""
    light = device_of(
        save_asset(KINDS["device"], None, by=marin, tag="L1", receive_a=0.3)
    )
    radio = device_of(
        save_asset(
            KINDS["device"],
            None,
            by=marin,
            tag="R1",
            receive_a=1.0,
            key_down_a=20.0,
            low_key_down_a=0.5,
            duty_pct=100.0,
        )
    )

    assert (light.draw.key_down_a, light.transmit_share) == (0.3, 0.0)
    assert not light.is_transmitter
    assert (radio.draw.transmit_idle_a, radio.duty) == (1.0, 1.0)
    assert radio.low_draw.transmit_idle_a == 0.5  # never above its own key-down


def test_a_meter_s_age_counts_from_its_comparison(stocked, marin):
    """Days by the day that is handed in."""
    day = today()
    asset = save_asset(
        KINDS["meter"], None, by=marin, tag="A1", checked_on=day - timedelta(days=40)
    )

    assert meter_of(asset, day).checked_days == 40
    assert gear_of(asset).zero_a == 0


def test_a_battery_s_own_profile_reaches_the_plan_s_arithmetic(stocked, marin):
    """Disconnect and charging volts of this pack, not of its chemistry."""
    asset = save_battery(
        None, by=marin, tag="K9", chemistry="lifepo4", series=4, nameplate_ah=20.0,
        charge_v=14.2, disconnect_v=12.0, reserve_pct=30.0,
    )  # fmt: skip
    pack = shelf_batteries_of([asset])[0].pack

    assert (pack.absorb_v, pack.cut_off_v, pack.reserve_soc) == (14.2, 12.0, 0.3)
    assert ("Charging voltage", "14.2", "V") in facts_of(asset)


def test_parts_take_rating_and_wire_from_the_things_they_are(kit, marin):
    """A block of the shelf has its rating, a lead its length and gauge."""
    guard = save_asset(KINDS["guard"], None, by=marin, tag="F1", amps=35.0)
    lead = save_asset(
        KINDS["lead"], None, by=marin, tag="W1", a_connector="ring", b_connector="bare",
        length_m=1.7, awg=14,
    )  # fmt: skip
    joint = kit.path.get(what="joint")
    switch = kits.save_part(kit, None, what="switch", after=joint, asset=guard)
    kits.save_part(kit, None, what="cable", after=switch, asset=lead)
    kits.save_part(kit, None, what="cable", after=switch, length_m=2.0)
    parts = kit_of(rows_of_kit(kit), today()).parts

    (found,) = [part for part in parts if isinstance(part, Switch)]
    assert found.amps == 35
    wires = [part.wire for part in parts if isinstance(part, Cable)]
    assert [wire.words if wire else None for wire in wires] == [
        "AWG 10, 0.5 m", "AWG 14, 1.7 m", None,
    ]  # fmt: skip


def test_a_set_of_two_with_fuses_of_their_own(kit, shelf, marin):
    """The second battery of a path joins the first in parallel."""
    kits.save_part(kit, None, what="battery", asset=shelf["K02"], amps=25.0)
    core = kit_of(rows_of_kit(kit), today())

    assert [(m.battery.tag, m.fuse_a) for m in core.members] == [
        ("K01", None),
        ("K02", 25.0),
    ]
    assert core.trusted_ah == 38
    found = {one.finding.rule.id: one.finding for one in kit_page(kit)["shown"]}
    assert found["parallel-fuse"].where == "K01"


def test_meters_banks_and_ports_of_a_kit_in_the_kit_count(kit, marin):
    """Whatever lies in the bag belongs to the kit."""
    bag = save_asset(KINDS["kit"], None, by=marin, tag="Q02")
    meter = save_asset(KINDS["meter"], None, by=marin, tag="A1", zero_a=0.45)
    kits.save_item(bag, None, asset=meter)
    kits.save_item(kit, None, asset=bag)
    core = kit_of(rows_of_kit(kit), today())

    assert [one.tag for one in core.meters] == ["A1"]
    assert all(
        isinstance(part, Fuse | Cable | Feeds) or part.key for part in core.parts
    )
    assert {field.name for field in fields(core)} >= {"members", "parts", "charges"}


def test_a_lent_battery_is_counted_on_the_field_board(event, shelf, marin):
    """Every battery is accounted for, and the counts add up."""
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    custody.check_out([shelf["K01"]], to=heron, by=marin, at=event.clock.now())

    board = board_of(event, event.clock.now())

    counts = dict(board.counts)
    assert counts["lent"] == 1
    assert sum(counts.values()) == len(board.batteries)


def test_names_are_text_on_pages_and_paper(kit, boss):
    """Markup in a name is shown, never run."""
    nasty = "<script>alert(1)</script>"
    Asset.objects.filter(pk=kit.pk).update(name=nasty)
    kit.refresh_from_db()

    for url in (
        kit.get_absolute_url(),
        reverse("shelf:asset_list"),
        reverse("shelf:packing", args=[kit.pk]),
    ):
        page = boss.get(url).content.decode()
        assert nasty not in page
        assert escape(nasty) in page
    assert paper.kit_card(kit_page(kit), "a6").startswith(b"%PDF-")
