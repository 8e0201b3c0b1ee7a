"""What the field board shows, as values."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.log.models import BatteryNow, StationSpan
from hollow_kettle.plan.models import Station
from hollow_kettle.plan.rotation.following import MoveNow
from hollow_kettle.plan.rotation.moves import TOO_LIKELY, Move
from hollow_kettle.ui.templatetags.kettle import hours, span
from powercore.belief.believed import Joint, SocEstimate
from powercore.belief.runtime import TimeLeft
from powercore.belief.slack import Slack
from powercore.physics.battery import Pack

from .conflicts import Question

#: How much more a chance must be than published to be news; and within how many hours
#: it needs somebody now. Common practice, no source.
MORE_RISKY, SOON_H = 0.1, 2.0
#: What came out so long ago and was logged nowhere since is asked for. Common practice,
#: no source.
ASTRAY = timedelta(minutes=45)


@dataclass(frozen=True, slots=True)
class LogState:
    """How far an event's log goes, and how much of it waits in quarantine."""

    last: int
    quarantined: int
    #: How many batteries of the event are on hold.
    held: int = 0
    #: Whether entries came that placements and beliefs do not count yet.
    is_behind: bool = False
    #: Since when all walks are stopped; None: they are not.
    stand_down: datetime | None = None
    has_conflicts: bool = False
    has_meters: bool = False


@dataclass(frozen=True, slots=True)
class BoardBattery:
    """A battery of the event, as it is believed to be now."""

    uid: UUID
    tag: str
    pack: Pack
    soc: SocEstimate
    #: Charge and its station's draw together; None where nothing is known.
    joint: Joint | None
    row: BatteryNow | None
    state: str
    #: Whether it warms itself to be charged.
    is_heated: bool = False

    @property
    def is_tripped(self) -> bool:
        """Whether it showed 0 V when it was last read."""
        return self.row is not None and self.row.is_tripped

    @property
    def is_held(self) -> bool:
        """Whether it must not be used."""
        return self.state == "hold"


@dataclass(frozen=True, slots=True)
class Said:
    """A few words of the board, with a number or a moment that is read first."""

    words: str
    number: str = ""
    more: str = ""
    at: datetime | None = None
    is_alarm: bool = False


@dataclass(frozen=True, slots=True)
class Alarm:
    """What needs somebody now, for one cause; none: at no station."""

    station: UUID | None
    cause: str
    words: str
    #: Who took it on, and when; empty: nobody yet.
    seen_by: str = ""
    seen_at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Stock:
    """Energy above reserve at hand against what stations ask until it is light."""

    until: datetime
    needed_wh: float
    #: 1-in-10 bad case of each battery, and typical.
    bad_wh: float
    typical_wh: float

    @property
    def is_short(self) -> bool:
        """Whether it is less than is needed even in the typical case."""
        return self.typical_wh < self.needed_wh


