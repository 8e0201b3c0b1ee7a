"""A sound kit for tests, and one change at a time to make it unsound."""

from dataclasses import replace

from powercore.gear.powerpath import (
    Block,
    Cable,
    Charge,
    Conditions,
    Converts,
    Feeds,
    Fuse,
    Joint,
    Kit,
    Member,
    Switch,
)
from powercore.gear.things import (
    AntennaPart,
    Battery,
    Charger,
    Controller,
    Converter,
    Device,
    Generator,
    Meter,
    Panel,
    Port,
    PowerBank,
)
from powercore.physics.loads import Draw
from powercore.physics.wiring import End, Wire
from tests.builders import make_pack

RADIO = Device(
    tag="R1",
    draw=Draw(receive_a=1.2, transmit_idle_a=3.0, key_down_a=21.0),
    low_draw=Draw(receive_a=1.2, transmit_idle_a=2.6, key_down_a=9.5),
    min_v=11.7,
    max_v=15.8,
    maker_fuse_a=25,
    tx_w=100,
    low_tx_w=25,
)
SMALL = Device(
    tag="R2",
    draw=Draw(receive_a=0.1, transmit_idle_a=0.2, key_down_a=0.9),
    min_v=9.0,
    max_v=15.0,
    nominal_v=12.0,
    tx_w=5,
)
LAPTOP = Device(
    tag="L1",
    draw=Draw(receive_a=1.0, transmit_idle_a=1.0, key_down_a=1.0),
    min_v=19,
    max_v=21,
    nominal_v=20,
    pd_v=20,
    pd_w=45,
)
PD = Converter(
    tag="C1",
    method="usb_pd",
    in_min_v=10,
    in_max_v=32,
    out_v=20,
    max_w=60,
    levels=((5, 3), (9, 3), (15, 3), (20, 3)),
)
CHARGER = Charger(
    tag="G1",
    max_a=10,
    absorb_v=14.4,
    setting="lifepo4",
    settings=("lifepo4", "agm"),
    how_set="jumper",
    wakes_tripped=True,
)
SUPPLY = Charger(tag="S1", role="supply", max_a=45, absorb_v=14.2, is_isolated=True)
PANEL = Panel(tag="P1", voc_v=22.3, isc_a=6.0, vmp_v=18.0, imp_a=5.56)
MPPT = Controller(
    tag="M1", method="mppt", max_a=15, max_v=50, setting="lifepo4", absorb_v=14.4
)
PWM = replace(MPPT, method="pwm")
PAIR = End(connector="genderless-45")


def battery(tag="K07", **values) -> Battery:
    """A tested 50 Ah LiFePO4 pack whose maker's limits are known."""
    pack = {"nameplate_ah": 50, "tested_ah": 48} | values.pop("pack", {})
    return Battery(
        **{
            "tag": tag,
            "pack": make_pack(**pack),
            "max_charge_a": 25,
            "max_discharge_a": 50,
            "protection": "common",
            "mass_kg": 6.2,
            "tested_days": 60,
        }
        | values
    )


def agm(tag="K12", **values) -> Battery:
    """A tested 75 Ah AGM battery."""
    pack = {"chemistry": "agm", "series": 6, "nameplate_ah": 75, "tested_ah": 70}
    return battery(
        tag, pack=pack | values.pop("pack", {}), **{"mass_kg": 19.0} | values
    )


def lipo(**pack) -> Battery:
    """Three LiPo cells."""
    return battery(
        pack={"chemistry": "lipo", "series": 3, "nameplate_ah": 5, "tested_ah": 5}
        | pack,
        max_charge_a=5,
        protection="none",
    )


PARTS = (
    Fuse(key="main", amps=40, name="main fuse"),
    Cable(key="feed", after="main", wire=Wire(length_m=0.4, awg=10)),
    Switch(key="switch", after="feed", amps=40),
    Block(key="block", after="switch", main_a=60),
    Fuse(key="f-radio", after="block", amps=25),
    Cable(key="w-radio", after="f-radio", wire=Wire(length_m=0.8, awg=10)),
    Joint(key="j-radio", after="w-radio", end=PAIR, mate=PAIR),
    Feeds(key="radio", after="j-radio", device=RADIO),
    Fuse(key="f-usb", after="block", amps=10),
    Cable(key="w-usb", after="f-usb", wire=Wire(length_m=0.3, awg=16)),
    Converts(key="usb", after="w-usb", converter=PD),
    Feeds(key="laptop", after="usb", device=LAPTOP),
)


def good(**changes) -> Kit:
    """A kit with nothing wrong: one battery, a radio, a laptop, a charger."""
    values = {
        "members": (Member(battery=battery()),),
        "parts": PARTS,
        "charges": (Charge(key="bay", source=CHARGER),),
        "conditions": Conditions(low_c=8, high_c=32),
    }
    return Kit(**values | changes)


def member(*batteries: Battery, fuse_a: float | None = 60, **values) -> dict:
    """These batteries instead."""
    return {
        "members": tuple(Member(battery=b, fuse_a=fuse_a, **values) for b in batteries)
    }


def part(key: str, **values) -> dict:
    """One part changed."""
    return {"parts": tuple(replace(p, **values) if p.key == key else p for p in PARTS)}


def changed(parts: dict[str, dict]) -> dict:
    """Several parts changed, by their keys."""
    return {"parts": tuple(replace(p, **parts.get(p.key, {})) for p in PARTS)}


def device(**values) -> dict:
    """The radio changed."""
    return part("radio", device=replace(RADIO, **values))


def without(*keys: str) -> dict:
    """Parts left out; what hung on them hangs on what was before them."""
    parts = list(PARTS)
    for key in keys:
        gone = next(p for p in parts if p.key == key)
        parts = [
            replace(p, after=gone.after) if p.after == key else p
            for p in parts
            if p.key != key
        ]
    return {"parts": tuple(parts)}


def charged(source=CHARGER, **values) -> dict:
    """One other way of charging."""
    return {"charges": (Charge(key="bay", source=source, **values),)}


def at(**values) -> dict:
    """Other conditions."""
    return {"conditions": replace(Conditions(low_c=8, high_c=32), **values)}


def port(name: str, connector="barrel-5521", **values) -> Port:
    """A 12 V outlet."""
    end = End(
        connector=connector,
        gender=values.pop("gender", "socket"),
        is_reversed=values.pop("is_reversed", False),
    )
    return Port(
        owner="kit", name=name, end=end, **{"low_v": 10, "high_v": 14.6} | values
    )


BANK = PowerBank(tag="B1", cell_mah=10_000)
METER = Meter(tag="A1", zero_a=0.01, checked_days=30)
TUNER = AntennaPart(tag="T1", max_w=200)
GENERATOR = Generator(tag="GEN", rated_w=2000)
