"""
The log and its projections.

`FieldEntry` is what people noted, and is never changed. `Placement`, `Conflict`,
`StationSpan` and `BatteryNow` are worked out from it and can be rebuilt at any
time. Events, stations and batteries are opaque keys here.
"""

from __future__ import annotations

import uuid

import numpy as np
import pgtrigger
from django.contrib.postgres.constraints import ExclusionConstraint
from django.contrib.postgres.fields import (
    ArrayField,
    DateTimeRangeField,
    RangeOperators,
)
from django.db import models
from django.db.models import Deferrable, F, Func, Q

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from powercore.belief.believed import Joint
from powercore.belief.draw import DrawFactor
from powercore.limits import (
    COUNTED_AH,
    GAUGE_PCT,
    OKTAS,
    READ_A,
    READ_AH,
    READ_V,
    TILT,
    Limit,
)


class PlaceKind(models.TextChoices):
    """Kinds of place a battery can be at."""

    POSITION = "position", "position"
    SPARE_RACK = "spare_rack", "spare rack"
    BAY = "bay", "bay"
    YARD_RACK = "yard_rack", "yard rack"
    VEHICLE = "vehicle", "vehicle"
    PERSON = "person", "person"
    HOME = "home", "home"
    STATION = "station", "at a station"


#: Kinds that hold one battery at a time.
EXCLUSIVE_KINDS = (PlaceKind.POSITION, PlaceKind.BAY)