@dataclass(slots=True)
class BoardStation:
    """A station on the board."""

    station: Station
    battery: BoardBattery | None
    reserve: TimeLeft | None
    disconnect: TimeLeft | None
    move: Move | None
    #: Its power against what is brought next, or against its end.
    slack: Slack | None
    spans: list[StationSpan]
    age_min: float | None
    is_open: bool
    dot: float = 0.0
    band: tuple[float, float] = (0.0, 0.0)
    #: How far what is brought next is.
    progress: MoveNow | None = None
    #: What is brought next.
    next: Said = Said("no move planned")
    #: When it can be called, where it is mostly off.
    listens: str = ""
    #: The chance of being without power that its plan takes now.
    planned_chance: float = 0.0
    #: Of a station off the air: what brings it back soonest.
    soonest: str = ""

    @property
    def is_off(self) -> bool:
        """Whether it was noted to be off the air."""
        return any(span.what == "off_air" for span in self.spans)

    @property
    def is_news(self) -> bool:
        """
        Whether it may well be without power before its relief is there.

        And more so than whoever published the plan knew.
        """
        if self.slack is None or not self.is_open or self.slack.chance < TOO_LIKELY:
            return False
        return self.slack.chance >= self.planned_chance + MORE_RISKY

    @property
    def is_thin(self) -> bool:
        """Whether that needs somebody now: its power may end soon."""
        bad_h = self.disconnect.bad_h if self.disconnect else None
        return self.is_news and bad_h is not None and bad_h < SOON_H

    @property
    def is_short(self) -> bool:
        """Whether it needs somebody now: off, in trouble, or soon without power."""
        return self.is_off or self.has_trouble or self.is_thin

    @property
    def off_since(self) -> datetime | None:
        """Since when it was noted to be off the air."""
        gone = (span.started_at for span in self.spans if span.what == "off_air")
        return min(gone, default=None)

    @property
    def is_tripped(self) -> bool:
        """Whether its battery shows 0 V."""
        return self.battery is not None and self.battery.is_tripped

    @property
    def evidence_words(self) -> str:
        """What its battery's charge rests on, and how old the last reading is."""
        known = self.battery is not None and not self.battery.is_tripped
        said = [self.battery.soc.evidence] if self.battery and known else []
        if self.age_min is not None:
            said.append(f"{span(self.age_min)} old")
        return " · ".join(said)

    @property
    def lasts(self) -> Said:
        """How long its battery lasts to the reserve, 1-in-10 bad case to typical."""
        left = self.reserve
        if self.is_off:
            return Said("off the air since", at=self.off_since, is_alarm=True)
        if self.is_tripped:
            return Said("gives nothing until it is woken up", is_alarm=True)
        if self.battery is None:
            return Said("no battery logged", is_alarm=self.is_open)
        if left is None or left.bad_h is None:
            return Said("lasts to the end")
        if left.bad_h == 0 and left.typical_h == 0:
            return Said("into reserve now", is_alarm=True)
        typical = "after the end" if left.typical_h is None else hours(left.typical_h)
        return Said("reserve in", number=hours(left.bad_h), more=f"– {typical}")

    @property
    def ends(self) -> str:
        """What else to know of it: when power ends, or what to do at 0 V."""
        if self.is_off:
            return self.soonest
        if self.is_tripped:
            return "unplug everything, wait, follow the maker's instructions"
        bad_h = self.disconnect.bad_h if self.disconnect else None
        return "" if bad_h is None else f"off in {hours(bad_h)}"

    def coming(self, now: datetime) -> Said:
        """What is brought next, and by when somebody leaves."""
        move = self.move
        if move is None:
            return Said("no move planned" if self.is_open else "closed now")
        if move.hold:
            return Said("on hold, don't bring it", is_alarm=True)
        if self.progress is not None and self.progress.trouble:
            return Said("serves elsewhere", is_alarm=True)
        if move.is_swap:
            return Said("swapped in at", at=move.arrive)
        left = self.progress.left if self.progress else None
        if left is not None:
            return Said("left at", at=left)
        if move.leave < now:
            return Said("was due to leave at", at=move.leave, is_alarm=True)
        return Said("leave by", at=move.leave)

    @property
    def has_trouble(self) -> bool:
        """Whether its battery shows 0 V, or must not be used."""
        battery = self.battery
        return battery is not None and (battery.is_tripped or battery.is_held)

    @property
    def shows_slack(self) -> bool:
        """Whether its slack says something: it is open, and has power."""
        has_power = self.battery is not None and not self.is_off and not self.is_tripped
        return self.is_open and has_power and self.slack is not None

    @property
    def risk_of(self) -> str:
        """Of what a chance is told: power ends before what comes, or the end."""
        if self.move is None:
            return "that power ends before the station does"
        return f"that power ends before {self.move.bring} is there"

    @property
    def lasts_h(self) -> float:
        """How long it lasts to its reserve in the 1-in-10 bad case. [h]"""
        if not self.is_open:
            return 1e9
        bad_h = self.reserve.bad_h if self.reserve else 0.0
        return 1e8 if bad_h is None else bad_h

    @property
    def sort_key(self) -> tuple[int, float]:
        """Off the air and 0 V first, then the least slack; closed stations last."""
        is_first = self.is_off or self.has_trouble
        if not self.is_open and not is_first:
            return (2, 0.0)
        if is_first or self.slack is None:
            return (0 if is_first else 1, -2.0)
        left = 1e4 if self.slack.minutes is None else max(-1e4, self.slack.minutes)
        return (1, 1e-5 * left - round(self.slack.chance, 2))


