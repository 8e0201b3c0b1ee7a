"""Contacts of an event's stations, and what outages cost of them."""

from __future__ import annotations

from dataclasses import dataclass

from hollow_kettle.debrief.models import Contact
from hollow_kettle.debrief.page import Report
from hollow_kettle.debrief.shortfalls.queries import Fall
from hollow_kettle.plan.models import Station
from powercore.debrief.attribute import Likely
from powercore.debrief.contacts import cost_of
from powercore.debrief.shortfall import Stretch


@dataclass(frozen=True, slots=True)
class StationRow:
    """A station's contacts."""

    station: Station
    contacts: int
    on_air_h: float
    used_wh: float
    modes: str
    costs: list[tuple[Fall, Likely | None]]

    @property
    def per_h(self) -> float:
        """Contacts an hour on the air."""
        return self.contacts / self.on_air_h if self.on_air_h else 0.0

    @property
    def wh_each(self) -> float | None:
        """Energy for each. [Wh]"""
        return self.used_wh / self.contacts if self.contacts else None

    @property
    def lost(self) -> float:
        """What its outages cost, typically."""
        return sum(cost.typical for _, cost in self.costs if cost is not None)


def rows_of(report: Report) -> list[StationRow]:
    """What each station made, and what outages cost it."""
    event, history = report.event, report.falls.history
    rows = []
    for line in report.stations:
        made = list(
            Contact.objects.filter(event=event, station=line.station).order_by("at")
        )
        times = [event.minute_of(one.at) for one in made]
        off = [one for one in line.falls if one.what == "off_air"]
        stretches = [
            Stretch(start_min=one.measured.start_min, end_min=one.measured.end_min)
            for one in off
        ]
        rows.append(
            StationRow(
                station=line.station,
                contacts=len(made),
                on_air_h=max(0.0, history.open_h(line.station) - line.off_min / 60),
                used_wh=line.used_wh,
                modes=", ".join(sorted({one.mode for one in made if one.mode})),
                costs=[
                    (one, cost_of(stretch, times, stretches) if made else None)
                    for one, stretch in zip(off, stretches, strict=True)
                ],
            )
        )
    return rows
