"""
What is believed of each battery's charge, worked out from the log.

Turns are walked through in the order in which they began: a battery's charge goes on
from the turn before, a station's draw from the battery before. Within a turn the plan
says what should have flowed, and readings what did. The result is cached in
`BatteryNow`; pages carry it forward to their own now.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from uuid import UUID

from django.db.models import Q

from hollow_kettle.log.models import (
    BatteryNow,
    FieldEntry,
    Kind,
    PlaceKind,
    Placement,
    StationDraw,
)
from hollow_kettle.log.services import counting, replace_rows
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.charge import belief as charge
from powercore.belief.believed import Begun, SocEstimate, unknown
from powercore.belief.draw import DrawFactor
from powercore.belief.ends import (
    END_HINT,
    END_SD,
    END_SOC,
    END_WRONG,
    says_end,
)
from powercore.belief.estimate import Belief, bay_prior, draw_of, draw_prior
from powercore.belief.mixture import Mixture
from powercore.belief.readings import is_tripped
from powercore.belief.steps import (
    CounterReading,
    GaugeReading,
    Known,
    Step,
    Use,
    VoltsReading,
)
from powercore.physics.battery import Pack

from .physics import EventPhysics

#: Charges and readings at the shelf count so long before an event.
AT_THE_SHELF = timedelta(days=3)
#: A reading before which less was planned says nothing of a draw. [Ah]
LEAST_AH = 0.3
#: How much a station's draw may have changed by its next battery: variance of its
#: factor. Common practice, no source.
CHANGES = 0.05**2
#: Entries whose words may say that a battery was at its end.
SAYS_END = (Kind.OFF_AIR, Kind.NOTE, Kind.FAULT, Kind.SWAP, Kind.SHED, Kind.POWER_STEP)
#: At most so many moments of a turn are kept, to be corrected by what was read later.
MOST_MARKS = 12


def readings_of(
    event: Event, battery: UUID | None = None, since: datetime | None = None
) -> defaultdict[UUID, list[FieldEntry]]:
    """
    The readings of an event that count, by battery, oldest first.

    What was noted at the shelf in the days before it and while it ran counts too, and
    what people said of a battery's end.
    """
    readings: defaultdict[UUID, list[FieldEntry]] = defaultdict(list)
    span = (event.starts_at - AT_THE_SHELF, event.ends_at)
    entries = FieldEntry.objects.filter(
        Q(event_key=event.pk, kind=Kind.READING)
        | Q(
            event_key=None,
            kind__in=(Kind.READING, Kind.CHARGED),
            effective_at__range=span,
        ),
        battery__isnull=False,
    )
    if battery is not None:
        entries = entries.filter(battery=battery)
    if since is not None:
        entries = entries.filter(effective_at__gt=since)
    for entry in counting(entries).order_by("effective_at", "uid"):
        if entry.battery is not None:
            readings[entry.battery].append(entry)
    for uid, entry in _ends_said(event, since):
        if battery in (None, uid):
            readings[uid].append(entry)
            readings[uid].sort(key=lambda one: (one.effective_at, one.uid))
    return readings


def _ends_said(
    event: Event, since: datetime | None
) -> Iterator[tuple[UUID, FieldEntry]]:
    """What was said of batteries' ends: of a swap's old one, else of what served."""
    entries = FieldEntry.objects.filter(event_key=event.pk, kind__in=SAYS_END)
    if since is not None:
        entries = entries.filter(effective_at__gt=since)
    # A long log has many notes: the database looks through them.
    hinted = entries.filter(note__iregex=END_HINT)
    found = counting(hinted).order_by("effective_at", "uid")
    said = [entry for entry in found if says_end(entry.note)]
    if not said:
        return
    served = Placement.objects.filter(
        place__kind=PlaceKind.POSITION,
        place__station_key__in={entry.station_key for entry in said},
    ).select_related("place")
    for entry in said:
        here = [
            one.battery
            for one in served
            if one.place is not None
            and one.place.station_key == entry.station_key
            and one.started_at < entry.effective_at
            and (one.ended_at is None or entry.effective_at <= one.ended_at)
        ]
        is_swap = entry.kind == Kind.SWAP
        battery = entry.battery_out if is_swap else entry.battery
        battery = battery or (here[-1] if here else None)
        if battery is not None:
            yield battery, entry


def lives_of(batteries: Iterable[UUID]) -> defaultdict[UUID, list[Placement]]:
    """Where batteries were, on the way included, oldest first."""
    lives: defaultdict[UUID, list[Placement]] = defaultdict(list)
    found = Placement.objects.filter(battery__in=set(batteries))
    for placement in found.select_related("place"):
        lives[placement.battery].append(placement)
    return lives


@dataclass(slots=True)
class Turn:
    """A battery at one place for a while, and what was read of it there."""

    battery: UUID
    #: None before anybody said where it is.
    placement: Placement | None
    start: datetime
    end: datetime | None
    readings: list[FieldEntry] = field(default_factory=list)
    #: What is believed of moments of it that somebody asked for.
    history: dict[datetime, SocEstimate] = field(default_factory=dict)
    #: What is believed, at its end, of its station's draw or its bay's rate.
    factor: Mixture | None = None

    @property
    def station(self) -> str | None:
        """The station that it feeds, if any."""
        place = self.placement.place if self.placement else None
        if place is None or place.kind != PlaceKind.POSITION:
            return None
        return str(place.station_key)

    @property
    def is_on_bay(self) -> bool:
        """Whether it is on a bay."""
        place = self.placement.place if self.placement else None
        return place is not None and place.kind == PlaceKind.BAY


def turns_of(
    lives: Mapping[UUID, Sequence[Placement]],
    readings: Mapping[UUID, Sequence[FieldEntry]],
    batteries: Iterable[UUID],
) -> list[Turn]:
    """The turns of batteries with what was read in each, in order of their start."""
    found: list[Turn] = []
    for uid in batteries:
        life, read = lives.get(uid, ()), readings.get(uid, ())
        own = [Turn(uid, one, one.started_at, one.ended_at) for one in life]
        first = own[0].start if own else None
        if read and (first is None or read[0].effective_at <= first):
            own.insert(0, Turn(uid, None, read[0].effective_at, first))
        for one in read:
            # What is read as a turn ends belongs to it: the next has not begun.
            began = [turn for turn in own if turn.start < one.effective_at]
            (began[-1] if began else own[0]).readings.append(one)
        found += own
    return sorted(found, key=lambda turn: (turn.start, turn.battery))


@dataclass(slots=True)
class Life:
    """A battery's belief, where its last turn began, and how far it was carried."""

    belief: Belief
    begun: Begun | None = None
    #: How many turns said something of the draw of its station before.
    turns: int = 0
    at: datetime | None = None


