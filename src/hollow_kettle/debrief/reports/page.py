"""What the reports of an event say: one value for paper, text and package."""

from __future__ import annotations

from collections.abc import Sized
from dataclasses import dataclass

from hollow_kettle.debrief import page as happened
from hollow_kettle.debrief.actions.page import page_of as actions_of
from hollow_kettle.debrief.actuals.page import Page as Actuals
from hollow_kettle.debrief.actuals.page import page_of as actuals_of
from hollow_kettle.debrief.causes.page import Page as CausesPage
from hollow_kettle.debrief.causes.page import page_of as causes_of
from hollow_kettle.debrief.learning.page import Row, learned_at
from hollow_kettle.field.words import names_of, words_of
from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.log.services import counting
from hollow_kettle.people.models import Duty
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Action, Asset

#: Entries that a unit's log of power tells, in the order of time.
POWER = (
    Kind.SWAP,
    Kind.SOURCE,
    Kind.OFF_AIR,
    Kind.BACK,
    Kind.POWER_STEP,
    Kind.SHED,
    Kind.RESTORED,
    Kind.FAULT,
    Kind.FIXED,
    Kind.STAND_DOWN,
    Kind.ALL_CLEAR,
)
#: Of planned hours, from which share on a station was as good as always on the air.
ALWAYS = 0.995
#: Power that is back within this is back quickly. [min]
QUICK_MIN = 15
#: Readings an hour and station from which an event was well watched.
WATCHED = 1.0


@dataclass(frozen=True, slots=True)
class Hours:
    """Hours on the air: asked of a station, and given."""

    name: str
    asked_h: float
    given_h: float

    @property
    def share(self) -> float:
        """Given of asked. (0 to 1)"""
        return self.given_h / self.asked_h if self.asked_h else 1.0


@dataclass(frozen=True, slots=True)
class Paper:
    """Everything that a report of an event may say."""

    event: Event
    report: happened.Report
    actuals: Actuals
    causes: CausesPage
    actions: list[Action]
    learned: list[Row]
    hours: list[Hours]
    #: Who was on duty: name and role.
    duties: list[tuple[str, str]]
    #: Entries of the power section of a unit's log, each in a few words.
    entries: list[tuple[FieldEntry, str]]

    @property
    def asked_h(self) -> float:
        """Station-hours asked."""
        return sum(one.asked_h for one in self.hours)

    @property
    def given_h(self) -> float:
        """Station-hours given."""
        return sum(one.given_h for one in self.hours)

    @property
    def share(self) -> float:
        """Given of asked. (0 to 1)"""
        return self.given_h / self.asked_h if self.asked_h else 1.0

    @property
    def strengths(self) -> list[str]:
        """What went well, as the numbers say."""
        found = [
            f"{one.name} was on the air for all of its {one.asked_h:.0f} h"
            for one in self.hours
            if one.share >= ALWAYS and one.asked_h
        ]
        walks = self.actuals
        if walks.walks_planned and walks.walks_on_time >= walks.walks_late:
            found.append(
                f"{walks.walks_on_time} of {walks.walks_planned} swaps were on time"
            )
        if walks.per_h >= WATCHED:
            found.append(
                f"stations were read {walks.per_h:.1f} times an hour, so that this "
                "could be worked out"
            )
        quick = [
            one.measured.minutes
            for one in self.report.harm
            if one.what == "off_air" and not one.is_open_ended
        ]
        if quick and sum(quick) / len(quick) <= QUICK_MIN:
            found.append(
                f"power was back after {sum(quick) / len(quick):.0f} min on average"
            )
        return found

    @property
    def improvements(self) -> list[str]:
        """What is to be better, as the numbers say."""
        found = [
            f"{one.name} was off the air for {60 * (one.asked_h - one.given_h):.0f} of "
            f"its {60 * one.asked_h:.0f} min"
            for one in self.hours
            if one.share < ALWAYS
        ]
        for ledger in self.causes.ledgers[:1]:
            rows = [row for row in ledger.rows if row.kind == "share"]
            found += [
                f"{row.name.lower()} took {row.minutes} min"
                for row in sorted(rows, key=lambda row: -row.minutes)[:3]
                if row.minutes >= 1
            ]
        if self.actuals.near:
            near = _counted(self.actuals.near, "battery", "batteries")
            found.append(f"{near} came back near empty")
        if self.report.gaps:
            things = _counted(self.report.gaps, "thing", "things")
            found.append(f"the log leaves {things} open")
        return found


def _counted(things: Sized, one: str, many: str) -> str:
    return f"{len(things)} {one if len(things) == 1 else many}"


def paper_of(event: Event) -> Paper:
    """Work out what the reports of an event say."""
    report = happened.report_of(event, event.clock.now())
    history = report.falls.history
    actuals = actuals_of(history)
    off = {line.station.pk: line.off_min / 60 for line in report.stations}
    return Paper(
        event=event,
        report=report,
        actuals=actuals,
        causes=causes_of(event),
        actions=actions_of(event).taken,
        learned=learned_at(event),
        hours=[
            Hours(
                row.station.name,
                row.open_h,
                max(0.0, row.open_h - off[row.station.pk]),
            )
            for row in actuals.stations
        ],
        duties=_duties(event),
        entries=_entries(event),
    )


def _duties(event: Event) -> list[tuple[str, str]]:
    """Who had a role at an event, coordinators of the club aside."""
    found = Duty.objects.filter(event_key=event.pk).select_related("actor")
    return sorted((one.actor.name, one.get_role_display()) for one in found)


def _entries(event: Event) -> list[tuple[FieldEntry, str]]:
    own = counting(FieldEntry.objects.filter(event_key=event.pk, kind__in=POWER))
    found = list(own.select_related("actor", "place").order_by("effective_at", "uid"))
    keys = {key for one in found for key in (one.battery, one.battery_out) if key}
    tags = dict(Asset.objects.filter(pk__in=keys).values_list("pk", "tag"))
    names = names_of(event)
    return [(one, words_of(one, tags, names)) for one in found]
