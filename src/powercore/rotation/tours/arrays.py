"""What the compiled search works on: a timetable's arrays, a table under way, room."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple, TypeVar, cast

import numba
import numpy as np

from powercore.rotation.timetable import ON_THE_WAY, Timetable
from powercore.values import BoolArray, FloatArray, IntArray

TINY = 1e-9
#: What nobody's life is worth, and below what it is nobody's.
NEVER, DEAD = -1e18, -1e17
#: A source with less than this has a store. [Wh]
ENDLESS_STORE_WH = 1e11


class Arrays(NamedTuple):
    """A timetable's arrays, as the compiled search takes them; see `Timetable`."""

    points: IntArray
    seat_at: IntArray
    #: The station of each place, -1 where it is at none, and last of who is on the way;
    #: the places at each station: seat, seat on low power, rack; -1: none. shape (S, 3)
    station_at: IntArray
    mates: IntArray
    need_wh: FloatArray
    worth: FloatArray
    reserve_price: FloatArray
    stop_prices: FloatArray
    #: Of a stop by day, of putting a battery on a bay or a rack or taking it off, of
    #: a full battery at the end, and what is saved by one round to two. shape (4,)
    prices: FloatArray
    between_min: IntArray
    surplus_wh: FloatArray
    surplus_h: FloatArray
    takes: FloatArray
    holds_wh: FloatArray
    floor: FloatArray
    reserve: FloatArray
    bulk: FloatArray
    tail: FloatArray
    taper_h: FloatArray
    w_per_rate: FloatArray
    is_on: BoolArray
    source_of: IntArray
    most_w: FloatArray
    watt_price: FloatArray
    is_shared: BoolArray
    store_wh: FloatArray
    store_most: FloatArray
    fills_wh: FloatArray
    watched: BoolArray
    walk_min: IntArray
    duty: BoolArray
    crews: IntArray
    out_from: IntArray
    back_at: IntArray
    rack_at: IntArray
    rack_room: IntArray
    swaps: BoolArray
    may: BoolArray
    moves: BoolArray
    start_at: IntArray
    start_soc: FloatArray


class State(NamedTuple):
    """
    A whole table under way: every battery's tour, and what they leave for others.

    Shapes: B batteries, P intervals, S stations, Y bays, R racks, Q sources.
    """

    #: Where batteries are, (B, P), and with what, (B, P + 1).
    at: IntArray
    soc: FloatArray
    #: What they serve and take from below reserve, what their bays draw, and what
    #: of that they take from a store. (B, P)
    share: FloatArray
    below: FloatArray
    watts: FloatArray
    took: FloatArray
    #: 0 where nobody is, infinite where somebody is. (S, P) and (Y, P)
    rent_s: FloatArray
    rent_y: FloatArray
    #: How many wait as spares. (R, P)
    racked: IntArray
    #: What is left of each source, what all take from its store, what one more could
    #: take without anybody having less later, and what that store spills. (Q, P)
    power_w: FloatArray
    drawn: FloatArray
    store_wh: FloatArray
    spilt: FloatArray
    #: How many come to or leave a station at a point, (S, P + 1), and walks under
    #: way in each minute.
    stops: IntArray
    used: IntArray


def arrays_of(table: Timetable, *, together: float = 0.0) -> Arrays:
    """
    Return a timetable's arrays for the compiled search.

    `together` is the share of a stop that is saved by one round to two; bounds count
    each by itself.
    """
    prices = np.array([table.stop_price, table.bay_price, table.left_price, together])
    places = [*range(table.places), ON_THE_WAY]
    station_at = np.array([table.station_of(place) for place in places])
    mates = np.full((len(table.stations), 3), -1)
    for place in range(1, table.places):
        station = station_at[place]
        if station >= 0:
            is_rack, is_low = place >= table.first_rack, place > len(table.stations)
            mates[station, 2 if is_rack else int(is_low)] = place
    made = {"prices": prices, "station_at": station_at, "mates": mates}
    own = {name: getattr(table, name) for name in Arrays._fields if name not in made}
    return Arrays(**own, **made)


_F = TypeVar("_F", bound=Callable[..., Any])


def _own_cache() -> None:
    """
    Keep compiled functions of each version of this folder apart.

    They call one another across files, while a cache only looks at its own file.
    """
    here = Path(__file__).parent
    digest = hashlib.sha256()
    for path in sorted(here.glob("*.py")):
        digest.update(path.read_bytes())
    settings: Any = numba.config
    base = Path(settings.CACHE_DIR or here / "__pycache__")
    settings.CACHE_DIR = str(base / digest.hexdigest()[:12])


_own_cache()


def compiled(function: _F) -> _F:
    """Compile a function, once for all processes."""
    return cast(_F, numba.njit(cache=True)(function))


def inlined(function: _F) -> _F:
    """Compile a step of one function into it: no cost for its own name."""
    return cast(_F, numba.njit(cache=True, forceinline=True)(function))


class Fees(NamedTuple):
    """
    What a tour is paid and what it costs, beside the timetable's own prices.

    Infinite: not allowed.
    """

    #: What serving is worth now, as a share of its worth. (S, P)
    factor: FloatArray
    #: For being in use at a station and on a bay. (S, P) and (Y, P)
    rent_s: FloatArray
    rent_y: FloatArray
    #: For coming to a station and leaving it. (S, P + 1)
    come: FloatArray
    go: FloatArray
    #: For a watt of each source. (Q, P)
    watt: FloatArray


class Left(NamedTuple):
    """What others leave: of each source, and of racks."""

    #: Watts, Wh in store, and Wh that the store spills. (Q, P)
    power_w: FloatArray
    store_wh: FloatArray
    spilt: FloatArray
    #: How many others wait as spares. (R, P)
    racked: IntArray


class Room(NamedTuple):
    """
    Room for one shortest path, made once by `workspace`.

    Points × places × buckets of charge: what the best life is worth that is there,
    its charge, what it took of a store, and how it came. First at a point, in a place
    since before; then, without points, in it during the next interval.
    """

    value: FloatArray
    soc: FloatArray
    took: FloatArray
    why: IntArray
    origin: IntArray
    in_value: FloatArray
    in_soc: FloatArray
    in_took: FloatArray
    in_why: IntArray
    in_origin: IntArray
    #: Whether anybody is there at a point. (P + 1, places)
    has: BoolArray


@compiled
def workspace(count: int, places: int, buckets: int) -> Room:
    """Room for one shortest path."""
    shape = (count + 1, places, buckets)
    return Room(
        np.full(shape, NEVER),
        np.zeros(shape),
        np.zeros(shape),
        np.zeros(shape, dtype=np.int8),
        np.zeros(shape, dtype=np.int64),
        np.full((places, buckets), NEVER),
        np.zeros((places, buckets)),
        np.zeros((places, buckets)),
        np.zeros(shape, dtype=np.int8),
        np.zeros(shape, dtype=np.int64),
        np.zeros((count + 1, places), dtype=np.bool_),
    )