class Walk:
    """
    The beliefs of an event's batteries and stations, turn by turn.

    `counts` says which readings count. With a `prior`, each turn says by itself what
    its station drew, beginning from that.
    """

    def __init__(
        self,
        physics: EventPhysics,
        *,
        counts: Callable[[Step], bool] = lambda step: True,
        prior: Mixture | None = None,
    ) -> None:
        self.physics = physics
        self.counts, self.prior = counts, prior
        self.lives: dict[UUID, Life] = {}
        self._factors: dict[str, Mixture] = {}
        self._turns: dict[str, int] = {}

    def through(
        self, turns: Iterable[Turn], until: datetime, marks: timedelta | None = None
    ) -> None:
        """Walk through turns, in order of their start, up to a moment."""
        for turn in turns:
            pack = self.physics.pack(turn.battery)
            if pack is None or turn.start > until:
                continue
            life = self.lives.setdefault(turn.battery, Life(Belief(pack)))
            life.begun = life.belief.begin(self._factor_of(turn))
            life.turns = self._turns.get(turn.station or "", 0)
            self._walk(life, turn, until, marks)

    def again(self, turn: Turn, life: Life, until: datetime) -> None:
        """Walk through a turn again, from what was believed as it began."""
        assert life.begun is not None  # noqa: S101 - who calls has it
        life.belief.resume(life.begun)
        self.lives[turn.battery] = life
        self._walk(life, turn, until, None)

    def draws(self) -> dict[str, DrawFactor]:
        """What readings say of stations' real draw, of those that were read."""
        return {
            key: draw_of(self._factors[key], turns)
            for key, turns in self._turns.items()
            if turns
        }

    def _factor_of(self, turn: Turn) -> Mixture | None:
        if turn.is_on_bay:
            return bay_prior()
        plan = self.physics.problem.stations.get(turn.station or "")
        if plan is None:
            return None
        if self.prior is not None:
            return self.prior
        known = self._factors.get(plan.key)
        if known is None:
            return draw_prior(plan.spread)
        return Mixture(known.weight, known.mean, known.var + CHANGES)

    def _walk(
        self, life: Life, turn: Turn, until: datetime, marks: timedelta | None
    ) -> None:
        belief = life.belief
        end = min(until, turn.end) if turn.end is not None else until
        wanted = _marks(turn.start, end, marks) if marks else []
        moments: list[tuple[datetime, FieldEntry | None]] = [
            *((entry.effective_at, entry) for entry in turn.readings),
            *((moment, None) for moment in wanted),
        ]
        moments.sort(key=lambda item: item[0])
        at, planned_ah, said = turn.start, 0.0, False
        for moment, entry in [*moments, (end, None)]:
            for step in self._passed(turn, at, moment):
                belief.apply(step)
                planned_ah += step.planned_ah if isinstance(step, Use) else 0.0
            at = max(at, moment)
            if entry is not None:
                said |= planned_ah >= LEAST_AH
                hours = (moment - turn.start).total_seconds() / 3600
                steps = reading_steps(
                    entry,
                    belief.pack,
                    hours,
                    self.physics.end_soc(turn.station, turn.battery),
                )
                for one in filter(self.counts, steps):
                    belief.apply(one)
            elif moment in wanted and len(turn.history) < len(wanted):
                belief.mark()
                turn.history[moment] = unknown()
        turn.history = dict(zip(turn.history, belief.marked(), strict=True))
        life.at, turn.factor = at, belief.factor()
        if turn.station in self.physics.problem.stations:
            self._turns[turn.station] = life.turns + said
            self._factors[turn.station] = turn.factor

    def _passed(self, turn: Turn, start: datetime, end: datetime) -> list[Step]:
        place = turn.placement.place if turn.placement else None
        return self.physics.passed(place, turn.battery, start, end)


