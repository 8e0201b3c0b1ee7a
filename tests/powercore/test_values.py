"""Numbers as people type them, and the time grid."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import NotANumber, OutOfRange
from powercore.values import TimeGrid, in_range, parse_number


@pytest.mark.parametrize(
    ("text", "number"),
    [("12.94", 12.94), ("12,94", 12.94), (" 7 ", 7), ("-0,5", -0.5), ("−3", -3)],
)
def test_point_and_comma_are_both_decimal(text, number):
    """12.94 and 12,94 are the same number, with blanks and either minus sign."""
    assert parse_number(text, "Volts") == pytest.approx(number)


@pytest.mark.parametrize("text", ["", "NaN", "inf", "1,234.5", "12 V", "1e5", "=1+2"])
def test_what_is_not_a_plain_number_is_named(text):
    """Anything else is refused with the field's name."""
    with pytest.raises(NotANumber, match="Volts must be a plain number"):
        parse_number(text, "Volts")


def test_out_of_range_names_field_value_range_and_reason():
    """The message is enough to put the value right."""
    with pytest.raises(OutOfRange) as caught:
        in_range("Cells", 0, low=1, high=120, why="a pack has cells")

    assert (
        str(caught.value)
        == "Cells must be between 1 and 120, not 0 (a pack has cells)."
    )


@given(
    st.lists(st.floats(0, 500), min_size=1, max_size=50),
    st.integers(1, 60),
)
def test_cumulative_energy_is_the_sum_of_power_times_time(watts, step_min):
    """The last edge holds all the energy, and it never falls."""
    grid = TimeGrid(step_min=step_min, count=len(watts))

    drawn = grid.cumulative_wh(np.array(watts))

    assert drawn[-1] == pytest.approx(sum(watts) * step_min / 60, abs=1e-9)
    assert (np.diff(drawn) >= 0).all()
