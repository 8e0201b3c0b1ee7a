"""
Battery chemistries: rested voltage, charging, limits and usual practice.

Where each number comes from stands beside it. "Common practice, no source" is a
default that a club may change; "from memory" names a source that could not be
opened when the number was written down.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from powercore.errors import UnknownKey
from powercore.values import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Chemistry:
    """What holds for every battery of one chemistry; volts are per cell."""

    key: str
    name: str
    #: Nominal voltage of a cell. [V]
    cell_nominal_v: float
    #: State of charge of the rested-voltage curve, rising. (0 to 1)
    curve_soc: tuple[float, ...]
    #: Rested voltage of a cell at those states of charge, rising. [V]
    curve_v: tuple[float, ...]
    #: How far a good cell may lie from the curve (one standard deviation). [V]
    curve_sd_v: float
    #: Charging voltage of a cell. [V]
    charge_v: float
    #: Low-voltage disconnect of a cell under load. [V]
    disconnect_v: float
    #: Protection opens at this cell voltage under load; 0 where there is none. [V]
    protection_v: float
    #: Charge given back over charge put in. (0 to 1)
    coulombic: float
    #: Usual charging current over capacity. [1/h]
    charge_c: float
    #: Charging is over when the current has fallen to this share. [1/h]
    tail_c: float
    #: Time constant of the falling current. [h]
    taper_h: float
    #: Share of the nameplate that an untested pack is trusted with. (0 to 1)
    untested_share: float
    #: State of charge that practice promises not to go below. (0 to 1)
    reserve_soc: float
    #: Resistance of a 100 Ah cell with its share of protection. [Ω]
    cell_ohm_100ah: float
    #: Series cells of the usual "12 V" pack.
    usual_series: int
    #: What to be careful of, in a sentence.
    caution: str

    def rested_v(self, soc: FloatArray | float) -> FloatArray:
        """Rested voltage of a cell at a state of charge. [V]"""
        return np.asarray(np.interp(soc, self.curve_soc, self.curve_v))

    def soc_at(self, cell_v: FloatArray | float) -> FloatArray:
        """State of charge whose rested voltage this is, clamped to 0 and 1."""
        return np.asarray(np.interp(cell_v, self.curve_v, self.curve_soc))


def _twelve_volt(*volts: float) -> tuple[float, ...]:
    return tuple(volt / 6 for volt in volts)


_QUARTERS = (0.0, 0.25, 0.5, 0.75, 1.0)

#: Fuse, isolation and the maker's word come first, whatever the chemistry.
_LITHIUM = (
    "Never charge at or below 0 °C; watch it while it charges; never use a swollen, "
    "punctured or wet pack. The maker's instructions come first."
)
_LEAD = (
    "Gives off explosive gas while charging: ventilate, no sparks, eye protection. "
    "Heavy: two people or a cart. The maker's instructions come first."
)

CHEMISTRIES: dict[str, Chemistry] = {
    chemistry.key: chemistry
    for chemistry in (
        Chemistry(
            key="lifepo4",
            name="LiFePO4",
            cell_nominal_v=3.2,
            # Electrode curves of the parameter set of Prada et al. 2013 (LiFePO4
            # after Afshar et al. 2017, graphite after Chen et al. 2020) as computed
            # by the battery-modelling library PyBaMM at 25 °C; a model, and within
            # 60 mV per cell of the tables in common use from 20 to 95 %.
            curve_soc=(
                0,
                0.05,
                0.1,
                0.2,
                0.3,
                0.4,
                0.5,
                0.6,
                0.7,
                0.8,
                0.9,
                0.95,
                0.97,
                0.99,
                1.0,
            ),
            curve_v=(
                2.0,
                2.785,
                2.978,
                3.169,
                3.206,
                3.253,
                3.266,
                3.269,
                3.274,
                3.31,
                3.314,
                3.316,
                3.327,
                3.415,
                3.6,
            ),
            curve_sd_v=0.015,  # about hysteresis of 20 mV: Dreyer et al. 2010, memory
            charge_v=3.6,  # 14.4 V for four cells: common practice, no source
            disconnect_v=2.875,  # 11.5 V for four cells: common practice, no source
            protection_v=2.6,  # 10.0 to 10.8 V for four: common practice, no source
            coulombic=0.99,  # common practice, no source
            charge_c=0.33,  # "C/3 is kind": common practice, no source
            tail_c=0.05,  # common practice, no source
            taper_h=0.1,  # little is left for the hold; common practice, no source
            untested_share=0.9,  # common practice, no source
            reserve_soc=0.2,  # common practice, no source
            cell_ohm_100ah=0.002,  # 8 to 30 mΩ for 12 V: common practice, no source
            usual_series=4,
            caution=_LITHIUM,
        ),
        Chemistry(
            key="nmc",
            name="Li-ion (NMC)",
            cell_nominal_v=3.7,
            # Parameter set of Chen et al. 2020, computed by PyBaMM.
            curve_soc=(0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0),
            curve_v=(
                2.5,
                3.296,
                3.485,
                3.581,
                3.667,
                3.751,
                3.841,
                3.948,
                4.042,
                4.097,
                4.2,
            ),
            curve_sd_v=0.025,  # common practice, no source
            charge_v=4.2,  # common practice, no source
            disconnect_v=3.2,  # common practice, no source
            protection_v=2.7,  # common practice, no source
            coulombic=0.99,  # common practice, no source
            charge_c=0.5,  # common practice, no source
            tail_c=0.05,  # common practice, no source
            taper_h=0.4,  # 9 % in the hold at C/2 in the modelling library's run
            untested_share=0.8,  # common practice, no source
            reserve_soc=0.2,  # common practice, no source
            cell_ohm_100ah=0.003,  # common practice, no source
            usual_series=3,
            caution=_LITHIUM,
        ),
        Chemistry(
            key="agm",
            name="AGM lead-acid",
            cell_nominal_v=2.0,
            # Rested 4 h or more at 25 °C; makers' tables, from memory.
            curve_soc=_QUARTERS,
            curve_v=_twelve_volt(11.80, 12.03, 12.30, 12.58, 12.85),
            curve_sd_v=0.012,  # common practice, no source
            charge_v=2.4,  # 14.4 V for six cells: common practice, no source
            disconnect_v=1.9167,  # 11.5 V for six cells: common practice, no source
            protection_v=0.0,
            coulombic=0.93,  # 0.90 to 0.97: common practice, no source
            charge_c=0.14,  # C/10 to C/7: common practice, no source
            tail_c=0.01,  # common practice, no source
            taper_h=1.5,  # the last fifth takes 3 to 5 h: common practice, no source
            untested_share=0.7,  # common practice, no source
            reserve_soc=0.5,  # half depth: common practice, no source
            cell_ohm_100ah=0.001,  # 3 to 8 mΩ for 12 V: common practice, no source
            usual_series=6,
            caution=_LEAD,
        ),
        Chemistry(
            key="gel",
            name="Gel lead-acid",
            cell_nominal_v=2.0,
            curve_soc=_QUARTERS,  # makers' tables, from memory
            curve_v=_twelve_volt(11.80, 12.00, 12.35, 12.65, 12.86),
            curve_sd_v=0.012,  # common practice, no source
            charge_v=2.358,  # 14.1 to 14.2 V for six: common practice, no source
            disconnect_v=1.9167,  # 11.5 V for six cells: common practice, no source
            protection_v=0.0,
            coulombic=0.93,  # common practice, no source
            charge_c=0.12,  # common practice, no source
            tail_c=0.01,  # common practice, no source
            taper_h=1.6,  # common practice, no source
            untested_share=0.7,  # common practice, no source
            reserve_soc=0.5,  # common practice, no source
            cell_ohm_100ah=0.0012,  # common practice, no source
            usual_series=6,
            caution=_LEAD,
        ),
        Chemistry(
            key="flooded",
            name="Flooded lead-acid",
            cell_nominal_v=2.0,
            # Battery Council style table, rested 4 h or more, from memory.
            curve_soc=_QUARTERS,
            curve_v=_twelve_volt(11.89, 12.06, 12.24, 12.45, 12.65),
            curve_sd_v=0.012,  # common practice, no source
            charge_v=2.433,  # 14.4 to 14.8 V for six: common practice, no source
            disconnect_v=1.9167,  # 11.5 V for six cells: common practice, no source
            protection_v=0.0,
            coulombic=0.88,  # 0.85 to 0.90: common practice, no source
            charge_c=0.12,  # common practice, no source
            tail_c=0.01,  # common practice, no source
            taper_h=1.6,  # common practice, no source
            untested_share=0.7,  # common practice, no source
            reserve_soc=0.5,  # common practice, no source
            cell_ohm_100ah=0.0017,  # 5 to 15 mΩ for 12 V: common practice, no source
            usual_series=6,
            caution=_LEAD,
        ),
    )
}


def chemistry_of(key: str) -> Chemistry:
    """
    Return a chemistry by its key.

    Raises
    ------
    UnknownKey
        If there is no such chemistry; the error lists those there are.
    """
    try:
        return CHEMISTRIES[key]
    except KeyError:
        known = ", ".join(CHEMISTRIES)
        raise UnknownKey(f"No chemistry '{key}'; there are {known}.") from None