def _marks(start: datetime, end: datetime, apart: timedelta) -> list[datetime]:
    """Moments of a turn, its first and last among them, not more than are kept."""
    if end <= start:
        return [start]
    count = min(MOST_MARKS, max(2, round((end - start) / apart) + 1))
    return [start + (end - start) * one / (count - 1) for one in range(count)]


def history_of(
    physics: EventPhysics, batteries: Iterable[UUID], until: datetime, apart: timedelta
) -> list[Turn]:
    """
    The turns of batteries up to a moment, with what is believed now of each.

    A turn's history holds at most `MOST_MARKS` moments, about `apart`; each is
    corrected by what was read later in the turn.
    """
    uids = [UUID(key) for key in physics.problem.batteries]
    lives, readings = lives_of(uids), readings_of(physics.event)
    turns = [t for t in turns_of(lives, readings, uids) if t.start < until]
    Walk(physics).through(turns, until, apart)
    wanted = set(batteries)
    return [turn for turn in turns if turn.battery in wanted]


def work_out(event: Event) -> None:
    """Work out anew what is believed of an event's batteries and stations."""
    physics = EventPhysics(event)
    uids = [UUID(key) for key in physics.problem.batteries]
    lives, readings = lives_of(uids), readings_of(event)
    walk = Walk(physics)
    walk.through(turns_of(lives, readings, uids), event.last_moment)
    _keep_draws(event, walk.draws())
    rows = []
    for uid in uids:
        pack = physics.problem.batteries[str(uid)].pack
        life = walk.lives.get(uid) or Life(Belief(pack))
        row = _row(event, uid, life, readings.get(uid, ()))
        row.is_tripped = row.base_tripped = charge.last_says_tripped(readings[uid])
        if lives[uid]:
            row.place, row.since = lives[uid][-1].place, lives[uid][-1].started_at
        rows.append(row)
    _keep(rows)
    if event.state == Event.State.CLOSED:
        charge.refresh(uids)  # what the shelf noted since goes on from here


def reading_came(physics: EventPhysics, battery: UUID, at: datetime) -> bool:
    """Work out what a reading changes, if that is its battery's last turn alone."""
    event, last = physics.event, _last_turn(physics, battery, at)
    if last is None or event.state == Event.State.CLOSED:
        return False
    row, turn, life = last
    walk = Walk(physics)
    walk.again(turn, life, event.last_moment)
    new = _row(event, battery, life, turn.readings)
    said = charge.last_says_tripped(turn.readings, row.is_tripped)
    new.is_tripped = new.base_tripped = said
    new.place, new.since = row.place, row.since
    _keep([new])
    if found := walk.draws():
        physics.draws |= found
        _keep_draws(event, physics.draws)
    return True


def with_reading(
    physics: EventPhysics, battery: UUID, entry: FieldEntry
) -> SocEstimate | None:
    """What would be believed with a reading that is not noted yet; None: unknown."""
    last = _last_turn(physics, battery, entry.effective_at)
    if last is None:
        return None
    _, turn, life = last
    turn.readings = sorted([*turn.readings, entry], key=lambda one: one.effective_at)
    Walk(physics).again(turn, life, physics.event.last_moment)
    return life.belief.estimate()