class Place(models.Model):
    """Somewhere a battery can be."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    kind = models.CharField(max_length=12, choices=PlaceKind)
    name = models.CharField(max_length=80)
    event_key = models.UUIDField(null=True, blank=True, db_index=True)
    station_key = models.UUIDField(null=True, blank=True)
    ordinal = models.PositiveSmallIntegerField(default=1)
    #: Whether gear can still be checked out to it.
    is_open = models.BooleanField(default=True)

    class Meta:
        ordering = ["ordinal", "name"]

    def __str__(self) -> str:
        return self.name


class Kind(models.TextChoices):
    """Kinds of log entry."""

    READING = "reading", "reading"
    SWAP = "swap", "swap"
    MOVE = "move", "move"
    SOURCE = "source", "source on or off"
    OFF_AIR = "off_air", "off the air"
    BACK = "back", "back on the air"
    POWER_STEP = "power_step", "power step"
    SHED = "shed", "shed"
    RESTORED = "restored", "shed load back on"
    NOTE = "note", "note"
    STRIKE = "strike", "strike"
    CHECK_OUT = "check_out", "checked out"
    CHECK_IN = "check_in", "checked in"
    HOLD = "hold", "put on hold"
    RELEASE = "release", "released"
    CHARGED = "charged", "charge ended"
    CHECKED = "checked", "switches and load checked"
    TOLD = "told", "crew told"
    LEFT = "left", "crew left"
    STAND_DOWN = "stand_down", "stand down"
    ALL_CLEAR = "all_clear", "all clear"
    SEEN = "seen", "taken on"
    FAULT = "fault", "fault"
    FIXED = "fixed", "fault answered"
    PANEL = "panel", "panel reading"


#: What is noted of a move before it is made.
MOVE_STATES = (Kind.TOLD, Kind.LEFT)
#: No walks, and walks again.
CALLS = (Kind.STAND_DOWN, Kind.ALL_CLEAR)
#: What moves neither a battery nor what is believed of one.
QUIET = (Kind.NOTE, Kind.SEEN, Kind.FAULT, Kind.FIXED)
#: Entries about gear, with or without an event.
CUSTODY = (Kind.CHECK_OUT, Kind.CHECK_IN)


class Standing(models.TextChoices):
    """What became of an entry when it arrived."""

    KEPT = "kept", "kept"
    QUARANTINE = "quarantine", "quarantine"
    CONFLICT = "conflict", "conflict"


def _ends(limit: Limit) -> tuple[float, float]:
    return limit.low, limit.high


class FieldEntry(models.Model):
    """One thing somebody noted; append-only."""

    id: int
    uid = models.UUIDField(default=uuid.uuid4)
    device = models.CharField(max_length=60)
    payload_hash = models.CharField(max_length=64)
    kind = models.CharField(max_length=12, choices=Kind)
    #: None when it was noted at the shelf.
    event_key = models.UUIDField(null=True, blank=True, db_index=True)
    actor = models.ForeignKey(Actor, on_delete=models.PROTECT, related_name="entries")
    effective_at = models.DateTimeField()
    device_at = models.DateTimeField(null=True, blank=True)
    received_at = models.DateTimeField(default=real_now)
    skew_s = models.FloatField(null=True, blank=True)
    battery = models.UUIDField(null=True, blank=True)
    battery_out = models.UUIDField(null=True, blank=True)
    place = models.ForeignKey(
        Place, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    place_out = models.ForeignKey(
        Place, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    station_key = models.UUIDField(null=True, blank=True)
    source_key = models.UUIDField(null=True, blank=True)
    is_on = models.BooleanField(null=True, blank=True)
    step = models.CharField(max_length=8, blank=True)
    volts = models.FloatField(null=True, blank=True)
    amps = models.FloatField(null=True, blank=True)
    amp_hours = models.FloatField(null=True, blank=True)
    gauge_pct = models.FloatField(null=True, blank=True)
    how = models.CharField(max_length=10, blank=True)
    unplugged_min = models.FloatField(null=True, blank=True)
    #: What a counter counted in, where it shows that apart; `amp_hours` is out less in.
    ah_in = models.FloatField(null=True, blank=True)
    #: Of a panel reading: cloud in eighths, and how far the panel is tilted.
    oktas = models.FloatField(null=True, blank=True)
    tilt = models.FloatField(null=True, blank=True)
    #: Of a fault: keys of `powercore.gear.faults`, and what was done about it.
    symptom = models.CharField(max_length=12, blank=True)
    cause = models.CharField(max_length=12, blank=True)
    fix = models.CharField(max_length=300, blank=True)
    note = models.CharField(max_length=500, blank=True)
    strikes = models.UUIDField(null=True, blank=True)
    #: What of the shelf it is about, whatever kind of thing it is.
    asset = models.UUIDField(null=True, blank=True)
    to_whom = models.CharField(max_length=80, blank=True)
    due_at = models.DateTimeField(null=True, blank=True)
    damage = models.CharField(max_length=300, blank=True)
    is_wet = models.BooleanField(null=True, blank=True)
    missing = models.CharField(max_length=300, blank=True)
    switches_off = models.BooleanField(null=True, blank=True)
    load_off = models.BooleanField(null=True, blank=True)
    #: The entry that this one answers: a release its hold, a cause its fault, and what
    #: a coordinator made of an entry that waited.
    answers = models.UUIDField(null=True, blank=True)
    raw = models.JSONField(default=dict)
    standing = models.CharField(max_length=10, choices=Standing, default=Standing.KEPT)
    standing_why = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["effective_at", "uid"]
        indexes = [
            models.Index(fields=["battery", "effective_at"], name="log_entry_battery"),
            models.Index(fields=["asset", "effective_at"], name="log_entry_asset"),
            models.Index(fields=["event_key", "effective_at"], name="log_entry_event"),
            models.Index(
                fields=["event_key", "kind", "effective_at"], name="log_entry_kind"
            ),
            models.Index(
                fields=["strikes"],
                name="log_entry_struck",
                condition=Q(kind="strike"),
            ),
            models.Index(
                fields=["answers"],
                name="log_entry_answered",
                condition=Q(answers__isnull=False),
            ),
            models.Index(
                fields=["event_key"],
                name="log_entry_aside",
                condition=Q(standing="quarantine"),
            ),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["device", "uid"],
                condition=~Q(standing="conflict"),
                name="log_entry_once",
            ),
            models.CheckConstraint(
                name="log_reading_reads",
                condition=~Q(kind="reading")
                | Q(volts__isnull=False)
                | Q(amp_hours__isnull=False)
                | Q(gauge_pct__isnull=False)
                | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_fault_has_symptom",
                condition=~Q(kind="fault") | ~Q(symptom="") | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_panel_says_something",
                condition=~Q(kind="panel")
                | Q(oktas__isnull=False)
                | Q(amps__isnull=False)
                | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_swap_has_place_and_battery",
                condition=~Q(kind="swap")
                | Q(place__isnull=False, battery__isnull=False)
                | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_strike_has_target",
                condition=~Q(kind="strike") | Q(strikes__isnull=False),
            ),
            models.CheckConstraint(
                name="log_shelf_entry_has_asset",
                condition=~Q(
                    kind__in=(
                        "check_out",
                        "check_in",
                        "hold",
                        "release",
                        "charged",
                        "checked",
                    )
                )
                | Q(asset__isnull=False)
                | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_check_out_has_place",
                condition=~Q(kind__in=("check_out", "check_in"))
                | Q(place__isnull=False)
                | ~Q(standing="kept"),
            ),
            models.CheckConstraint(
                name="log_field_entry_has_event",
                condition=Q(event_key__isnull=False)
                | Q(
                    kind__in=(
                        "reading",
                        "note",
                        "strike",
                        "check_out",
                        "check_in",
                        "hold",
                        "release",
                        "charged",
                        "checked",
                    )
                ),
            ),
            models.CheckConstraint(
                name="log_no_absurdities",
                condition=(Q(volts__isnull=True) | Q(volts__range=_ends(READ_V)))
                & (Q(amps__isnull=True) | Q(amps__range=_ends(READ_A)))
                & (Q(amp_hours__isnull=True) | Q(amp_hours__range=_ends(READ_AH)))
                & (Q(gauge_pct__isnull=True) | Q(gauge_pct__range=_ends(GAUGE_PCT)))
                & (Q(ah_in__isnull=True) | Q(ah_in__range=_ends(COUNTED_AH)))
                & (Q(oktas__isnull=True) | Q(oktas__range=_ends(OKTAS)))
                & (Q(tilt__isnull=True) | Q(tilt__range=_ends(TILT))),
            ),
        ]
        triggers = [
            pgtrigger.Protect(
                name="log_is_append_only",
                operation=pgtrigger.Update | pgtrigger.Delete,
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_kind_display()} at {self.effective_at:%Y-%m-%d %H:%M}Z"


class Waiting(models.Model):
    """An entry that placements and beliefs do not count yet; gone when they do."""

    entry = models.BigIntegerField(primary_key=True)
    event_key = models.UUIDField(db_index=True)

    def __str__(self) -> str:
        return f"entry {self.entry}"


class TsTzRange(Func):
    """A range of time from two columns."""

    function = "TSTZRANGE"
    output_field = DateTimeRangeField()


class Placement(models.Model):
    """A battery at a place for a while; no place means on the way."""

    battery = models.UUIDField()
    place = models.ForeignKey(Place, null=True, on_delete=models.CASCADE)
    is_exclusive = models.BooleanField()
    started_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    entry_uid = models.UUIDField()

    class Meta:
        ordering = ["started_at"]
        indexes = [
            models.Index(fields=["place", "started_at"], name="log_placement_at")
        ]
        constraints = [
            ExclusionConstraint(
                name="log_battery_in_one_place",
                expressions=[
                    (F("battery"), RangeOperators.EQUAL),
                    (TsTzRange("started_at", "ended_at"), RangeOperators.OVERLAPS),
                ],
                deferrable=Deferrable.DEFERRED,
            ),
            ExclusionConstraint(
                name="log_place_holds_one",
                expressions=[
                    (F("place"), RangeOperators.EQUAL),
                    (TsTzRange("started_at", "ended_at"), RangeOperators.OVERLAPS),
                ],
                condition=Q(is_exclusive=True),
                deferrable=Deferrable.DEFERRED,
            ),
        ]

    def __str__(self) -> str:
        return f"{self.battery} at {self.place or 'the way'}"


class Conflict(models.Model):
    """Two entries that can't both be right."""

    kind = models.CharField(max_length=30)
    at = models.DateTimeField()
    place = models.ForeignKey(Place, null=True, on_delete=models.CASCADE)
    battery = models.UUIDField(null=True)
    other_battery = models.UUIDField(null=True)
    entry_uid = models.UUIDField()
    event_key = models.UUIDField(null=True, db_index=True)

    class Meta:
        ordering = ["at"]

    def __str__(self) -> str:
        return self.kind


