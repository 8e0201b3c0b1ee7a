"""Sizing by hand formula, against worked examples."""

import pytest

from powercore.errors import OutOfRange
from powercore.sun.sizing import battery_size, panel_w


def test_both_forms_of_battery_sizing():
    """30 Ah a day for 3 days: 235.62 Ah by the greatest, 294.53 Ah by the product."""
    # IEEE 1013 / IEEE 485 style, worked by hand: U = 90 Ah; 180, 112.5 and 150 Ah are
    # the candidates; 10 C takes 1.19 (IEEE 485, from memory), margin 1.10.
    found = battery_size(
        30,
        3,
        depth=0.5,
        end_of_life=0.8,
        daily_depth=0.2,
        temperature_factor=1.19,
        margin=1.10,
    )

    assert found.unadjusted_ah == 90
    assert found.greatest_ah == pytest.approx(235.62)
    assert found.product_ah == pytest.approx(294.525)


def test_panels_by_hours_of_full_sun():
    """384 Wh a day at 4 h: 128 W, 166.4 W at 1.3; 100 W for 5.2 h are 30.47 Ah."""
    # Worked by hand with a system factor of 0.75.
    assert panel_w(384, 4.0) == pytest.approx(128)
    assert panel_w(384, 4.0, ratio=1.3) == pytest.approx(166.4)
    # And back: 100 W for 5.2 h bring 390 Wh, 30.47 Ah at 12.8 V.
    assert panel_w(30.47 * 12.8, 5.2) == pytest.approx(100, abs=0.01)
    with pytest.raises(OutOfRange, match="Hours of full sun"):
        panel_w(384, 0)
