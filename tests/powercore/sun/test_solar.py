"""Sun, sky, plane of array, panel and controller against published values."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pvlib import solarposition
from pvlib.location import Location
from pvlib.modelchain import ModelChain
from pvlib.pvsystem import Array as PvArray
from pvlib.pvsystem import FixedMount, PVSystem

from powercore.errors import OutOfRange
from powercore.sun import solar
from powercore.sun.arrays import Array, Horizon, Site, factor_from_reading

HUNDRED_W = {"vmp_v": 18.0, "imp_a": 5.56, "voc_v": 22.3, "isc_a": 6.0}


def harvest(array, sun, light, **how):
    """What an array gives a battery of 12 V on its charger."""
    return solar.harvest(array, sun, light, battery_v=13.4, **how)


def day_at(date: str, zone: str, step_min: int = 1) -> pd.DatetimeIndex:
    """Midpoints of the steps of a local day, in UTC."""
    start = pd.Timestamp(date, tz=zone)
    edges = pd.date_range(start, start + pd.Timedelta(days=1), freq=f"{step_min}min")
    return (edges[:-1] + pd.Timedelta(minutes=step_min / 2)).tz_convert("UTC")


def test_position_matches_the_worked_example():
    """Zenith and azimuth are those of the published example."""
    # Reda & Andreas, NREL/TP-560-34302, worked example of the appendix.
    sun = solar.sun_at(
        Site(latitude=39.742476, longitude=-105.1786, altitude_m=1830.14),
        pd.DatetimeIndex(["2003-10-17 19:30:30"], tz="UTC"),
    )

    # The example states pressure and temperature, here they follow from the altitude.
    assert sun.apparent_zenith[0] == pytest.approx(50.11162, abs=1e-3)
    assert sun.zenith[0] == pytest.approx(50.127954, abs=1e-4)
    assert sun.azimuth[0] == pytest.approx(194.340241, abs=1e-3)


@pytest.mark.parametrize(
    ("utc", "place", "zenith", "azimuth"),
    [
        # pvlib's spa_python, cross-checked with its ephemeris within 0.007 degrees.
        ("2024-06-22 16:00", (41.7, -72.7), 21.3539, 144.7393),
        ("2024-01-27 18:00", (45.0, -93.3), 63.7257, 173.1565),
        ("2024-12-21 02:00", (-33.9, 151.2), 10.5651, 351.5692),
        ("2024-06-21 00:00", (64.1, -21.9), 90.7380, 339.5758),
        ("2024-03-20 12:00", (0.0, 0.0), 1.8331, 85.4145),
    ],
)
def test_position_round_the_world(utc, place, zenith, azimuth):
    """A second algorithm of the library agrees in both hemispheres."""
    times = pd.DatetimeIndex([utc], tz="UTC")
    sun = solar.sun_at(Site(latitude=place[0], longitude=place[1]), times)
    other = solarposition.ephemeris(times, *place)

    assert sun.zenith[0] == pytest.approx(zenith, abs=0.01)
    # Near the zenith a hair of time turns the azimuth far.
    assert sun.azimuth[0] == pytest.approx(azimuth, abs=0.05)
    assert sun.zenith[0] == pytest.approx(90 - other["elevation"].iloc[0], abs=0.01)


@pytest.mark.parametrize(
    ("zone", "place", "date", "rise", "down"),
    [
        # pvlib's sun_rise_set_transit_spa; UTC, of the local day. Its closed form is
        # up to half a minute off where that day crosses the day of UTC.
        ("America/New_York", (41.7, -72.7), "2024-06-22", "09:16:46", "00:29:00"),
        ("America/Chicago", (45.0, -93.3), "2024-01-27", "13:38:45", "23:13:28"),
        ("Australia/Sydney", (-33.9, 151.2), "2024-12-21", "18:41:18", "09:05:46"),
        # Across the date line: a local day that is the next one by its longitude.
        ("Pacific/Apia", (-13.8, -172.0), "2026-06-27", "17:51:31", "05:10:13"),
        ("Pacific/Chatham", (-44.0, -176.5), "2026-06-27", "19:21:54", "04:15:45"),
    ],
)
def test_sunrise_and_sunset_belong_to_the_local_day(zone, place, date, rise, down):
    """A western sunset may be tomorrow in UTC, an eastern sunrise yesterday."""
    found = solar.sun_hours(
        Site(latitude=place[0], longitude=place[1]), pd.Timestamp(date, tz=zone)
    )

    assert found is not None
    assert [moment.tz_convert(zone).date().isoformat() for moment in found] == [
        date,
        date,
    ]
    for moment, expected in zip(found, (rise, down), strict=True):
        seconds = moment.tz_convert("UTC").time()
        assert abs(pd.Timedelta(str(seconds)) - pd.Timedelta(expected)).seconds <= 30


def test_polar_day_and_night_have_no_sunrise():
    """Neither is an error."""
    far_north = Site(latitude=78.2, longitude=15.6)

    for date in ("2024-06-21", "2024-12-21"):
        assert solar.sun_hours(far_north, pd.Timestamp(date, tz="UTC")) is None


def test_cloud_matches_the_published_form():
    """Kasten & Czeplak, Solar Energy 24 (1980): 1 - 0.75 (N/8)^3.4 (from memory)."""
    assert solar.cloud_share(np.array([0, 2, 4, 6, 8])) == pytest.approx(
        [1, 0.99327, 0.92895, 0.71799, 0.25], abs=1e-5
    )


@pytest.mark.parametrize(
    ("tilt", "azimuth", "zenith", "sun_azimuth", "light", "extra", "total"),
    [
        # irradiance.get_total_irradiance, Hay & Davies 1980, albedo 0.2.
        (30, 180, 35, 180, (800, 110), 1360, 971.767),
        (45, 180, 62, 165, (420, 90), 1400, 797.800),
        (25, 0, 40, 20, (750, 150), 1395, 917.844),
        (0, 180, 35, 180, (800, 110), 1360, 800.0),
    ],
)
def test_plane_of_array(tilt, azimuth, zenith, sun_azimuth, light, extra, total):
    """Light in a tilted plane; on the flat it is the global light."""
    sun = solar.Sun(
        apparent_zenith=np.array([zenith * 1.0]),
        zenith=np.array([zenith * 1.0]),
        azimuth=np.array([sun_azimuth * 1.0]),
        extra_w=np.array([extra * 1.0]),
        day=np.array([172]),
    )
    global_w, diffuse_w = light
    found = solar.plane_light(
        sun,
        solar.Light(
            global_w=np.array([global_w * 1.0]),
            beam_w=np.array([(global_w - diffuse_w) / np.cos(np.radians(zenith))]),
            diffuse_w=np.array([diffuse_w * 1.0]),
        ),
        tilt,
        azimuth,
    )

    assert found[0] == pytest.approx(total, abs=0.01)


@pytest.mark.parametrize(
    ("date", "zone", "place", "facing", "flat", "tilted"),
    [
        # spa_python, haurwitz x Kasten-Czeplak, erbs, Hay-Davies at 1-min midpoints;
        # Wh/m2 at 0, 4 and 8 oktas.
        (
            "2024-06-22",
            "America/New_York",
            (41.7, -72.7),
            (30, 180),
            (8793, 8168, 2198),
            (8190, 7642, 2080),
        ),
        (
            "2024-01-27",
            "America/Chicago",
            (45.0, -93.3),
            (60, 180),
            (2486, 2309, 621),
            (5470, 4712, 516),
        ),
        (
            "2024-06-21",
            "Australia/Sydney",
            (-33.9, 151.2),
            (45, 0),
            (3198, 2971, 799),
            (6135, 5463, 724),
        ),
    ],
)
def test_whole_days(date, zone, place, facing, flat, tilted):
    """Sums of a day in three seasons and both hemispheres."""
    site = Site(latitude=place[0], longitude=place[1])
    sun = solar.sun_at(site, day_at(date, zone))

    for number, oktas in enumerate((0, 4, 8)):
        light = solar.light_under(sun, oktas)
        plane = solar.plane_light(sun, light, *facing)
        assert light.global_w.sum() / 60 == pytest.approx(flat[number], rel=0.01)
        assert plane.sum() / 60 == pytest.approx(tilted[number], rel=0.02)


@pytest.mark.parametrize(
    ("date", "zone", "place", "outside_wh"),
    [
        # Daily extraterrestrial light, Wh/m2, of the same chain; by the hand formula
        # (Duffie & Beckman, Cooper's declination, from memory) 11642, 3771 and 12322.
        ("2024-06-22", "America/New_York", (41.7, -72.7), 11632),
        ("2024-01-27", "America/Chicago", (45.0, -93.3), 3845),
        ("2024-12-21", "Australia/Sydney", (-33.9, 151.2), 12336),
    ],
)
def test_light_outside_the_air(date, zone, place, outside_wh):
    """What would fall on the flat ground without air, summed over a local day."""
    site = Site(latitude=place[0], longitude=place[1])
    sun = solar.sun_at(site, day_at(date, zone))
    flat = sun.extra_w * np.maximum(np.cos(np.radians(sun.zenith)), 0)

    assert flat.sum() / 60 == pytest.approx(outside_wh, rel=0.005)


def test_another_clear_sky_stays_within_ten_percent():
    """Haurwitz against Ineichen-Perez (turbidity 3), a second model of a clear day."""
    site = Location(41.7, -72.7)
    times = day_at("2024-06-22", "America/New_York", 5)
    sun = solar.sun_at(Site(latitude=41.7, longitude=-72.7), times)
    ours = solar.light_under(sun, 0).global_w.sum()
    other = site.get_clearsky(times, model="ineichen", linke_turbidity=3.0)["ghi"].sum()

    assert ours == pytest.approx(other, rel=0.10)


def test_harvest_matches_the_library_s_own_chain():
    """The same models through pvlib's ModelChain give the same day within 2 %."""
    times = day_at("2024-06-22", "America/New_York", 5)
    sun = solar.sun_at(Site(latitude=41.7, longitude=-72.7), times)
    light = solar.light_under(sun, 2)
    array = Array(**HUNDRED_W, tilt=30, azimuth=180, dirt=0, cable_ohm=0)
    ours = harvest(array, sun, light, air_c=20, wind_ms=1)
    chain = ModelChain(
        PVSystem(
            arrays=[
                PvArray(
                    FixedMount(30, 180, racking_model="open_rack"),
                    albedo=0.2,
                    module_parameters={"pdc0": array.watts, "gamma_pdc": -0.004},
                    temperature_model_parameters={"u0": 25.0, "u1": 6.84},
                )
            ],
            inverter_parameters={"pdc0": 1000.0},
        ),
        Location(41.7, -72.7),
        transposition_model="haydavies",
        aoi_model="no_loss",
        spectral_model="no_loss",
        dc_model="pvwatts",
        ac_model="pvwatts",
        temperature_model="faiman",
        losses_model="no_loss",
    )
    chain.run_model(
        pd.DataFrame(
            {
                "ghi": light.global_w,
                "dni": light.beam_w,
                "dhi": light.diffuse_w,
                "temp_air": 20.0,
                "wind_speed": 1.0,
            },
            index=times,
        )
    )

    assert ours.power_w.sum() == pytest.approx(
        chain.results.dc.sum() * solar.TRACKING, rel=0.02
    )


