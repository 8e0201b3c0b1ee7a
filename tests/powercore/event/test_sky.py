"""The sky over an event: shade by the clock, forecast, days, what is counted where."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from powercore.errors import UnknownKey
from powercore.event.plans import SKIES, SkyHour
from powercore.event.sky import SkyView, sunshine
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SourcePlan
from powercore.values import TimeGrid, Window
from tests.builders import make_scenario, make_station

LAKES = Site(latitude=46.12, longitude=-95.4, altitude_m=410)
PANEL = Array(vmp_v=18.0, imp_a=5.56, voc_v=22.3, isc_a=6.0)
#: Local midnight at the lakes, and a day from there.
MIDNIGHT = "2026-06-27T05:00:00+00:00"


def day(forecast: tuple[SkyHour, ...] = (), site: Site = LAKES, **values) -> SkyView:
    """A local day at the lakes in five-minute steps."""
    return SkyView(
        site,
        values.get("zone", "America/Chicago"),
        values.get("start", MIDNIGHT),
        TimeGrid(step_min=5, count=values.get("steps", 288)),
        forecast,
    )


def test_shade_by_the_clock_takes_the_beam():
    """Shaded until 09:30 and after 17:00: diffuse light before and after."""
    view = day()
    shaded = replace(PANEL, lit_from_min=570, lit_until_min=1020)
    open_w = view.harvest(PANEL, "clear", 13.4).power_w
    lit_w = view.harvest(shaded, "clear", 13.4).power_w
    hours = np.arange(288) / 12

    noon = (hours >= 9.5) & (hours < 17)
    assert lit_w[noon] == pytest.approx(open_w[noon])
    early = (hours >= 8) & (hours < 9.5)
    assert 0 < lit_w[early].sum() < 0.5 * open_w[early].sum()


def test_a_forecast_holds_from_each_hour_to_the_next():
    """Clear till noon, overcast after: the morning is the clear sky's."""
    view = day(
        (SkyHour(start_min=0, oktas=0), SkyHour(start_min=720, oktas=8, air_c=20))
    )
    clear, forecast = (
        view.harvest(PANEL, sky, 13.4).power_w for sky in ("clear", "forecast")
    )

    assert forecast[:144] == pytest.approx(clear[:144])
    assert forecast[144:].sum() < 0.4 * clear[144:].sum()


def test_measured_light_counts_as_it_is():
    """A weather file's own light is what falls on the flat ground."""
    view = day((SkyHour(start_min=0, global_w=500.0),))
    light = view.light("forecast")

    assert light.global_w == pytest.approx(np.full(288, 500.0))
    with pytest.raises(UnknownKey, match="no sky 'rain'"):
        view.light("rain")


def test_without_a_forecast_half_cloud_is_assumed():
    """Four eighths: 7 % less than clear on the flat (Kasten & Czeplak)."""
    view = day()
    flat = replace(PANEL, tilt=0.0, dirt=0.0)
    clear, unknown = (
        view.harvest(flat, sky, 13.4).plane_w.sum() for sky in ("clear", "forecast")
    )

    assert unknown / clear == pytest.approx(0.92895, abs=0.005)


def test_days_are_local_ones():
    """A western evening is tomorrow in UTC, and still today's harvest."""
    view = day(steps=2 * 288)
    watts = view.harvest(PANEL, "clear", 13.4).power_w
    days = view.by_day(watts)

    assert [one.day for one in days] == ["2026-06-27", "2026-06-28"]
    assert days[0].wh == pytest.approx(watts[:288].sum() / 12)
    assert days[0].wh == pytest.approx(days[1].wh, rel=0.01)


def test_a_day_of_23_hours():
    """Where clocks go forward, shade by the clock follows the wall."""
    view = day(
        zone="Europe/Helsinki",
        site=Site(latitude=62, longitude=25),
        start="2026-03-28T22:00:00+00:00",
        steps=276,
    )

    assert set(view.day_names) == {"2026-03-29"}
    assert view.local_min[-1] == 23 * 60 + 57


@pytest.mark.parametrize(
    ("site", "start", "hours_dark"),
    [
        # Polar day and polar night, and a southern winter day (sunrise 07:00, sunset
        # 16:53 local: spa in the library).
        (Site(latitude=78, longitude=15), "2026-06-20T22:00:00+00:00", 0),
        (Site(latitude=78, longitude=15), "2026-12-20T23:00:00+00:00", 24),
        (Site(latitude=-33.9, longitude=151.2), "2026-06-20T14:00:00+00:00", 14.1),
    ],
)
def test_dark_hours_round_the_world(site, start, hours_dark):
    """Dark is when the sun is down, whatever the clock says."""
    view = day(site=site, start=start, zone="UTC")

    assert view.is_dark.sum() / 12 == pytest.approx(hours_dark, abs=0.2)


def test_a_southern_panel_faces_north():
    """In Sydney's winter a panel facing north beats one facing south."""
    view = day(
        site=Site(latitude=-33.9, longitude=151.2), start="2026-06-20T14:00:00+00:00"
    )
    north, south = (
        view.harvest(replace(PANEL, azimuth=azimuth), "clear", 13.4).power_w.sum()
        for azimuth in (0.0, 180.0)
    )

    assert north > 2 * south


def test_each_panel_feeds_its_own():
    """Stations and sources get what their panels give, the others nothing."""
    bank = SourcePlan(
        key="bank",
        name="bank",
        kind="buffer",
        max_w=100,
        windows=(Window(start_min=0, end_min=1440),),
        energy_wh=100,
        arrays=(PANEL, PANEL),
    )
    scenario = replace(
        make_scenario(
            stations=(make_station("a", arrays=(PANEL,)), make_station("b")),
            sources=(bank,),
            bays=(),
        ),
        site=LAKES,
    )
    by_sky = {sky: sunshine(scenario, sky) for sky in SKIES}

    assert by_sky["none"].stations["a"].sum() == 0
    clear = by_sky["clear"]
    assert clear.stations["b"].sum() == 0
    assert clear.sources["bank"] == pytest.approx(2 * clear.stations["a"])
    assert by_sky["forecast"].stations["a"].sum() < clear.stations["a"].sum()


def test_a_plan_without_a_place_has_no_sky():
    """No site: nothing is guessed."""
    scenario = make_scenario(stations=(make_station(arrays=(PANEL,)),))

    assert SkyView.of(scenario) is None
    assert sunshine(scenario, "clear").stations["esker"].sum() == 0
