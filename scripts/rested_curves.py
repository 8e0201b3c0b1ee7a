"""
Compute the rested-voltage curves of lithium cells, and points to check them by.

    PYTHONPATH=src python scripts/rested_curves.py [--check]

Needs the battery-modelling library PyBaMM, which ./kettle test --full installs. Writes
src/powercore/physics/curves.py: knots so dense that straight lines between them are
within `FINE` of the library; and tests/powercore/physics/curve_points.json: what the
library says at points that are no knots. With --check nothing is written: it fails
where either is not what the library says.
"""

import json
import sys
from pathlib import Path

import numpy as np
import pybamm

ROOT = Path(__file__).resolve().parents[1]
KNOTS = ROOT / "src" / "powercore" / "physics" / "curves.py"
POINTS = ROOT / "tests" / "powercore" / "physics" / "curve_points.json"
#: Of each curve, the sets of its positive and of its negative electrode. The first set
#: has no graphite of its own: it borrows one with silicon in it, which sags below a
#: third of the charge as no LiFePO4 cell does; so it is paired with a pure graphite.
PARAMETER_SETS = {
    "lifepo4": ("Prada2013", "Ecker2015"),
    "nmc": ("Chen2020", "Chen2020"),
    "lipo": ("Marquis2019", "Marquis2019"),
}
#: Where packs rest when empty and full by makers' tables, from memory; a model's ends
#: lie beyond, at volts that only a charger holds. [V]
ENDS_V = {"lifepo4": (2.5, 3.4)}
#: How far lines between knots may lie from the library. [V]
FINE = 0.001


def rested_v(key: str, soc: np.ndarray) -> np.ndarray:
    """Open-circuit volts of a cell at states of charge, at 25 °C."""
    positives, negatives = (pybamm.ParameterValues(s) for s in PARAMETER_SETS[key])
    x0, x1, _, _ = pybamm.lithium_ion.get_min_max_stoichiometries(negatives)
    _, _, y1, y0 = pybamm.lithium_ion.get_min_max_stoichiometries(positives)
    parameters = pybamm.LithiumIonParameters()
    volts = []
    for share in soc:
        x, y = x0 + share * (x1 - x0), y0 - share * (y0 - y1)
        negative = parameters.n.prim.U(pybamm.Scalar(x), pybamm.Scalar(298.15))
        positive = parameters.p.prim.U(pybamm.Scalar(y), pybamm.Scalar(298.15))
        volts.append(
            float(positives.evaluate(positive)) - float(negatives.evaluate(negative))
        )
    found = np.array(volts)
    if key in ENDS_V:
        low, high = ENDS_V[key]
        inside = (found > low) & (found < high)
        found = np.interp(soc, [0, *soc[inside], 1], [low, *found[inside], high])
    return found


def knots_of(volts: np.ndarray) -> list[int]:
    """Which of evenly spaced points are knots: each where it is worst so far."""
    at, chosen = np.arange(volts.size), [0, volts.size - 1]
    while True:
        off = np.abs(np.interp(at, chosen, volts[chosen]) - volts)
        if off.max() < FINE:
            return chosen
        chosen = sorted([*chosen, int(off.argmax())])


def main() -> None:
    """Write both files, or check them."""
    soc = np.linspace(0, 1, 2001)
    curves, points = {}, {}
    for key in PARAMETER_SETS:
        volts = rested_v(key, soc)
        chosen = knots_of(volts)
        curves[key] = [(float(soc[at]), round(float(volts[at]), 4)) for at in chosen]
        others = [at for at in range(7, 2001, 17) if at not in chosen]
        points[key] = [[float(soc[at]), round(float(volts[at]), 5)] for at in others]
    pieces = []
    for key, pairs in curves.items():
        lines = "".join(f"        ({s:.4f}, {v:.4f}),\n" for s, v in pairs)
        pieces.append(f'    "{key}": (\n{lines}    ),\n')
    code = (
        '"""Rested voltage of lithium; written by scripts/rested_curves.py."""\n\n'
        "#: State of charge and volts of a cell at rest, 25 °C, by PyBaMM: sets\n"
        "#: Prada2013 with the graphite of Ecker2015 (LiFePO4), Chen2020 (NMC),\n"
        "#: Marquis2019 (LCO).\n"
        "CURVES: dict[str, tuple[tuple[float, float], ...]] = {\n"
        f"{''.join(pieces)}}}\n"
    )
    data = json.dumps(points) + "\n"
    if "--check" in sys.argv:
        is_same = KNOTS.read_text() == code and POINTS.read_text() == data
        sys.exit(0 if is_same else "The curves are not what the library says now.")
    KNOTS.write_text(code)
    POINTS.write_text(data)


if __name__ == "__main__":
    main()