def test_controllers_at_full_sun():
    """A 100 W panel: what a plain and a tracking controller pass on."""
    pwm = Array(**HUNDRED_W, method="pwm", cable_ohm=0)
    mppt = Array(**HUNDRED_W, cable_ohm=0)

    # One-diode model of that panel (singlediode, fit_desoto_batzelis): 76.4 W at
    # 13.0 V and 25 C; 5.88 A. MPPT by hand: 100.08 W x 0.95.
    assert solar.passed_w(pwm, 1000, 25, 13.0) == pytest.approx(76.4, rel=0.03)
    assert solar.passed_w(pwm, 1000, 50, 13.0) == pytest.approx(77.2, rel=0.03)
    assert solar.passed_w(mppt, 1000, 25, 13.4) == pytest.approx(95.08, abs=0.01)
    # PVWatts DC, NREL/TP-6A20-62641: 800 W/m2 at 50 C leave 72 % of the label.
    assert solar.passed_w(mppt, 800, 50, 13.4) == pytest.approx(0.72 * 95.076, abs=0.01)


def test_a_hot_panel_on_the_ground_gives_less():
    """Faiman 2008: 1000 W/m2 at 25 C without wind is 65 C in an open rack."""
    sun = solar.sun_at(
        Site(latitude=41.7, longitude=-72.7),
        pd.DatetimeIndex(["2024-06-22 17:00"], tz="UTC"),
    )
    light = solar.light_under(sun, 0)
    racked = harvest(Array(**HUNDRED_W), sun, light, air_c=25, wind_ms=0)
    lying = harvest(
        Array(**HUNDRED_W, is_on_ground=True), sun, light, air_c=25, wind_ms=0
    )

    assert racked.cell_c[0] == pytest.approx(25 + racked.plane_w[0] / 25, abs=1e-6)
    assert lying.power_w[0] < racked.power_w[0]


