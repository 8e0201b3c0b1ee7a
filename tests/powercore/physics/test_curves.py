"""The committed curves against the library they were computed with (--full only)."""

import json
import subprocess
import sys
from pathlib import Path

import pytest

from powercore.physics.chemistry import chemistry_of

ROOT = Path(__file__).resolve().parents[3]


@pytest.mark.full
def test_rested_voltages_are_what_the_modelling_library_computes():
    """PyBaMM, sets Prada2013, Chen2020 and Marquis2019 at 25 °C: 2 mV a cell."""
    done = subprocess.run(
        [sys.executable, str(ROOT / "scripts" / "rested_curves.py")],
        capture_output=True,
        text=True,
        check=True,
    )

    for key, curve in json.loads(done.stdout).items():
        assert list(chemistry_of(key).rested_v(curve["soc"])) == pytest.approx(
            curve["volts"], abs=0.002
        )
