"""
Battery chemistries: rested voltage, charging, limits and usual practice.

Where each number comes from stands beside it. "Common practice, no source" is a
default that a club may change; "from memory" names a source that could not be
opened when the number was written down.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypedDict

import numpy as np

from powercore.errors import UnknownKey
from powercore.physics.curves import CURVES
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
    #: Charging is over when the current has fallen to this share. [1/h]
    tail_c: float
    #: Time constant of the falling current. [h]
    taper_h: float
    #: Share of the nameplate that an untested pack is trusted with. (0 to 1)
    untested_share: float
    #: Years of usual keeping after which practice counts on 80 % of what it was.
    life_years: float
    #: State of charge that practice promises not to go below. (0 to 1)
    reserve_soc: float
    #: Resistance of a 100 Ah cell. [Ω]
    cell_ohm_100ah: float
    #: Small cells are made for more current: resistance goes with one over the
    #: capacity and so many amp-hours. [Ah]
    small_ah: float = 0.0
    #: Resistance of protection board, leads and connector of a pack. [Ω]
    fixed_ohm: float = 0.0
    #: Lowest and highest charging voltage that makers give for such cells. [V]
    charge_range_v: tuple[float, float]
    #: Voltage at which a full cell may be kept; None means do not float. [V]
    float_v: float | None
    #: Highest float in use; what `float_v` says where left out. [V]
    float_most_v: float | None = None
    #: What a cell shows fresh off its charger; the charging voltage where left out. [V]
    fresh_v: float | None = None
    #: Change of the charging voltage with temperature, from 25 °C on. [V/°C]
    compensation_v_per_c: float = 0.0
    #: Highest usual charging current over capacity. [1/h]
    max_charge_c: float
    #: Highest usual current out over capacity, where the maker says nothing. [1/h]
    max_discharge_c: float
    #: No charging at or below this temperature of the cells. [°C]
    cold_charge_c: float
    #: Cells suffer above this temperature. [°C]
    hot_c: float = 45.0
    #: Peukert's exponent, and the hours for which the capacity is printed. [h]
    peukert: float = 1.0
    rated_h: float = 20.0
    #: Of lead-acid: currents over the capacity, rising, and the share of the capacity
    #: that comes out at each, by makers' tables; beyond them by the last slope. [1/h]
    rate_c: tuple[float, ...] = ()
    rate_share: tuple[float, ...] = ()
    #: Just above the cold limit and up to this it is charged gently, at so much over
    #: its capacity. [°C], [1/h]
    gentle_c: float | None = None
    gentle_rate: float = 0.1
    #: Share of the capacity that is there at a temperature, rising. [°C], (0 to 1)
    cold_temp_c: tuple[float, ...] = (-30.0, -20.0, -10.0, 0.0, 10.0, 25.0)
    cold_share: tuple[float, ...]
    #: Charge lost in a month at 25 °C; doubles for each 10 °C more. (0 to 1)
    self_discharge_month: float
    #: State of charge to store at, and the lowest to let it sink to. (0 to 1)
    storage_soc: float
    top_up_soc: float
    #: Days after which practice tests the capacity again. [d]
    test_days: int = 365
    is_lithium: bool = False
    is_lead: bool = False
    #: Whether acid runs out when it falls over.
    spills: bool = False
    #: Cells of a series string are charged with a balance lead or by protection.
    needs_balance: bool = False
    is_rechargeable: bool = True
    #: What to be careful of, in a sentence.
    caution: str

    @property
    def top_v(self) -> float:
        """Highest voltage of a cell at the end of a charge and just after it. [V]"""
        return self.charge_v if self.fresh_v is None else self.fresh_v

    def capacity_share(self, temp_c: float) -> float:
        """Share of the 25 °C capacity that is there at a temperature. (0 to 1)"""
        return float(np.interp(temp_c, self.cold_temp_c, self.cold_share))

    def charge_v_at(self, temp_c: float, charge_v: float | None = None) -> float:
        """Charging voltage of a cell, compensated for temperature. [V]"""
        base_v = self.charge_v if charge_v is None else charge_v
        return base_v + self.compensation_v_per_c * (temp_c - 25)

    def rested_v(self, soc: FloatArray | float) -> FloatArray:
        """Rested voltage of a cell at states of charge (0 to 1). [V], shape of `soc`"""
        return np.asarray(np.interp(soc, self.curve_soc, self.curve_v))

    def soc_at(self, cell_v: FloatArray | float) -> FloatArray:
        """States of charge (0 to 1) of cells at rest. [V] in; shape of `cell_v`"""
        return np.asarray(np.interp(cell_v, self.curve_v, self.curve_soc))


def _twelve_volt(*volts: float) -> tuple[float, ...]:
    return tuple(volt / 6 for volt in volts)


class _Curve(TypedDict):
    curve_soc: tuple[float, ...]
    curve_v: tuple[float, ...]


def _library(key: str) -> _Curve:
    """The curve that the modelling library computes, as knots."""
    soc, volts = zip(*CURVES[key], strict=True)
    return {"curve_soc": soc, "curve_v": volts}


#: Lead-acid's currents over its capacity at 20, 10, 5, 3 and 1 h, half an hour and a
#: quarter; what comes out of each kind at them is by makers' tables of small blocks,
#: from memory.
_RATES = (0.05, 0.093, 0.17, 0.253, 0.6, 1.0, 1.7)
#: And its capacity in the cold: 60 to 70 % at -15 °C, where it is used in hours and not
#: in days; makers' sheets, from memory.
_LEAD_COLD = (0.45, 0.58, 0.7, 0.82, 0.91, 1.0)

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
            # LiFePO4 of the parameter set of Prada et al. 2013 (after Afshar et al.
            # 2017) against the graphite of Ecker et al. 2015, as computed by the
            # battery-modelling library PyBaMM at 25 °C; within 20 mV per cell of
            # makers' tables from 5 to 95 %, whose ends it takes over (from memory).
            **_library("lifepo4"),
            # The 20 mV to the tables; hysteresis of 20 mV (Dreyer et al. 2010, from
            # memory) is within it.
            curve_sd_v=0.02,
            charge_v=3.6,  # 14.4 V for four cells: common practice, no source
            disconnect_v=2.875,  # 11.5 V for four cells: common practice, no source
            protection_v=2.6,  # 10.0 to 10.8 V for four: common practice, no source
            coulombic=0.99,  # common practice, no source
            tail_c=0.05,  # common practice, no source
            taper_h=0.1,  # little is left for the hold; common practice, no source
            untested_share=0.9,  # common practice, no source
            life_years=10,  # common practice, no source
            reserve_soc=0.2,  # common practice, no source
            # For 12 V 50 to 80 mΩ at 6 Ah, 40 to 60 at 3 Ah, 8 to 30 at 100 Ah, with
            # protection and leads: common practice, no source.
            cell_ohm_100ah=0.001504,
            small_ah=9.7,
            fixed_ohm=0.008,  # 5 to 15 mΩ: common practice, no source
            charge_range_v=(3.5, 3.65),  # 14.0 to 14.6 V: common practice, no source
            fresh_v=3.65,  # off a charger of 14.6 V: common practice, no source
            float_v=3.4,  # none, or 13.4 to 13.6 V: common practice, no source
            max_charge_c=0.5,  # common practice, no source
            max_discharge_c=1.0,  # common practice, no source
            cold_charge_c=0.0,  # cell makers' sheets agree; from memory
            peukert=1.02,  # 1.00 to 1.05: common practice, no source
            rated_h=5.0,  # common practice, no source
            cold_share=(0.5, 0.7, 0.79, 0.87, 0.95, 1.0),  # makers' sheets; from memory
            gentle_c=10.0,  # 0.05 to 0.2 C up to 10 °C: makers' sheets; from memory
            self_discharge_month=0.02,  # 1 to 3 % with protection: no source
            storage_soc=0.5,  # common practice, no source
            top_up_soc=0.3,  # common practice, no source
            is_lithium=True,
            caution=_LITHIUM,
        ),
        Chemistry(
            key="nmc",
            name="Li-ion (NMC)",
            cell_nominal_v=3.7,
            # Parameter set of Chen et al. 2020, computed by PyBaMM.
            **_library("nmc"),
            curve_sd_v=0.025,  # common practice, no source
            charge_v=4.2,  # common practice, no source
            disconnect_v=3.2,  # common practice, no source
            protection_v=2.7,  # common practice, no source
            coulombic=0.99,  # common practice, no source
            tail_c=0.05,  # common practice, no source
            taper_h=0.4,  # 9 % in the hold at C/2 in the modelling library's run
            untested_share=0.8,  # common practice, no source
            life_years=6,  # common practice, no source
            reserve_soc=0.2,  # common practice, no source
            cell_ohm_100ah=0.003,  # common practice, no source
            small_ah=9.7,  # common practice, no source
            fixed_ohm=0.008,  # 5 to 15 mΩ: common practice, no source
            charge_range_v=(4.0, 4.25),  # common practice, no source
            float_v=None,  # common practice, no source
            max_charge_c=0.7,  # common practice, no source
            max_discharge_c=1.0,  # common practice, no source
            cold_charge_c=0.0,  # cell makers' sheets agree; from memory
            peukert=1.03,  # common practice, no source
            rated_h=5.0,  # common practice, no source
            gentle_c=10.0,  # as LiFePO4; common practice, no source
            cold_share=(0.4, 0.6, 0.73, 0.85, 0.95, 1.0),  # common practice, no source
            self_discharge_month=0.015,  # 1 to 2 %: common practice, no source
            storage_soc=0.5,  # common practice, no source
            top_up_soc=0.3,  # common practice, no source
            is_lithium=True,
            needs_balance=True,
            caution=_LITHIUM,
        ),
        Chemistry(
            key="lipo",
            name="LiPo",
            cell_nominal_v=3.7,
            # Parameter set of Marquis et al. 2019 (LCO), computed by PyBaMM; its
            # full cell rests at 4.1 V, a pack charged to 4.2 V somewhat higher.
            **_library("lipo"),
            curve_sd_v=0.025,  # common practice, no source
            charge_v=4.2,  # common practice, no source
            disconnect_v=3.3,  # common practice, no source
            protection_v=0.0,  # many have none: common practice, no source
            coulombic=0.99,  # common practice, no source
            tail_c=0.05,  # common practice, no source
            taper_h=0.4,  # common practice, no source
            untested_share=0.75,  # common practice, no source
            life_years=4,  # common practice, no source
            reserve_soc=0.25,  # common practice, no source
            cell_ohm_100ah=0.0015,  # common practice, no source
            small_ah=9.7,  # common practice, no source
            fixed_ohm=0.005,  # leads and plug: common practice, no source
            charge_range_v=(4.0, 4.22),  # common practice, no source
            float_v=None,  # common practice, no source
            max_charge_c=1.0,  # common practice, no source
            max_discharge_c=10.0,  # common practice, no source
            cold_charge_c=0.0,  # cell makers' sheets agree; from memory
            hot_c=40.0,  # common practice, no source
            peukert=1.03,  # common practice, no source
            rated_h=5.0,  # common practice, no source
            gentle_c=10.0,  # as LiFePO4; common practice, no source
            cold_share=(0.3, 0.5, 0.66, 0.8, 0.92, 1.0),  # common practice, no source
            self_discharge_month=0.015,  # common practice, no source
            storage_soc=0.45,  # 3.8 V a cell: common practice, no source
            top_up_soc=0.25,  # common practice, no source
            is_lithium=True,
            needs_balance=True,
            caution=_LITHIUM + " Store it at storage charge, not full.",
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
            tail_c=0.01,  # common practice, no source
            taper_h=1.5,  # the last fifth takes 3 to 5 h: common practice, no source
            untested_share=0.7,  # common practice, no source
            life_years=5,  # common practice, no source
            reserve_soc=0.5,  # half depth: common practice, no source
            cell_ohm_100ah=0.001,  # 3 to 8 mΩ for 12 V: common practice, no source
            small_ah=25.0,  # 20 to 30 mΩ at 7 Ah: common practice, no source
            charge_range_v=(2.35, 2.45),  # to 14.7 V: common practice, no source
            float_v=2.275,  # 13.5 to 13.8 V: common practice, no source
            float_most_v=2.3,  # 13.8 V is usual: common practice, no source
            compensation_v_per_c=-0.0035,  # -3 to -4 mV: common practice, no source
            max_charge_c=0.3,  # 0.2 to 0.3: common practice, no source
            max_discharge_c=1.0,  # common practice, no source
            cold_charge_c=-20.0,  # common practice, no source
            peukert=1.1,  # 1.05 to 1.15: common practice, no source
            rate_c=_RATES,
            rate_share=(1.0, 0.93, 0.85, 0.76, 0.6, 0.5, 0.42),
            cold_share=_LEAD_COLD,
            self_discharge_month=0.02,  # 1 to 3 %: common practice, no source
            storage_soc=1.0,  # kept full: common practice, no source
            top_up_soc=0.8,  # common practice, no source
            is_lead=True,
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
            tail_c=0.01,  # common practice, no source
            taper_h=1.6,  # common practice, no source
            untested_share=0.7,  # common practice, no source
            life_years=6,  # common practice, no source
            reserve_soc=0.5,  # common practice, no source
            cell_ohm_100ah=0.0012,  # common practice, no source
            small_ah=25.0,  # common practice, no source
            charge_range_v=(2.3, 2.375),  # to 14.25 V: common practice, no source
            float_v=2.275,  # 13.5 to 13.8 V: common practice, no source
            float_most_v=2.3,  # 13.8 V is usual: common practice, no source
            compensation_v_per_c=-0.004,  # -3 to -5 mV: common practice, no source
            max_charge_c=0.2,  # common practice, no source
            max_discharge_c=0.7,  # common practice, no source
            cold_charge_c=-20.0,  # common practice, no source
            peukert=1.15,  # 1.1 to 1.25: common practice, no source
            rate_c=_RATES,
            rate_share=(1.0, 0.92, 0.83, 0.73, 0.56, 0.46, 0.38),
            cold_share=_LEAD_COLD,
            self_discharge_month=0.02,  # 1 to 3 %: common practice, no source
            storage_soc=1.0,  # common practice, no source
            top_up_soc=0.8,  # common practice, no source
            is_lead=True,
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
            tail_c=0.01,  # common practice, no source
            taper_h=1.6,  # common practice, no source
            untested_share=0.7,  # common practice, no source
            life_years=5,  # common practice, no source
            reserve_soc=0.5,  # common practice, no source
            cell_ohm_100ah=0.0017,  # 5 to 15 mΩ for 12 V: common practice, no source
            small_ah=25.0,  # common practice, no source
            charge_range_v=(2.35, 2.47),  # to 14.8 V: common practice, no source
            float_v=2.25,  # 13.2 to 13.8 V: common practice, no source
            float_most_v=2.3,  # 13.8 V is usual: common practice, no source
            compensation_v_per_c=-0.005,  # -4 to -5 mV: common practice, no source
            max_charge_c=0.2,  # 0.1 to 0.2: common practice, no source
            max_discharge_c=1.0,  # common practice, no source
            cold_charge_c=-20.0,  # common practice, no source
            peukert=1.25,  # 1.2 to 1.4: common practice, no source
            rate_c=_RATES,
            rate_share=(1.0, 0.9, 0.78, 0.68, 0.5, 0.4, 0.32),
            cold_share=_LEAD_COLD,
            self_discharge_month=0.045,  # 3 to 6 %: common practice, no source
            storage_soc=1.0,  # common practice, no source
            top_up_soc=0.75,  # common practice, no source
            is_lead=True,
            spills=True,
            caution=_LEAD,
        ),
        Chemistry(
            key="nimh",
            name="NiMH",
            cell_nominal_v=1.2,
            # Full 1.30 to 1.40 V, flat 1.2 to 1.25 V: common practice, no source.
            curve_soc=(0, 0.1, 0.3, 0.7, 0.9, 1.0),
            curve_v=(1.1, 1.2, 1.24, 1.27, 1.31, 1.38),
            curve_sd_v=0.02,  # common practice, no source
            charge_v=1.45,  # ends on a fall, not on a voltage; no source
            disconnect_v=1.05,  # common practice, no source
            protection_v=0.0,
            coulombic=0.75,  # 0.66 to 0.90: common practice, no source
            tail_c=0.1,  # common practice, no source
            taper_h=0.1,  # common practice, no source
            untested_share=0.7,  # common practice, no source
            life_years=5,  # common practice, no source
            reserve_soc=0.2,  # common practice, no source
            cell_ohm_100ah=0.0006,  # 25 mΩ for 2.4 Ah: common practice, no source
            charge_range_v=(1.4, 1.55),  # common practice, no source
            float_v=None,  # common practice, no source
            max_charge_c=0.5,  # common practice, no source
            max_discharge_c=2.0,  # common practice, no source
            cold_charge_c=0.0,  # common practice, no source
            peukert=1.05,  # common practice, no source
            rated_h=5.0,  # 0.2 C: IEC 61951-2, from memory
            cold_share=(0.3, 0.5, 0.68, 0.85, 0.95, 1.0),  # common practice, no source
            self_discharge_month=0.25,  # 20 to 30 % in the first: no source
            storage_soc=0.4,  # common practice, no source
            top_up_soc=0.2,  # common practice, no source
            caution="Use a charger that ends on temperature or a fall of voltage; "
            "never in a closed box. The maker's instructions come first.",
        ),
        Chemistry(
            key="alkaline",
            name="Alkaline (not rechargeable)",
            cell_nominal_v=1.5,
            # Fresh 1.55 to 1.62 V, end 0.8 to 0.9 V: IEC 60086, from memory.
            curve_soc=(0, 0.1, 0.3, 0.6, 0.9, 1.0),
            curve_v=(0.9, 1.1, 1.22, 1.33, 1.48, 1.6),
            curve_sd_v=0.03,  # common practice, no source
            charge_v=1.65,  # never charged; the highest it is seen at
            disconnect_v=0.95,  # common practice, no source
            protection_v=0.0,
            coulombic=1.0,
            tail_c=0.01,
            taper_h=0.1,
            untested_share=0.6,  # at radio currents: common practice, no source
            life_years=7,  # common practice, no source
            reserve_soc=0.1,  # common practice, no source
            cell_ohm_100ah=0.004,  # 150 mΩ for 2.5 Ah: common practice, no source
            charge_range_v=(0.0, 0.0),  # never charged
            float_v=None,
            max_charge_c=0.0,
            max_discharge_c=0.3,  # common practice, no source
            cold_charge_c=100.0,  # never charged
            peukert=1.25,  # 2.5 Ah at 0.1 A, 1.5 Ah at 0.5 A: no source
            rated_h=25.0,  # common practice, no source
            cold_share=(0.35, 0.5, 0.65, 0.8, 0.9, 1.0),  # half at -20 °C: no source
            self_discharge_month=0.003,  # common practice, no source
            storage_soc=1.0,
            top_up_soc=0.0,
            test_days=3650,
            is_rechargeable=False,
            caution="Never charge it. Take it out of what is put away: it leaks.",
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