class StationSpan(models.Model):
    """A stretch in which a station was off the air, on low power, or shed."""

    event_key = models.UUIDField(db_index=True)
    station_key = models.UUIDField()
    what = models.CharField(max_length=10)
    started_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    entry_uid = models.UUIDField()

    class Meta:
        ordering = ["started_at"]

    def __str__(self) -> str:
        return f"{self.what} from {self.started_at:%H:%M}Z"

    @property
    def words(self) -> str:
        """What the board says of it."""
        said = {"off_air": "OFF THE AIR", "low_power": "low power"}
        return said.get(self.what, "shed")


class SourceOff(models.Model):
    """A stretch in which a source of a yard gave nothing, whatever its plan says."""

    event_key = models.UUIDField(db_index=True)
    source_key = models.UUIDField()
    started_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    entry_uid = models.UUIDField()

    class Meta:
        ordering = ["started_at"]

    def __str__(self) -> str:
        return f"off from {self.started_at:%H:%M}Z"


class SkySeen(models.Model):
    """The sky as somebody saw it, for as long as that is believed."""

    event_key = models.UUIDField(db_index=True)
    oktas = models.FloatField()
    started_at = models.DateTimeField()
    ended_at = models.DateTimeField()
    entry_uid = models.UUIDField()

    class Meta:
        ordering = ["started_at"]

    def __str__(self) -> str:
        return f"{self.oktas:g}/8 from {self.started_at:%H:%M}Z"