def test_trees_take_the_beam_and_leave_sky():
    """Behind a tree line there is still some light, never more than in the open."""
    site = Site(latitude=46.1, longitude=-95.4)
    sun = solar.sun_at(site, day_at("2026-06-27", "America/Chicago", 5))
    light = solar.light_under(sun, 0)
    array = Array(**HUNDRED_W)
    open_w = harvest(array, sun, light).power_w
    trees = Horizon(((60, 5), (90, 30), (180, 10), (270, 40), (300, 5)))
    treed = harvest(array, sun, light, horizon=trees).power_w
    behind = solar.hidden(trees, sun) & (sun.elevation > 8)

    assert trees.elevation_at(135) == pytest.approx(20)
    assert (treed <= open_w + 1e-9).all()
    assert 0 < treed[behind].sum() < 0.35 * open_w[behind].sum()
    assert Horizon(((0, 90),)).sky_view == pytest.approx(0, abs=1e-9)


def test_the_view_of_the_sky_is_the_integral_over_the_open_dome():
    """Flat ground gets cos θ of an even sky: ∫∫ cos θ sin θ dθ dφ / π, by hand."""
    horizon = Horizon(((0, 10), (90, 35), (200, 5), (300, 60)))
    around = np.arange(0.5, 360)
    seen = 0.0
    for height in horizon.elevation_at(around):
        theta = np.radians(np.linspace(0, 90 - height, 400))
        seen += np.trapezoid(np.cos(theta) * np.sin(theta), theta) * np.radians(1)

    assert horizon.sky_view == pytest.approx(seen / np.pi, rel=2e-3)


