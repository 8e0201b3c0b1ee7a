"""A year of hourly sun for ten arrays, against the library's own chain for each."""

import json
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import numpy as np  # noqa: E402 - after the path
import pandas as pd  # noqa: E402
from pvlib.location import Location  # noqa: E402
from pvlib.modelchain import ModelChain  # noqa: E402
from pvlib.pvsystem import Array as PvArray  # noqa: E402
from pvlib.pvsystem import FixedMount, PVSystem  # noqa: E402

from powercore.sun import solar  # noqa: E402
from powercore.sun.arrays import Array, Site  # noqa: E402

ARRAYS = 10


def main() -> None:
    """Sun, cloudy sky and ten tilts: 8,760 hours each."""
    times = pd.date_range("2026-01-01", periods=8760, freq="h", tz="UTC")
    oktas = np.random.default_rng(1).uniform(0, 8, times.size)
    tilts = [5.0 + 6 * number for number in range(ARRAYS)]
    began = time.perf_counter()
    sun = solar.sun_at(Site(latitude=46.1, longitude=-95.4), times)
    light = solar.light_under(sun, oktas)
    ours = [
        solar.harvest(
            Array(
                vmp_v=18, imp_a=5.56, voc_v=22.3, isc_a=6, tilt=t, dirt=0, cable_ohm=0
            ),
            sun,
            light,
        ).power_w.sum()
        for t in tilts
    ]
    our_s = time.perf_counter() - began
    weather = pd.DataFrame(
        {
            "ghi": light.global_w,
            "dni": light.beam_w,
            "dhi": light.diffuse_w,
            "temp_air": 20.0,
            "wind_speed": 1.0,
        },
        index=times,
    )
    began = time.perf_counter()
    theirs = [_chain(tilt, weather) * solar.TRACKING for tilt in tilts]
    their_s = time.perf_counter() - began
    apart = max(abs(a / b - 1) for a, b in zip(ours, theirs, strict=True))
    assert apart < 0.02, apart
    print(
        json.dumps(
            {
                "what": f"a year of hourly sun for {ARRAYS} arrays",
                "sides": [
                    {"name": "library's chain, each", "value": their_s, "unit": "s"},
                    {"name": "ours, sun and sky shared", "value": our_s, "unit": "s"},
                    {"name": "largest difference", "value": apart, "unit": ""},
                ],
                "ratio": their_s / our_s,
                "target": "about 2 s for ours; within 2 % of the chain",
            }
        )
    )


def _chain(tilt: float, weather: pd.DataFrame) -> float:
    system = PVSystem(
        arrays=[
            PvArray(
                FixedMount(tilt, 180, racking_model="open_rack"),
                albedo=solar.ALBEDO,
                module_parameters={"pdc0": 18 * 5.56, "gamma_pdc": -0.004},
                temperature_model_parameters={"u0": 25.0, "u1": 6.84},
            )
        ],
        inverter_parameters={"pdc0": 1000.0},
    )
    chain = ModelChain(
        system,
        Location(46.1, -95.4),
        transposition_model="haydavies",
        aoi_model="no_loss",
        spectral_model="no_loss",
        dc_model="pvwatts",
        ac_model="pvwatts",
        temperature_model="faiman",
        losses_model="no_loss",
    )
    return float(chain.run_model(weather).results.dc.sum())


if __name__ == "__main__":
    main()