def _last_turn(
    physics: EventPhysics, battery: UUID, at: datetime
) -> tuple[BatteryNow, Turn, Life] | None:
    """A battery's turn under way, from what was kept of its beginning."""
    event, pack = physics.event, physics.pack(battery)
    before = BatteryNow.objects.filter(battery=battery, event_key=event.pk)
    row = before.select_related("place").first()
    here = Placement.objects.filter(battery=battery, ended_at=None).first()
    if (
        row is None
        or pack is None
        or here is None
        or not row.begun
        or (here.started_at, here.place_id) != (row.since, row.place_id)
        or at <= here.started_at
    ):
        return None
    here.place = row.place
    read = readings_of(event, battery, here.started_at)[battery]
    turn = Turn(battery, here, here.started_at, None, read)
    life = Life(Belief(pack), Begun.of_numbers(row.begun), row.turns_begun)
    return row, turn, life


def carry_forward(event: Event) -> None:
    """Bring what is believed of each battery up to now, without working it out."""
    physics, now = EventPhysics(event), event.last_moment
    rows = list(
        BatteryNow.objects.filter(
            event_key=event.pk, battery__in=[UUID(k) for k in physics.problem.batteries]
        ).select_related("place")
    )
    for row in rows:
        soc, _ = physics.joint_at(row, now)
        row.soc_typical, row.soc_low, row.soc_high = soc.typical, soc.low, soc.high
        row.as_of = now if row.as_of is not None else None
    names = ("soc_typical", "soc_low", "soc_high", "as_of")
    BatteryNow.objects.bulk_update(rows, names)


def _keep_draws(event: Event, draws: Mapping[str, DrawFactor]) -> None:
    rows = [
        StationDraw(
            event_key=event.pk,
            station_key=UUID(key),
            factor=one.mean,
            sd=one.sd,
            turns=one.turns,
        )
        for key, one in draws.items()
    ]
    replace_rows(StationDraw, rows, StationDraw.objects.filter(event_key=event.pk))


def _keep(rows: Sequence[BatteryNow]) -> None:
    names = {f.attname for f in BatteryNow._meta.concrete_fields} - {"battery"}
    BatteryNow.objects.bulk_create(
        rows,
        update_conflicts=True,
        unique_fields=["battery"],
        update_fields=sorted(names),
    )


def _row(
    event: Event, uid: UUID, life: Life, readings: Sequence[FieldEntry]
) -> BatteryNow:
    found, joint = life.belief.estimate(), life.belief.joint()
    return BatteryNow(
        battery=uid,
        event_key=event.pk,
        soc_typical=found.typical,
        soc_low=found.low,
        soc_high=found.high,
        as_of=life.at,
        read_at=readings[-1].effective_at if readings else None,
        evidence=found.evidence[:200],
        contradicts=found.contradicts[:200],
        parts_soc=joint.soc.tolist(),
        parts_factor=joint.factor.tolist(),
        parts_sd=joint.factor_sd.tolist(),
        parts_at=life.at,
        begun=life.begun.numbers if life.begun else [],
        turns_begun=life.turns,
        base_typical=found.typical,
        base_low=found.low,
        base_high=found.high,
        base_at=life.at,
    )


def believed_draws(physics: EventPhysics) -> dict[UUID, DrawFactor]:
    """Each station's draw factor: learned, else by its plan's own spread."""
    return {
        UUID(key): physics.draws.get(key, DrawFactor(sd=plan.spread))
        for key, plan in physics.problem.stations.items()
    }


def reading_steps(
    entry: FieldEntry, pack: Pack, hours: float = 0.0, end_soc: float = END_SOC
) -> list[Step]:
    """
    Return what a reading says, so many hours into its turn, as steps of a belief.

    `end_soc`: where power ends there, as people say that it did.
    """
    if entry.kind == Kind.CHARGED:
        return [charge.ended_step(pack, entry)]
    if entry.kind in SAYS_END:
        words = f"said: {entry.note}"[:80]
        return [Known(soc=end_soc, sd=END_SD, words=words, wrong=END_WRONG)]
    steps: list[Step] = []
    if entry.amp_hours is not None:
        steps.append(
            CounterReading(
                ah=entry.amp_hours,
                hours=hours,
                words=f"counter {entry.amp_hours:+.1f} Ah out",
            )
        )
    if entry.volts is not None:
        how = entry.how or "receiving"
        said = how.replace("_", " ")
        words = f"{entry.volts:.2f} V {said}"
        if entry.amps is not None:
            words = f"{entry.volts:.2f} V {entry.amps:.1f} A {said}"
        if not is_tripped(entry.volts):
            steps.append(
                VoltsReading(
                    volts=entry.volts,
                    amps=entry.amps,
                    how=how,
                    words=words,
                    unplugged_min=entry.unplugged_min or 0.0,
                )
            )
    if entry.gauge_pct is not None:
        steps.append(
            GaugeReading(
                soc=entry.gauge_pct / 100, words=f"gauge {entry.gauge_pct:.0f} %"
            )
        )
    return steps
