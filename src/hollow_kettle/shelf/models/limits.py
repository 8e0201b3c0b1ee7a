"""The ranges of quantities: stated once, held by database, forms and imports."""

from __future__ import annotations

from powercore.limits import PEUKERT, Limit

Limits = dict[str, Limit]

AMPS = Limit(0.01, 2000, "A")
VOLTS = Limit(0.5, 500, "V")
WATTS = Limit(0.1, 20_000, "W")
PERCENT = Limit(30, 100, "%")

BATTERY: Limits = {
    "series": Limit(1, 120, "", "a pack has cells"),
    "parallel": Limit(1, 200),
    "nameplate_ah": Limit(0.05, 5000, "Ah"),
    "printed_wh": Limit(0.1, 100_000, "Wh"),
    "reserve_pct": Limit(0, 95, "%"),
    "resistance_mohm": Limit(0.01, 10_000, "mΩ"),
    "peukert": PEUKERT,
    "max_charge_a": AMPS,
    "max_discharge_a": AMPS,
    "max_charge_v": VOLTS,
    "charge_v": VOLTS,
    "float_v": VOLTS,
    "disconnect_v": VOLTS,
    "board_low_v": VOLTS,
    "board_high_v": VOLTS,
    "charge_low_c": Limit(-60, 30, "°C"),
}
BANK: Limits = {
    "cell_mah": Limit(100, 1_000_000, "mAh", "counted at the volts of its cells"),
    "cell_v": Limit(1.2, 60, "V"),
    "efficiency_pct": PERCENT,
    "auto_off_ma": Limit(0, 5000, "mA"),
    "claimed_ah": Limit(0.01, 1000, "Ah"),
    "claimed_v": Limit(1, 60, "V"),
}
PANEL: Limits = {
    "voc_v": Limit(1, 200, "V"),
    "isc_a": Limit(0.01, 60, "A"),
    "vmp_v": Limit(0.5, 200, "V"),
    "imp_a": Limit(0.01, 60, "A"),
    "measured_a": Limit(0, 60, "A"),
    "voc_pct_per_c": Limit(-1, 0, "%/°C", "it falls with warmth"),
    "power_pct_per_c": Limit(-1, 0, "%/°C", "it falls with warmth"),
    "in_series": Limit(1, 10),
    "width_m": Limit(0.05, 10, "m"),
    "height_m": Limit(0.05, 10, "m"),
}
CONTROLLER: Limits = {
    "max_a": Limit(0.1, 200, "A"),
    "max_v": Limit(5, 600, "V"),
    "absorb_v": VOLTS,
    "float_v": VOLTS,
}
CHARGER: Limits = {
    "max_a": Limit(0.01, 500, "A"),
    "absorb_v": VOLTS,
    "float_v": VOLTS,
    "low_v": VOLTS,
    "high_v": VOLTS,
    "efficiency_pct": PERCENT,
    "power_factor": Limit(0.3, 1),
}
GENERATOR: Limits = {
    "rated_w": Limit(50, 20_000, "W"),
    "rated_va": Limit(50, 30_000, "VA"),
    "quarter_l_h": Limit(0.01, 20, "L/h"),
    "full_l_h": Limit(0.01, 30, "L/h"),
    "tank_l": Limit(0.1, 200, "L"),
    "other_w": Limit(0, 20_000, "W"),
}
CONVERTER: Limits = {
    "in_min_v": VOLTS,
    "in_max_v": VOLTS,
    "out_v": VOLTS,
    "max_w": WATTS,
    "efficiency_low_pct": PERCENT,
    "efficiency_full_pct": PERCENT,
    "idle_w": Limit(0, 200, "W"),
    "min_load_w": Limit(0, 500, "W"),
    "headroom_v": Limit(0, 10, "V"),
    "ports": Limit(1, 20),
    "shared_w": WATTS,
}
DEVICE: Limits = {
    "min_v": VOLTS,
    "max_v": VOLTS,
    "nominal_v": VOLTS,
    "standby_a": Limit(0, 200, "A"),
    "receive_a": Limit(0, 200, "A"),
    "transmit_idle_a": Limit(0, 200, "A"),
    "key_down_a": Limit(0, 200, "A"),
    "low_key_down_a": Limit(0, 200, "A"),
    "maker_fuse_a": Limit(0.1, 200, "A"),
    "tx_w": Limit(0.01, 5000, "W"),
    "low_tx_w": Limit(0.01, 5000, "W"),
    "pd_v": Limit(5, 48, "V"),
    "pd_w": Limit(1, 240, "W"),
    "duty_pct": Limit(0, 100, "%"),
    "transmit_pct": Limit(0, 100, "%"),
}
METER: Limits = {
    "zero_a": Limit(-10, 10, "A"),
    "gain": Limit(0.5, 2, "", "shown over true"),
}
LEAD: Limits = {
    "length_m": Limit(0, 500, "m"),
    "awg": Limit(0, 30, "AWG"),
    "area_mm2": Limit(0.05, 120, "mm²"),
    "fuse_a": Limit(0.1, 500, "A"),
}
GUARD: Limits = {"amps": Limit(0.1, 1000, "A")}
ANTENNA: Limits = {"max_w": Limit(0.1, 10_000, "W")}
KIT: Limits = {
    "low_c": Limit(-50, 60, "°C"),
    "high_c": Limit(-50, 90, "°C"),
    "lift_kg": Limit(1, 100, "kg"),
    "people": Limit(1, 20),
    "hours": Limit(0.1, 1000, "h"),
}
PORT: Limits = {
    "low_v": Limit(0, 500, "V"),
    "high_v": Limit(0, 500, "V"),
    "max_a": AMPS,
}
PATH: Limits = {
    "amps": Limit(0.1, 1000, "A"),
    "from_battery_m": Limit(0, 10, "m"),
    "length_m": Limit(0, 500, "m"),
    "awg": Limit(0, 30, "AWG"),
    "area_mm2": Limit(0.05, 120, "mm²"),
    "lead_mohm": Limit(0, 1000, "mΩ"),
}
BENCH: Limits = {
    "hours": Limit(0.01, 2000, "h"),
    "temp_c": Limit(-30, 60, "°C"),
    "shown_ah": Limit(-5000, 5000, "Ah"),
    "amps": Limit(-2000, 2000, "A"),
    "start_v": Limit(0, 500, "V"),
    "end_v": Limit(0, 500, "V"),
    "end_a": Limit(-2000, 2000, "A"),
}
