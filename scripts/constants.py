"""
Write docs/constants.md: what stands in the code from memory, and what it decides.

    PYTHONPATH=src .venv/bin/python scripts/constants.py [--check]

Values are read from the code. A file of src that says "from memory" has its lines here,
or the check fails; so does a line about a file that says so no more.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

from powercore.event.problem import LIFT_KG
from powercore.gear.checks import RULES
from powercore.gear.things import PD_TOLERANCE
from powercore.physics.battery import MOST_SPARES
from powercore.physics.chemistry import CHEMISTRIES
from powercore.physics.wiring import (
    BLADE_INTERRUPTS_A,
    DROP_FINE,
    DROP_MOST,
    FUSE_WITHIN_M,
    Wire,
)
from powercore.sun.sizing import CRITICAL_RATIO
from powercore.sun.solar import cloud_share
from powercore.sun.sources import PETROL_KWH_L

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "docs" / "constants.md"
MARK = "from memory"


@dataclass(frozen=True, slots=True)
class Row:
    """A value from memory."""

    #: File of src that has it.
    file: str
    what: str
    value: str
    said_by: str
    #: Another way to it, with the test that walks it, or why there is none.
    bounded: str
    #: What would be wrong if the value were.
    decides: str


def _volts(key: str) -> str:
    chem = CHEMISTRIES[key]
    return ", ".join(
        f"{soc:.0%} {volts:.2f} V"
        for soc, volts in zip(chem.curve_soc, chem.curve_v, strict=True)
    )


def _amps(insulation: str) -> str:
    wires = {
        awg: Wire(length_m=1, awg=awg, insulation=insulation, bundle="free")
        for awg in (14, 10, 6, 2)
    }
    return ", ".join(f"AWG {g} {one.ampacity_a:.0f} A" for g, one in wires.items())


def rows() -> list[Row]:
    """All of them, by file."""
    lead = CHEMISTRIES["agm"]
    wiring, chemistry = "powercore/physics/wiring.py", "powercore/physics/chemistry.py"
    return [
        Row(
            wiring,
            "resistance of stranded metric wire",
            "2.5 mm² 7.98, 10 mm² 1.91, 35 mm² 0.554 Ω/km at 20 °C",
            "IEC 60228, class 5",
            "10 to 16 % above solid copper of that area (IEC 60028): "
            "`test_wiring.py::test_stranded_wire_is_solid_copper_and_its_lay`",
            "volts lost in metric wires, by a few per cent",
        ),
        Row(
            wiring,
            "current of a single wire, 105 °C insulation",
            _amps("hot"),
            "ABYC E-11",
            "within 20 % of what warms it by 75 °C in still air: "
            "`test_wiring.py::test_a_table_is_near_what_warms_the_wire`",
            "stops and cautions about wires and fuses; sizes that are advised",
        ),
        Row(
            wiring,
            "current of ordinary wire",
            _amps("ordinary"),
            "ABYC E-11 above AWG 10, common practice to there",
            "at most what warms it by 45 °C in still air: the same test",
            "the same",
        ),
        Row(
            wiring,
            "what is left for wires that lie together",
            "two or three 70 %, four to six 60 %",
            "ABYC E-11",
            "none; both below 1, so it errs towards thicker wire",
            "the same, for wires in a box or a bundle",
        ),
        Row(
            wiring,
            "most that a blade fuse interrupts",
            f"{BLADE_INTERRUPTS_A:.0f} A",
            "ISO 8820-3",
            "none",
            "the caution `fuse-interrupt`, for packs of some 100 Ah and more",
        ),
        Row(
            wiring,
            "longest wire from a battery to its fuse",
            f"{FUSE_WITHIN_M * 1000:.0f} mm",
            "ABYC E-11: 7 in",
            "none; the wire before a fuse is protected by nothing at any length",
            "the caution `fuse-far`",
        ),
        Row(
            wiring,
            "voltage drop that is fine, and too much",
            f"{DROP_FINE:.0%}, {DROP_MOST:.0%}",
            "ABYC E-11",
            "none; what a device stands is worked out beside it, from its own limits",
            "the caution `voltage-drop`; the thinnest wire that is advised",
        ),
        Row(
            "powercore/physics/battery.py",
            "batteries on a passenger aircraft",
            f"100 and 160 Wh; {MOST_SPARES} spares each above 100 Wh",
            "49 CFR 175.10(a)(18), IATA DGR 2.3.5",
            "none; the page says to ask the airline",
            "the stops `air` and `air-spares`",
        ),
        Row(
            chemistry,
            "lithium is not charged at or below",
            f"{CHEMISTRIES['lifepo4'].cold_charge_c:.0f} °C",
            "cell makers' sheets",
            "none; makers print 0 °C, some 5 °C, and their word comes first",
            "the stop `cold-charge`; bays that a plan uses on cold days",
        ),
        Row(
            chemistry,
            "lead-acid in the cold",
            "at -20, 0, 10, 25 °C: "
            + ", ".join(f"{share:.0%}" for share in lead.cold_share),
            "1 + 0.006 (T - 25), as used with IEEE 485",
            "none",
            "energy of lead-acid at cold stations: 9 % for 15 °C",
        ),
        *(
            Row(
                chemistry,
                f"rested volts of {CHEMISTRIES[key].name}, six cells",
                ", ".join(
                    f"{soc:.0%} {6 * volts:.2f} V"
                    for soc, volts in zip(
                        CHEMISTRIES[key].curve_soc,
                        CHEMISTRIES[key].curve_v,
                        strict=True,
                    )
                ),
                source,
                "none yet: no model of the cell is compared",
                "state of charge from volts: 0.1 V is about a tenth of the charge",
            )
            for key, source in (
                ("agm", "makers' tables"),
                ("gel", "makers' tables"),
                ("flooded", "tables in the style of the Battery Council"),
            )
        ),
        Row(
            chemistry,
            "rate at which NiMH is printed",
            f"{CHEMISTRIES['nimh'].rated_h:.0f} h",
            "IEC 61951-2: 0.2 C",
            "none",
            "bench tests of NiMH; the exponent is 1.05, so 5 h for 10 h is 3 %",
        ),
        Row(
            chemistry,
            "rested volts of an alkaline cell",
            _volts("alkaline"),
            "IEC 60086",
            "none",
            "run time of dry cells, to a fifth or so",
        ),
        Row(
            "powercore/sun/sizing.py",
            "panels against load for what must not fail",
            f"{CRITICAL_RATIO:g}",
            "IEEE 1562",
            "none",
            "the hand formula on a station's page; no plan uses it",
        ),
        Row(
            "powercore/sun/sizing.py",
            "the form of the battery formula",
            "greatest of the limits, or every share multiplied",
            "IEEE 1013 and IEEE 485",
            "both are shown; the simulated ledger stands beside them",
            "the hand formula on a station's page; no plan uses it",
        ),
        Row(
            "powercore/event/problem/crews.py",
            "what one person carries to one station",
            f"{LIFT_KG:g} kg",
            "ISO 11228-1, reference mass",
            "no second way: people differ, and makers or local rules may say less",
            "which batteries a crew may bring, and how many people a walk takes",
        ),
        Row(
            "powercore/sun/sources.py",
            "energy of petrol",
            f"{PETROL_KWH_L:.2f} kWh/L",
            "US EPA: 33.7 kWh per US gallon",
            "none",
            "the advice that a generator's fuel use is typed wrong",
        ),
        Row(
            "powercore/sun/solar.py",
            "light that clouds leave",
            f"4/8 {float(cloud_share(4.0)):.0%}, 8/8 {float(cloud_share(8.0)):.0%}",
            "Kasten and Czeplak 1980",
            "none; futures let a day's light differ by 20 %",
            "harvest under a typed or forecast sky; a noon reading corrects it",
        ),
        Row(
            "powercore/gear/things.py",
            "how far a USB-C level may lie from its name",
            f"{PD_TOLERANCE:.0%}",
            "USB power delivery",
            "none",
            "the findings on devices that are fed by USB-C",
        ),
        Row(
            "hollow_kettle/plan/stations/library.py",
            "duty of modes while transmitting",
            "phone 20 %, Morse 40 %, FM and digital 100 %",
            "FCC OET 65, Supplement B, Table 2",
            "none; a club adds patterns of its own, and readings show real use",
            "mean draw: ten points more on phone are about a fifth more in a contest",
        ),
        *(
            Row(
                file,
                f"rule{'s' if len(keys) > 1 else ''} {', '.join(keys)}",
                "as above" if is_above else value,
                "; ".join(
                    sorted({RULES[k].source.replace(f", {MARK}", "") for k in keys})
                ),
                "as above" if is_above else "none",
                "the findings themselves",
            )
            for file, keys, is_above, value in _RULES
        ),
    ]


#: Rules whose source is from memory: file, keys, whether the value is one of the
#: above, else the value.
_RULES = (
    (
        "powercore/gear/checks/travel.py",
        ["air", "air-spares", "terminals-covered"],
        True,
        "",
    ),
    (
        "powercore/gear/checks/fusing.py",
        ["fuse-above-wire", "fuse-far", "fuse-interrupt"],
        True,
        "",
    ),
    ("powercore/gear/checks/wires.py", ["voltage-drop", "wire-ampacity"], True, ""),
    ("powercore/gear/checks/charging.py", ["cold-charge"], True, ""),
    ("powercore/gear/checks/sources.py", ["generator-place"], False, "6 m (20 ft)"),
    (
        "powercore/gear/checks/panels.py",
        ["controller-amps"],
        False,
        "1.25 × short-circuit current",
    ),
    (
        "powercore/gear/checks/usb.py",
        ["pd-level", "pd-cable", "pd-not-a-level"],
        False,
        "5, 9, 15, 20 V; 3 A without a marked lead",
    ),
)

#: Files where only a reference of the literature is from memory.
_NO_VALUE = {
    "powercore/rotation/proof/__init__.py",
    "powercore/rotation/proof/branch.py",
}


def page() -> str:
    """The whole page."""
    found = rows()
    lines = [
        "# Values from memory",
        "",
        "Made by `scripts/constants.py` from the code. Other values name a published",
        'source, a library that computes them, or "common practice, no source" beside',
        "them. For these a source is named, but could not be looked up.",
        "",
        "| what | value | said by | bounded by | decides |",
        "| --- | --- | --- | --- | --- |",
    ]
    lines += [
        f"| {row.what} | {row.value} | {row.said_by} | {row.bounded} | {row.decides} |"
        for row in found
    ]
    lines += [
        "",
        "References of the literature that are cited from memory, without a value from",
        "them: " + ", ".join(f"`{file}`" for file in sorted(_NO_VALUE)) + ".",
        "",
    ]
    return "\n".join(lines)


def unlisted() -> list[str]:
    """Files that say "from memory" and have no line here, or the other way round."""
    src = ROOT / "src"
    said = {
        str(path.relative_to(src))
        for path in src.rglob("*.py")
        if MARK in " ".join(path.read_text().lower().replace("#:", "").split())
    }
    listed = {row.file for row in rows()} | _NO_VALUE
    return sorted(said ^ listed)


def main() -> int:
    """Write the page, or check it; exit code 1 when it is not right."""
    wrong = unlisted()
    for file in wrong:
        print(f"{file}: says or is said to be from memory, and the other does not")
    if "--check" not in sys.argv:
        PAGE.write_text(page())
    elif PAGE.read_text() != page():
        print("docs/constants.md is not what scripts/constants.py writes")
        return 1
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
