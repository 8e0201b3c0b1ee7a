"""
The ranges that an event's numbers must lie in, and what is usual: each stated once.

The value types check by them, forms and lists name them, the database holds them.
Ranges keep slips of the keyboard out; they are no advice. What is usual is common
practice without a source.
"""

from __future__ import annotations

from dataclasses import dataclass

from powercore.values import STATED_V, in_range


@dataclass(frozen=True, slots=True)
class Limit:
    """The range in which a quantity makes sense, ends included."""

    low: float
    high: float
    unit: str = ""
    #: Why it ends there, where that helps somebody who typed something else.
    why: str = ""

    def check(self, name: str, value: float) -> float:
        """
        Return a value that lies in the range.

        Raises
        ------
        OutOfRange
            Naming the quantity, the value and the range.
        """
        return in_range(
            name, value, low=self.low, high=self.high, unit=self.unit, why=self.why
        )

    @property
    def percent(self) -> Limit:
        """The same of a share, as people type it. [%]"""
        return Limit(round(self.low * 100, 9), round(self.high * 100, 9), "%", self.why)


SHARE = Limit(0, 1)
DAY_MIN = 1440

# The event.
SPAN_MIN = Limit(1, 14 * DAY_MIN, "min")
LATENESS_MIN, USUAL_LATENESS_MIN = Limit(0, 120, "min"), 10
#: How long crews need to hear of a new plan, pick up and set off.
LEAD_MIN, USUAL_LEAD_MIN = Limit(0, 120, "min"), 10
SETTLE_MIN = Limit(0, DAY_MIN, "min")
#: Years in which a club's events, gear and log can lie.
YEARS = Limit(1970, 2099)
#: Temperature of batteries and of the air.
CELSIUS = Limit(-60, 60, "°C")
RESERVE = Limit(0, 0.9)

# Places.
LATITUDE, LONGITUDE = Limit(-90, 90, "°"), Limit(-180, 180, "°")
ALTITUDE_M = Limit(-430, 9000, "m")
AZIMUTH, HEIGHT = Limit(0, 360, "°"), Limit(0, 90, "°")
WALK_MIN = Limit(1, 600, "min")

# Stations.
TIER, USUAL_TIER = Limit(1, 9), 2
WEIGHT = Limit(0.1, 10)
SPARES = Limit(0, 20)
CHANGEOVER_S, USUAL_CHANGEOVER_S = (
    Limit(0, 3600, "s", "isolators take seconds; without them it is 1 to 3 min"),
    120,
)
DISCONNECT_V = Limit(5, 100, "V")
REST_MIN = Limit(0, 600, "min")
MAIN_FUSE_A = Limit(0.5, 500, "A")
FEED_M = Limit(0, 500, "m")
AWG = Limit(0, 30, "AWG")
#: One standard deviation of a station's use against its pattern, as a share.
SPREAD, USUAL_SPREAD = Limit(0, 1), 0.15
#: Real draw over planned, as readings say.
DRAWS = Limit(0.1, 10)

# Loads.
COUNT = Limit(1, 50)
EFFICIENCY = Limit(0.05, 1)
IDLE_A = Limit(0, 20, "A")
IDLE_W = Limit(0, 20 * STATED_V, "W")
FILLS_WH = Limit(0, 100_000, "Wh")
LISTENS_MIN = Limit(0, DAY_MIN, "min")

# Supplies at stations, and sources, bays and crews of the yard.
SUPPLY_W = Limit(1, 20_000, "W")
TRANSFER_S = Limit(0, 60, "s")
SOURCE_W = Limit(1, 100_000, "W")
SOURCE_VA = Limit(1, 150_000, "VA")
OTHER_W = Limit(0, 100_000, "W")
ENERGY_WH = Limit(0, 1_000_000, "Wh")
FILL_W = Limit(0, 20_000, "W")
TANK_L = Limit(0.1, 1000, "L")
ON_HAND_L = Limit(0, 10_000, "L")
QUARTER_L_H, FULL_L_H = Limit(0.01, 50, "L/h"), Limit(0.01, 100, "L/h")
#: Cooling and refuelling take every bay down: 20 to 30 min.
REFUEL_MIN, USUAL_REFUEL_MIN = Limit(0, 240, "min"), 25
BAY_W = Limit(1, 20_000, "W")
#: People who walk together.
PEOPLE, USUAL_PEOPLE = Limit(1, 20), 2

# What is read in the field; beyond it, a slip of the keyboard.
READ_V, READ_A = Limit(-100, 1000, "V"), Limit(-2000, 2000, "A")
#: What a meter may show of temperature: a battery in trouble is beyond `CELSIUS`.
METER_CELSIUS = Limit(-60, 200, "°C")
#: What a meter's amps are multiplied with.
METER_GAIN = Limit(0.1, 10)
READ_AH, GAUGE_PCT = Limit(-100_000, 100_000, "Ah"), Limit(0, 100, "%")
#: One side of a counter.
COUNTED_AH = Limit(0, 100_000, "Ah")

#: What one thing draws, and the volts it is made for.
DRAW_A, DEVICE_V = Limit(0, 200, "A"), Limit(1, 1000, "V")
#: Peukert's exponent.
PEUKERT = Limit(1, 1.6)

# Panels and the sky.
PANEL_W = Limit(1, 5000, "W")
VMP_V = Limit(1, 600, "V")
IMP_A, ISC_A = Limit(0.01, 200, "A"), Limit(0.01, 250, "A")
MEASURED_A = Limit(0, 250, "A")
POWER_PER_C = Limit(
    -0.01, 0, "/°C", "a panel loses power as it warms, so it is negative"
)
USUAL_POWER_PER_C = -0.004
CONTROLLER_A = Limit(0.5, 200, "A")
TILT, USUAL_TILT, USUAL_AZIMUTH = Limit(0, 90, "°"), 30.0, 180.0
TURNS = Limit(0, 24, "times a day")
DIRT, USUAL_DIRT = Limit(0, 0.9), 0.02
CABLE_M, USUAL_CABLE_M, USUAL_CABLE_AWG = Limit(0, 100, "m"), 5.0, 12
#: What a reading says against the model.
FACTOR = Limit(0.05, 2)
OKTAS = Limit(0, 8, "eighths")
WIND_MS = Limit(0, 80, "m/s")
GLOBAL_W, BEAM_W, DIFFUSE_W = (
    Limit(0, 1500, "W/m²"),
    Limit(0, 1200, "W/m²"),
    Limit(0, 1000, "W/m²"),
)

# The debrief.
#: Whom it left without what a station was there for.
PEOPLE_AFFECTED = Limit(0, 100_000)