@dataclass(frozen=True, slots=True)
class BoardBay:
    """A bay of the yard."""

    key: str
    name: str
    source: str
    has_power: bool
    battery: BoardBattery | None
    hours_to_90: float | None
    #: Why its charger must not charge what is on it.
    refusal: str = ""
    #: Since when its source is off by the log, whatever the plan says.
    off_since: datetime | None = None
    #: Whether that is the bay's own fault.
    is_faulty: bool = False
    #: Whether it charges though nobody watches, and may not.
    is_alone: bool = False
    unwatched_why: str = ""

    @property
    def charge_words(self) -> str:
        """How its charge goes on."""
        if self.hours_to_90 is None:
            return "not at 90 % before the event ends"
        if self.hours_to_90 < 1 / 60:
            return "above 90 %"
        return f"90 % in {hours(round(60 * self.hours_to_90) / 60)}"


@dataclass(slots=True)
class Board:
    """Everything the field board shows."""

    now: datetime
    version: str
    stations: list[BoardStation]
    bays: list[BoardBay]
    batteries: list[BoardBattery]
    counts: list[tuple[str, int]]
    worth_a_look: list[str] = field(default_factory=list)
    conflicts: list[Question] = field(default_factory=list)
    #: All moves of the published plan, and how far each is.
    every_move: list[MoveNow] = field(default_factory=list)
    stock: Stock | None = None
    alarms: list[Alarm] = field(default_factory=list)
    #: Which station to ask for which reading.
    ask_next: str = ""
    #: Since when all walks are stopped; None: they are not.
    stand_down: datetime | None = None
    #: How many entries were kept aside and wait for somebody.
    kept_aside: int = 0

    def in_state(self, state: str) -> list[BoardBattery]:
        """Batteries in one state."""
        return [battery for battery in self.batteries if battery.state == state]

    @property
    def moves(self) -> list[MoveNow]:
        """Moves that somebody may still make, the next first."""
        return [one for one in self.every_move if one.is_open]

    @property
    def given_up(self) -> list[MoveNow]:
        """Moves whose time went by, and that nobody logged."""
        return [one for one in self.every_move if one.is_given_up]

    @property
    def unknown(self) -> list[BoardBattery]:
        """Batteries nobody has noted at this event."""
        return self.in_state("unknown") + self.in_state("at home")

    @property
    def ready(self) -> list[BoardBattery]:
        """Batteries ready in the yard."""
        return self.in_state("ready")

    @property
    def empty(self) -> list[BoardBattery]:
        """Batteries waiting to be charged."""
        return self.in_state("empty")

    @property
    def astray(self) -> list[BoardBattery]:
        """Batteries on the way so long that somebody should have them by now."""
        return [
            battery
            for battery in self.in_state("on the way")
            if battery.row is not None
            and battery.row.since is not None
            and self.now - battery.row.since > ASTRAY
        ]

    @property
    def alarm_count(self) -> int:
        """Alarms that nobody took on yet."""
        return sum(not one.seen_by for one in self.alarms)

    @property
    def on_air(self) -> int:
        """Stations that are open, not off the air, and have no battery that tripped."""
        return sum(
            s.is_open and not s.is_off and not s.is_tripped for s in self.stations
        )

    @property
    def tripped(self) -> int:
        """Stations whose battery read 0 V, which nobody noted as off the air."""
        return sum(s.is_tripped and not s.is_off for s in self.stations)

    @property
    def off_air(self) -> int:
        """Stations noted to be off the air."""
        return sum(s.is_off for s in self.stations)
