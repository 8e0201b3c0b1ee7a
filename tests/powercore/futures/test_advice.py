"""Each piece of advice on a plan fires where it should and nowhere else."""

from __future__ import annotations

from dataclasses import replace

import pytest

from powercore.event.plans import SkyHour
from powercore.event.problem import Problem
from powercore.futures.advice import advice
from powercore.physics.loads import Load
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import Supply
from powercore.values import Window
from tests.builders import make_draw, make_scenario, make_station, steady
from tests.powercore.sun.test_sources import fuel, generator

DAY = (Window(start_min=0, end_min=1440),)
PANEL = Array(vmp_v=18, imp_a=5.56, voc_v=22.3, isc_a=6.0)
SITE = Site(latitude=46, longitude=-95)
CLOUD = (SkyHour(start_min=0, oktas=3),)


def words_of(scenario) -> str:
    """All that is said of a scenario."""
    return "\n".join(one.words for one in advice(Problem(scenario)))


def station(**values):
    """An event of one station that is like this."""
    return make_scenario(stations=(make_station(**values),))


def mains(**values) -> Supply:
    """Mains at the station all day."""
    return Supply(**{"kind": "mains", "max_w": 400, "windows": DAY} | values)


@pytest.mark.parametrize(
    ("wrong", "right", "words"),
    [
        (station(loads=()), station(), "draws nothing"),
        (
            station(loads=(Load(draw=make_draw()),), main_fuse_a=15),
            station(loads=(Load(draw=make_draw()),), main_fuse_a=25),
            "peaks at 20.0 A on a 15 A",
        ),
        (
            station(amps=9.0, main_fuse_a=10),
            station(amps=7.0, main_fuse_a=10),
            "over 80 % of its 10 A",
        ),
        (
            station(amps=9.0, feed_carries_a=8.0),
            station(amps=7.0, feed_carries_a=8.0),
            "its feed carries 8 A",
        ),
        (
            station(device_min_v=13.6),
            station(device_min_v=11.0),
            "no battery of the event can feed",
        ),
        (
            station(amps=8.0, path_ohm=0.2),
            station(amps=8.0, path_ohm=0.02),
            "1.6 V are lost",
        ),
        (
            station(amps=8.0, supplies=(mains(max_w=60),)),
            station(amps=2.0, supplies=(mains(),)),
            "key down takes 102 W",
        ),
        (
            station(amps=22.0, supplies=(mains(max_w=294.4, charges=True),)),
            station(amps=1.0, supplies=(mains(charges=True),)),
            "radio and charger at Esker",
        ),
        (
            station(supplies=(mains(transfer_s=2),)),
            station(supplies=(mains(),)),
            "dark for 2 s",
        ),
        (
            make_scenario(sources=(generator(),), bays=()),
            make_scenario(sources=(generator(fuel=fuel()),), bays=()),
            "nothing is known of the fuel",
        ),
        (
            make_scenario(sources=(generator(fuel=fuel(full_l_h=0.45)),), bays=()),
            make_scenario(sources=(generator(fuel=fuel()),), bays=()),
            "40% of its petrol",
        ),
        (
            station(arrays=(PANEL,)),
            replace(station(arrays=(PANEL,)), site=SITE, sky=CLOUD),
            "no place under the sky",
        ),
        (
            replace(station(arrays=(PANEL,)), site=SITE),
            replace(station(arrays=(PANEL,)), site=SITE, sky=CLOUD),
            "half cloud is assumed",
        ),
        (
            station(arrays=(replace(PANEL, max_a=4.0),)),
            station(arrays=(replace(PANEL, max_a=10.0),)),
            "more than its controller's 4 A",
        ),
        (
            station(arrays=(replace(PANEL, vmp_v=36, voc_v=44, method="pwm"),)),
            station(arrays=(replace(PANEL, vmp_v=36, voc_v=44),)),
            "waste more than half",
        ),
        (
            make_scenario(stations=(make_station("a"), make_station("b"))),
            make_scenario(
                stations=(
                    make_station("a"),
                    make_station("b", loads=(replace(steady(2), name="power desk"),)),
                )
            ),
            "power desk are no station's load",
        ),
    ],
)
def test_advice(wrong, right, words):
    """Said of the one event, not of the other."""
    assert words in words_of(wrong)
    assert words not in words_of(right)
