"""The shapes of what is read and sent; the description of the API is made of them."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from ninja import Field, Schema


class Charge(Schema):
    """A believed state of charge: typical, and 1-in-10 bad and good case."""

    typical: float = Field(description="0 to 1")
    low: float
    high: float
    evidence: str = Field(description="What it rests on, in words.")


class Battery(Schema):
    """What is known of a battery."""

    chemistry: str
    nominal_v: float
    nameplate_ah: float
    tested_ah: float | None
    trusted_ah: float = Field(description="What plans count on.")
    usable_full_wh: float = Field(description="From full to its reserve, gently.")
    charge: Charge | None = Field(description="Between events; none: never seen.")
    where: str


class Thing(Schema):
    """One thing of the shelf."""

    uid: UUID
    tag: str
    kind: str
    name: str
    owner: str
    home: str
    hold: str = Field(description="Why it must not be used; empty: it may.")
    battery: Battery | None


class StationOf(Schema):
    """A station of an event."""

    uid: UUID
    name: str
    purpose: str
    tier: int


class EventOf(Schema):
    """An event."""

    uid: UUID
    name: str
    zone: str
    starts_at: datetime
    ends_at: datetime
    state: str = Field(description="planned, running or closed")
    purpose: str
    published: int | None = Field(description="Number of the published rotation.")
    stations: list[StationOf]


class LegOf(Schema):
    """What one battery does for a while."""

    battery: str
    kind: str = Field(description="serve, wait, carried, charge or yard")
    place: str
    crew: str
    starts_at: datetime
    ends_at: datetime
    start_soc: float
    end_soc: float


class MoveOf(Schema):
    """One stop of a walk, or a swap with a spare that waits there."""

    station: str
    leave_at: datetime
    arrive_at: datetime
    bring: str | None
    bring_back: str | None
    crew: str
    #: From the usual arrival of its relief to the typical end of its power.
    slack_min: float | None
    #: The chance that it is without power before its relief is there.
    without_power_first: float | None


class RotationOf(Schema):
    """The published rotation of an event."""

    number: int
    published_at: datetime | None
    off_air_min: float
    reserve_min: float
    unserved_wh: float
    walks: int
    legs: list[LegOf]
    moves: list[MoveOf]


class OnBoard(Schema):
    """A station as the field board shows it."""

    uid: UUID
    name: str
    is_open: bool
    is_off_air: bool
    battery: str | None
    charge: Charge | None
    read_min_ago: float | None
    reserve_in_h: tuple[float | None, float | None] | None = Field(
        description="1-in-10 bad case and typical; null: after the end."
    )
    off_in_h: tuple[float | None, float | None] | None
    #: From the usual arrival of its relief to the typical end of its power.
    slack_min: float | None
    #: The chance that it is without power before its relief is there.
    without_power_first: float | None
    next_move: MoveOf | None


class BoardBatteryOf(Schema):
    """A battery as the field board counts it."""

    tag: str
    state: str
    charge: Charge


class AlarmOf(Schema):
    """What needs somebody now."""

    station: str | None
    words: str
    seen_by: str = Field(description="Who is on it; empty: nobody yet.")


class BoardOf(Schema):
    """The field board."""

    at: datetime
    stand_down_since: datetime | None
    stations: list[OnBoard]
    batteries: list[BoardBatteryOf]
    alarms: list[AlarmOf]


class EntryOf(Schema):
    """An entry of the log, as it counts."""

    uid: UUID
    kind: str
    at: datetime
    by: str
    words: str
    standing: str = Field(description="kept, struck, quarantine or conflict")


class LineIn(Schema):
    """What is to be logged, as somebody would type it into the log line."""

    key: UUID = Field(description="Made by the sender: sent twice, it counts once.")
    line: str = Field(
        max_length=5000, description="One line, or a message of up to 60 of them."
    )


class ChoiceOf(Schema):
    """An answer to what is asked: the line to send instead."""

    words: str
    line: str


class HeardOf(Schema):
    """What became of a line."""

    line: str
    words: str = Field(description="How it was understood.")
    saved: str = Field(description="What became of it; empty: it was not noted.")
    asks: str
    choices: list[ChoiceOf]


class TestIn(Schema):
    """A bench test; which fields count depends on what it is."""

    what: str = Field(
        description="counter, timed, run_down, sag, recharge, bank or finishing"
    )
    meter: str = Field("", description="Tag of a meter of the shelf.")
    charger: str = Field("", description="Tag of a charger of the shelf.")
    shown_ah: float | None = None
    hours: float | None = None
    amps: float | None = None
    start_v: float | None = None
    end_v: float | None = None
    end_a: float | None = None
    temp_c: float | None = None
    was_full: bool = False
    was_emptied: bool = False
    is_off: bool = False
    rows: str = Field("", description="Lines of minutes, amps, volts.")
    note: str = ""


class TestOf(Schema):
    """A bench test that was kept; a coordinator accepts what it found on its page."""

    uid: UUID
    result: float | None
    unit: str
    words: str


class Fault(Schema):
    """What is wrong with one field, or in general."""

    field: str
    words: str


class Refused(Schema):
    """Why something was not done."""

    detail: list[Fault]