def test_turning_the_panel_pays():
    """Turned more often it gains; flat it can't be turned."""
    site = Site(latitude=46.1, longitude=-95.4)
    sun = solar.sun_at(site, day_at("2026-06-27", "America/Chicago", 5))
    light = solar.light_under(sun, 0)
    gives = [
        harvest(Array(**HUNDRED_W, tilt=45, turns=turns), sun, light)
        for turns in (0, 3, 8)
    ]
    sums = [one.power_w.sum() for one in gives]

    assert sums[0] < sums[1] < sums[2]


def test_a_reading_calibrates_the_rest():
    """5 A at 13.2 V where the model says 73 W: ratio 0.904; nonsense is refused."""
    assert factor_from_reading(5.0, 13.2, 73.0) == pytest.approx(66 / 73, abs=1e-3)
    with pytest.raises(OutOfRange, match="time, the sky or the panel"):
        factor_from_reading(9.0, 13.2, 73.0)
    with pytest.raises(OutOfRange, match="near noon"):
        factor_from_reading(0.1, 13.2, 1.0)


@given(
    latitude=st.floats(-90, 90),
    longitude=st.floats(-180, 180),
    day=st.dates(pd.Timestamp("2024-01-01").date(), pd.Timestamp("2028-12-31").date()),
    oktas=st.floats(0, 8),
    tilt=st.floats(0, 90),
    azimuth=st.floats(0, 360),
)
def test_harvest_is_finite_everywhere(latitude, longitude, day, oktas, tilt, azimuth):
    """At the poles, over the date line, on leap days: a number, never below zero."""
    sun = solar.sun_at(
        Site(latitude=latitude, longitude=longitude),
        pd.date_range(str(day), periods=24, freq="h", tz="UTC"),
    )
    array = Array(**HUNDRED_W, tilt=tilt, azimuth=azimuth)
    found = harvest(array, sun, solar.light_under(sun, oktas)).power_w

    assert np.isfinite(found).all()
    assert (found >= 0).all()
    # Flat, clouds only take; a panel that faces away may gain by them.
    flat = Array(**HUNDRED_W, tilt=0)
    clear, cloudy = (
        harvest(flat, sun, solar.light_under(sun, cloud)).plane_w.sum()
        for cloud in (0, oktas)
    )
    assert cloudy <= clear + 1e-6


