"""
The search's view of a problem: points in time, and numbers between them on arrays.

Batteries change places at points only. Between points energy is counted exactly as
the verifier counts it, so points may lie as far apart as one likes: they say when
somebody may walk, not how the physics is cut. Plain numpy; the compiled search is
in `tours`.

Places are numbered: 0 is the yard, then the seats at stations, then the bays, then the
racks for spares at stations that have one. Each station has a seat: a battery in it
feeds the station as agreed. Where the search may choose low power, a station with a
lower step has another one: who sits there feeds it on that step. Seats of one station
exclude each other, and operators change between them. Shapes: P intervals (P + 1
points), S stations, N seats, Y bays, R racks, Q sources, B batteries.
"""

from powercore.rotation.timetable.build import LEAST_W, LEAST_WH, timetable
from powercore.rotation.timetable.legs import NoCrewLeft, legs_of
from powercore.rotation.timetable.table import (
    ENDLESS_WH,
    ON_THE_WAY,
    PATIENCE,
    Prices,
    Timetable,
    keeping,
    places_of,
    steps_of,
)

__all__ = [
    "ENDLESS_WH",
    "LEAST_W",
    "LEAST_WH",
    "ON_THE_WAY",
    "PATIENCE",
    "NoCrewLeft",
    "Prices",
    "Timetable",
    "keeping",
    "legs_of",
    "places_of",
    "steps_of",
    "timetable",
]
