"""
Compute the rested-voltage curves of powercore.physics.chemistry anew.

Needs the battery-modelling library PyBaMM, which ./kettle test --full installs.
Prints JSON: for each chemistry the state of charge and the volts per cell.
"""

import json
import sys
from pathlib import Path

import numpy as np
import pybamm

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from powercore.physics.chemistry import CHEMISTRIES

PARAMETER_SETS = {"lifepo4": "Prada2013", "nmc": "Chen2020", "lipo": "Marquis2019"}


def rested_v(parameter_set: str, soc: list[float]) -> list[float]:
    """Open-circuit volts of a cell at states of charge, at 25 °C."""
    values = pybamm.ParameterValues(parameter_set)
    x0, x1, y1, y0 = pybamm.lithium_ion.get_min_max_stoichiometries(values)
    parameters = pybamm.LithiumIonParameters()
    volts = []
    for share in soc:
        x, y = x0 + share * (x1 - x0), y0 - share * (y0 - y1)
        negative = parameters.n.prim.U(pybamm.Scalar(x), pybamm.Scalar(298.15))
        positive = parameters.p.prim.U(pybamm.Scalar(y), pybamm.Scalar(298.15))
        volts.append(float(values.evaluate(positive - negative)))
    return volts


if __name__ == "__main__":
    curves = {}
    for key, parameter_set in PARAMETER_SETS.items():
        soc = [float(s) for s in CHEMISTRIES[key].curve_soc]
        curves[key] = {"soc": soc, "volts": rested_v(parameter_set, soc)}
    print(json.dumps(curves, default=np.ndarray.tolist))