@pytest.mark.parametrize(
    ("values", "named"),
    [
        ({"vmp_v": 23.0}, "Max-power voltage"),
        ({"power_per_c": 0.004}, "Temperature coefficient"),
        ({"tilt": 95.0}, "Tilt"),
        ({"lit_from_min": 900, "lit_until_min": 600}, "Shaded after"),
    ],
)
def test_impossible_panels_are_refused(values, named):
    """The error names what is wrong."""
    with pytest.raises(OutOfRange, match=named):
        Array(**HUNDRED_W | values)


@pytest.mark.parametrize("method", ["pwm", "mppt"])
def test_a_panel_made_for_12_v_gives_nothing_to_24_and_48_v(method):
    """At most 17.6 V at work against 26 V: nothing flows; two in series do."""
    one = Array(**HUNDRED_W, method=method, cable_ohm=0)
    assert solar.passed_w(one, 1000, 50, 13.4) > 70
    assert solar.passed_w(one, 1000, 50, 26.6) == 0
    assert solar.passed_w(one, 1000, 25, 53.0) == 0
    two = HUNDRED_W | {"vmp_v": 2 * one.vmp_v, "voc_v": 2 * one.voc_v}
    assert (
        solar.passed_w(Array(**two, method=method, cable_ohm=0), 1000, 50, 26.6) > 140
    )


@pytest.mark.parametrize(
    ("zone", "place"),
    [
        ("Europe/Oslo", (69.65, 18.96)),
        ("Pacific/Chatham", (-43.95, -176.55)),
        ("Australia/Lord_Howe", (-31.55, 159.08)),
        ("Pacific/Pago_Pago", (-14.28, -170.7)),
        ("Pacific/Kiritimati", (1.87, -157.4)),
    ],
)
@pytest.mark.parametrize("date", ["2026-03-01", "2026-05-15", "2026-09-21"])
def test_at_sunrise_and_sunset_the_sun_stands_50_minutes_of_arc_below(
    zone, place, date
):
    """By the library's second algorithm, where local days cross the day of UTC too."""
    found = solar.sun_hours(
        Site(latitude=place[0], longitude=place[1]), pd.Timestamp(date, tz=zone)
    )

    assert found is not None
    times = pd.DatetimeIndex([one.tz_convert("UTC") for one in found])
    other = solarposition.ephemeris(times, *place)
    assert other["elevation"].to_numpy() == pytest.approx([-0.8333] * 2, abs=0.02)
    assert {one.tz_convert(zone).date().isoformat() for one in found} == {date}
    noon = pd.Timestamp(f"{date} 12:00", tz=zone)
    assert found[0] < noon + pd.Timedelta(hours=3)
    assert found[1] > noon - pd.Timedelta(hours=3)
