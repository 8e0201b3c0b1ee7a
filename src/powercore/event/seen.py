"""The sky that somebody saw, laid over the one that was forecast."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from powercore.event.plans import UNKNOWN_OKTAS, SkyHour

#: How long a sky that was seen is believed after the last look at it. [min]
#: Common practice, no source.
BELIEVED_MIN = 120


@dataclass(frozen=True, slots=True, kw_only=True)
class SeenSky:
    """A stretch of which somebody noted the cloud. [min, eighths]"""

    start_min: int
    end_min: int
    oktas: float


def with_seen(
    forecast: Sequence[SkyHour], seen: Iterable[SeenSky]
) -> tuple[SkyHour, ...]:
    """
    Return the forecast with what was seen in its stretches.

    Parameters
    ----------
    forecast : sequence of SkyHour
        In order; the first counts before it too. None: half of the sky under cloud.
    seen : iterable of SeenSky
        Where two meet, the later counts.

    Returns
    -------
    tuple of SkyHour
        In order. What was seen keeps its forecast's air and wind; its light is worked
        out from the cloud.
    """
    stretches = sorted(seen, key=lambda one: one.start_min)
    if not stretches:
        return tuple(forecast)
    known = list(forecast)
    known = known or [SkyHour(start_min=0, oktas=UNKNOWN_OKTAS)]
    turns = {hour.start_min for hour in known}
    for one in stretches:
        turns |= {one.start_min, one.end_min}
    found = []
    for minute in sorted(turns):
        hour = next((h for h in reversed(known) if h.start_min <= minute), known[0])
        hour = replace(hour, start_min=minute)
        for one in stretches:
            if one.start_min <= minute < one.end_min:
                hour = replace(
                    hour,
                    oktas=one.oktas,
                    global_w=None,
                    beam_w=None,
                    diffuse_w=None,
                    is_seen=True,
                )
        found.append(hour)
    return tuple(found)
