"""Which lead joins this port to that device, with what the club owns."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass

from powercore.gear.things import Lead, Port
from powercore.physics.wiring import OPPOSITE, End

#: A chain of more pieces falls apart in the field. Common practice, no source.
MOST_PIECES = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Join:
    """A way from a port to a device's port, or what is missing for one."""

    #: Leads and adapters in order; each with the end that meets the source side.
    leads: tuple[tuple[Lead, End], ...]
    #: Two ends that no owned lead has; None when nothing is missing.
    missing: tuple[End, End] | None
    #: What forbids it though it would fit: volts, current, direction.
    stops: tuple[str, ...]
    cautions: tuple[str, ...]


def find_join(source: Port, load: Port, owned: Iterable[Lead]) -> Join:
    """
    Find the shortest chain of leads from a source's port to a load's port.

    Polarity is followed along the chain: a reversed joint never counts as a way.
    Where no chain exists, the one lead is named that would make one, beginning at
    what can already be reached.
    """
    leads = list(owned)
    chain = _chain(source.end, load.end, leads)
    stops, cautions = _electrical(source, load, chain or ())
    if chain is not None:
        return Join(leads=chain, missing=None, stops=stops, cautions=cautions)
    missing = (_mate(source.end), _mate(load.end))
    return Join(leads=(), missing=missing, stops=stops, cautions=cautions)


def _mate(end: End) -> End:
    return End(
        connector=end.connector,
        gender=OPPOSITE[end.gender],
        is_reversed=end.is_reversed,
    )


def _chain(
    source: End, load: End, leads: list[Lead]
) -> tuple[tuple[Lead, End], ...] | None:
    if source.mates(load):
        return ()
    waiting: deque[tuple[End, tuple[tuple[Lead, End], ...]]] = deque([(source, ())])
    while waiting:
        at, chain = waiting.popleft()
        if len(chain) == MOST_PIECES:
            continue
        used = {lead.tag for lead, _ in chain}
        for lead in sorted(leads, key=lambda lead: lead.length_m):
            if lead.tag in used:
                continue
            for near, far in ((lead.end_a, lead.end_b), (lead.end_b, lead.end_a)):
                if not at.mates(near):
                    continue
                longer = (*chain, (lead, near))
                if far.mates(load):
                    return longer
                waiting.append((far, longer))
    return None


def _electrical(
    source: Port, load: Port, chain: Iterable[tuple[Lead, End]]
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    stops, cautions = [], []
    if source.flow == "in":
        stops.append(f"{source.name} of {source.owner} takes power, it gives none")
    if load.flow == "out":
        stops.append(f"{load.name} of {load.owner} gives power, it takes none")
    if load.high_v > 0 and source.high_v > load.high_v + 0.05:
        stops.append(
            f"{source.owner} gives up to {source.high_v:g} V, {load.owner} can take "
            f"{load.high_v:g} V"
        )
    if load.low_v > 0 and 0 < source.low_v < load.low_v - 0.05:
        cautions.append(
            f"{source.owner} falls to {source.low_v:g} V, {load.owner} needs "
            f"{load.low_v:g} V"
        )
    limits = [end.family.max_a for end in (source.end, load.end)]
    for lead, _ in chain:
        limits += [lead.end_a.family.max_a, lead.end_b.family.max_a]
        if lead.fuse_a is not None:
            limits.append(lead.fuse_a)
    if source.max_a is not None:
        limits.append(source.max_a)
    if load.max_a is not None and load.max_a > min(limits) * 1.001:
        cautions.append(
            f"{load.owner} draws up to {load.max_a:g} A; this way is good for "
            f"{min(limits):g} A"
        )
    if source.is_live and source.end.gender == "plug":
        cautions.append(f"the pins of {source.name} are live when open")
    return tuple(stops), tuple(cautions)
