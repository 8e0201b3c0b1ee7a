"""Events and what belongs to them: places, stations, sources, crews, rotations."""

from .events import SKY_CHOICES, ChangeNote, Event, Joined, Purpose
from .places import HorizonPoint, Site, Walk
from .rotation import CalendarFeed, Leg, Pin, Rotation, Search, Snapshot, Trial
from .stations import (
    AS_NOTED,
    OpenHours,
    OperatingPattern,
    Station,
    StationEquipment,
    StationSupply,
)
from .sun import PanelArray, SkyHour
from .yard import Bay, Crew, Source, SourceWindow

__all__ = [
    "AS_NOTED",
    "SKY_CHOICES",
    "Bay",
    "CalendarFeed",
    "ChangeNote",
    "Crew",
    "Event",
    "HorizonPoint",
    "Joined",
    "Leg",
    "OpenHours",
    "OperatingPattern",
    "PanelArray",
    "Pin",
    "Purpose",
    "Rotation",
    "Search",
    "Site",
    "SkyHour",
    "Snapshot",
    "Source",
    "SourceWindow",
    "Station",
    "StationEquipment",
    "StationSupply",
    "Trial",
    "Walk",
]
