"""Numbers as people type them, and the time grid."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import NotANumber, OutOfRange
from powercore.values import UNITS, TimeGrid, in_range, parse_number, parse_quantity


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


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        # NIST SP 811 (2008), appendix B.8: 0.3048 m, 0.0254 m, 0.453 592 37 kg.
        ("30 ft", "m", 9.144), ("30'", "m", 9.144), ("14 feet", "m", 4.2672),
        ('18"', "m", 0.4572), ("9,5 m", "m", 9.5), ("120cm", "m", 1.2),
        ("31 lb", "kg", 14.06136347), ("2300 mAh", "Ah", 2.3), ("0.5 kW", "W", 500),
        ("1.5 h", "min", 90), ("90 min", "h", 1.5), ("2 min", "s", 120),
        # Appendix B.9: t/°C = (t/°F − 32)/1.8; water freezes, and boils.
        ("32 °F", "°C", 0), ("212 F", "°C", 100), ("-40 °F", "°C", -40), ("7", "m", 7),
    ],
)  # fmt: skip
def test_a_unit_that_is_typed_is_understood(text, unit, value):
    """Feet where metres are asked, and the like; a bare number is in the field's."""
    assert parse_quantity(text, "It", unit) == pytest.approx(value, abs=1e-12)


@pytest.mark.parametrize(
    ("text", "unit"), [("30 V", "m"), ("30 ft", "V"), ("5 6", "m"), ("1,200 ft", "m")]
)
def test_a_unit_of_another_kind_is_refused(text, unit):
    """Never read as a bare number."""
    with pytest.raises(NotANumber, match="Length"):
        parse_quantity(text, "Length", unit)


@given(st.floats(-1e5, 1e5), st.sampled_from([(u, o) for u in UNITS for o in UNITS[u]]))
def test_every_unit_is_read_as_its_share(value, names):
    """With or without a blank, in any case."""
    unit, own = names
    text = f"{value:.3f}"
    want = float(text) * UNITS[unit][own]
    for typed in (f"{text}{own}", f"{text} {own.upper()}"):
        assert parse_quantity(typed, "It", unit) == pytest.approx(want)


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
