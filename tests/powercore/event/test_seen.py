"""The sky that somebody saw counts where it was seen, and nowhere else."""

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from pvlib import clearsky
from pvlib.location import Location

from powercore.event.plans import CLEAR, FORECAST, NO_SUN, SkyHour
from powercore.event.seen import SeenSky, with_seen
from powercore.event.sky import SkyView
from powercore.sun.arrays import Site
from powercore.values import TimeGrid

GRID = TimeGrid.covering(600)
SITE = Site(latitude=47.0, longitude=0.0)


def light(sky, hours):
    view = SkyView(SITE, "UTC", "2026-06-27T08:00:00+00:00", GRID, tuple(hours))
    return view, view.light(sky).global_w


spans = st.lists(
    st.tuples(st.integers(-60, 500), st.integers(5, 120), st.integers(0, 8)), max_size=5
)


@given(spans, st.integers(0, 8))
def test_it_counts_where_it_was_seen_under_every_sky(spans, oktas):
    """Inside a stretch every sky gives the seen light; outside, its own."""
    forecast = [SkyHour(start_min=0, oktas=oktas, global_w=77.0, air_c=3.0)]
    seen = [SeenSky(start_min=a, end_min=a + b, oktas=o) for a, b, o in spans]
    found = with_seen(forecast, seen)
    assert [h.start_min for h in found] == sorted({h.start_min for h in found})
    assert all(hour.air_c == 3.0 for hour in found)
    view, dark = light(NO_SUN, [replace(h, global_w=None) for h in found])
    middles = (np.arange(GRID.count) + 0.5) * GRID.step_min
    inside = np.zeros(GRID.count, dtype=bool)
    for one in seen:
        inside |= (one.start_min <= middles) & (middles < one.end_min)
    assert (view.is_seen == inside).all()
    assert (dark[~inside] == 0).all()
    _, clear = light(CLEAR, found)
    assert np.allclose(clear[inside], dark[inside])
    _, expected = light(FORECAST, found)
    assert np.allclose(expected[~inside], 77.0)


def test_a_clear_sky_that_was_seen_gives_haurwitz_light():
    """At noon on a place where nothing was counted on, against pvlib's own model."""
    seen = [SeenSky(start_min=0, end_min=600, oktas=0)]
    view, found = light(NO_SUN, with_seen([], seen))
    position = Location(47.0, 0.0).get_solarposition(view.times)
    expected = clearsky.haurwitz(position["apparent_zenith"])["ghi"]

    assert np.allclose(found, expected, rtol=1e-3)
