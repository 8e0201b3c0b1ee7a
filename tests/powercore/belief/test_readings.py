"""Odd readings: by the cells and the chemistry of the pack, not by 12 V."""

import pytest

from powercore.belief.readings import odd_volts
from powercore.physics.battery import Pack


@pytest.mark.parametrize(
    ("chemistry", "series", "volts", "is_odd"),
    [
        # Common practice, no source: what a meter shows of each at work.
        ("lifepo4", 4, 13.2, False),
        ("lifepo4", 4, 26.4, True),
        ("lifepo4", 8, 26.4, False),
        ("lifepo4", 8, 13.2, True),
        ("lifepo4", 4, 14.6, False),  # at the end of a charge
        ("agm", 6, 11.8, False),
        ("agm", 12, 25.2, False),
        ("nmc", 3, 12.4, False),
        ("nmc", 3, 14.4, True),  # three cells on a charger for four of another kind
        ("lifepo4", 4, 0.0, True),
    ],
)
def test_odd_is_what_such_a_pack_never_shows(chemistry, series, volts, is_odd):
    """24 V are odd for four cells and usual for eight."""
    pack = Pack(chemistry=chemistry, series=series, nameplate_ah=20)

    assert (odd_volts(volts, pack) is not None) == is_odd


def test_of_an_unknown_battery_12_v_are_usual_and_0_v_say_tripped():
    """Nobody knows which it is: asked only where no 12 V battery lies."""
    assert odd_volts(12.6, None) is None
    assert "9.0 and 15.0 V" in odd_volts(25.6, None)
    assert "tripped" in odd_volts(0.2, None)
