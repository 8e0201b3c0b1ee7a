"""Rested-voltage curves against the battery-modelling library."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from powercore.physics.chemistry import CHEMISTRIES, chemistry_of

ROOT = Path(__file__).resolve().parents[3]
POINTS = json.loads(Path(__file__).with_name("curve_points.json").read_text())


@pytest.mark.parametrize("chemistry", POINTS)
def test_between_its_knots_a_curve_is_what_the_library_computes(chemistry):
    """PyBaMM, sets Prada2013, Chen2020 and Marquis2019 at 25 °C: 2 mV a cell."""
    soc, volts = np.array(POINTS[chemistry]).T
    chem = chemistry_of(chemistry)
    assert not set(soc) & set(chem.curve_soc)

    assert chem.rested_v(soc) == pytest.approx(volts, abs=0.002)


@pytest.mark.parametrize("chemistry", CHEMISTRIES)
def test_a_curve_rises_and_is_read_both_ways(chemistry):
    """Volts of each charge lead back to it."""
    chem, soc = chemistry_of(chemistry), np.linspace(0, 1, 501)
    volts = chem.rested_v(soc)

    assert (np.diff(volts) > 0).all()
    assert chem.soc_at(volts) == pytest.approx(soc, abs=1e-6)


@pytest.mark.full
def test_the_committed_curves_are_what_the_script_writes():
    """Knots and points, computed anew."""
    script = str(ROOT / "scripts" / "rested_curves.py")
    subprocess.run([sys.executable, script, "--check"], check=True)