class StationDraw(models.Model):
    """What readings say of a station's real draw over its plan."""

    event_key = models.UUIDField(db_index=True)
    station_key = models.UUIDField(unique=True)
    factor = models.FloatField()
    sd = models.FloatField()
    turns = models.PositiveIntegerField()

    class Meta:
        ordering = ["station_key"]

    def __str__(self) -> str:
        return f"{self.factor:.2f} ± {self.sd:.2f}"

    @property
    def believed(self) -> DrawFactor:
        """The factor as the core has it."""
        return DrawFactor(mean=self.factor, sd=self.sd, turns=self.turns)


class BatteryNow(models.Model):
    """What is believed of a battery, worked out from the log; one row each."""

    battery = models.UUIDField(primary_key=True)
    event_key = models.UUIDField(null=True)
    place = models.ForeignKey(Place, null=True, on_delete=models.SET_NULL)
    since = models.DateTimeField(null=True)
    soc_typical = models.FloatField()
    soc_low = models.FloatField()
    soc_high = models.FloatField()
    as_of = models.DateTimeField(null=True)
    read_at = models.DateTimeField(null=True)
    evidence = models.CharField(max_length=200)
    #: What was read of it that contradicts what was believed until then.
    contradicts = models.CharField(max_length=200, blank=True, default="")
    #: The last voltage read was 0 V: its protection has tripped, whatever its charge.
    is_tripped = models.BooleanField(default=False)
    base_tripped = models.BooleanField(default=False)
    #: Charge and factor (a station's draw, a bay's rate) together, as worked out last:
    #: parts that are equally likely. What is above is that, carried on to `as_of`.
    parts_soc = ArrayField(models.FloatField(), default=list)
    parts_factor = ArrayField(models.FloatField(), default=list)
    parts_sd = ArrayField(models.FloatField(), default=list)
    parts_at = models.DateTimeField(null=True)
    #: What was believed when it came to its place, from which its turn is worked out.
    begun = ArrayField(models.FloatField(), default=list)
    #: How many turns had said something of the draw of its station by then.
    turns_begun = models.PositiveIntegerField(default=0)
    #: What the last event left, from which the shelf's own entries go on.
    base_typical = models.FloatField(null=True)
    base_low = models.FloatField(null=True)
    base_high = models.FloatField(null=True)
    base_at = models.DateTimeField(null=True)

    def __str__(self) -> str:
        return f"{self.soc_typical:.0%}"

    @property
    def joint(self) -> Joint | None:
        """Charge and factor together; None where nothing was worked out."""
        if not self.parts_soc:
            return None
        rows = (self.parts_soc, self.parts_factor, self.parts_sd)
        return Joint(*(np.array(row) for row in rows))
