"""The departure gate: a battery goes as full only on evidence."""

from __future__ import annotations

from dataclasses import dataclass

from powercore.gear.upkeep import kept_share
from powercore.physics.battery import Pack

#: How far under its absorption voltage a charge may end. [V per cell]
_NEAR_CELL_V = 0.02
#: The tail may be a little above the chemistry's. [ratio]
_TAIL_RATIO = 1.25
#: Least rest after which volts mean something: lithium, lead-acid. [min]
_REST_LITHIUM_MIN, _REST_LEAD_MIN = 30.0, 240.0
#: A battery proved full stays full for so much self-discharge. [share]
FULL_SHARE = 0.97


@dataclass(frozen=True, slots=True, kw_only=True)
class ChargeEnd:
    """How a charge ended, as somebody read it."""

    volts: float
    amps: float
    #: Days ago. [d]
    days: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Rested:
    """A voltage read with nothing connected."""

    volts: float
    minutes: float
    days: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Seen:
    """One later thing seen of it: a reading anywhere, or that it was used or lent."""

    #: Days ago. [d]
    days: float
    volts: float | None = None
    #: Flowing out while the volts were read. [A]
    amps: float = 0.0
    #: Counted out. [Ah]
    out_ah: float | None = None
    #: What its gauge showed. (0 to 1)
    gauge: float | None = None
    #: What else speaks against full: "it was used".
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Evidence:
    """What is known of a battery before it leaves."""

    charge_end: ChargeEnd | None = None
    rested: Rested | None = None
    #: Counted out since it was full; None without a counter. [Ah]
    out_since_full_ah: float | None = None
    #: Everything seen of it since, at the shelf or at an event.
    seen: tuple[Seen, ...] = ()
    switches_off: bool | None = None
    load_off: bool | None = None
    temp_c: float = 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Gate:
    """Whether it may go as full; by what; what is missing."""

    is_full: bool
    proof: str
    missing: tuple[str, ...]


def full_rested_v(pack: Pack) -> float:
    """
    Rested voltage from which a pack may count as full. [V]

    From the chemistry's curve: at 90 % where volts tell (lead-acid, NMC, LiPo, and
    NiMH); at 95 % for LiFePO4, where they alone prove nothing.
    """
    level = 0.95 if pack.chemistry == "lifepo4" else 0.93
    return pack.rested_v(level)


def gate(pack: Pack, evidence: Evidence) -> Gate:
    """
    Judge whether a battery may leave as full.

    Full is proved by a charge that reached absorption and fell to the tail, or by
    rested volts together with a count; rested volts alone do for chemistries whose
    volts tell. Evidence ages: anything below full that was seen later closes the gate
    until there is a new proof. Switches and loads must be off.
    """
    missing: list[str] = []
    proof = ""
    end = evidence.charge_end
    if end is None:
        missing.append("no charge to the end is noted")
    else:
        proof, lacks = _by_charge(pack, end, evidence)
        missing += lacks
    if not proof and evidence.rested is not None:
        proof, lacks = _by_rest(pack, evidence.rested, evidence)
        if end is None:  # else what the charge lacks says it already
            missing += lacks
    if evidence.switches_off is not True:
        missing.append("nobody noted that its switches are off")
    if evidence.load_off is not True:
        missing.append("nobody noted that nothing draws from it")
    if proof:
        missing = [words for words in missing if words.startswith("nobody noted")]
    return Gate(
        is_full=bool(proof) and not missing, proof=proof, missing=tuple(missing)
    )


def below_full(pack: Pack, seen: Seen) -> str:
    """
    Say what in something seen speaks against a full battery; "" where nothing does.

    Volts under load count as rested ones by what the pack's resistance takes; that
    they were read too soon after use to prove full does not make them high.
    """
    if seen.words:
        return seen.words
    if seen.gauge is not None and seen.gauge < FULL_SHARE:
        return f"its gauge showed {seen.gauge:.0%}"
    if seen.out_ah is not None and seen.out_ah > (1 - FULL_SHARE) * pack.trusted_ah:
        return f"{seen.out_ah:.1f} Ah were counted out"
    if seen.volts is not None:
        rested_v = seen.volts + seen.amps * pack.resistance_ohm
        full_v = full_rested_v(pack)
        if rested_v < full_v:
            return f"it read {seen.volts:.2f} V; full is {full_v:.2f} V"
    return ""


def _against(pack: Pack, evidence: Evidence, days: float) -> str:
    """The latest thing below full that was seen less than so many days ago."""
    later = sorted((s for s in evidence.seen if s.days < days), key=lambda s: s.days)
    return next((words for s in later if (words := below_full(pack, s))), "")


def _by_charge(pack: Pack, end: ChargeEnd, evidence: Evidence) -> tuple[str, list[str]]:
    lacks = []
    absorb_v = pack.absorb_v - _NEAR_CELL_V * pack.series
    tail_a = pack.chem.tail_c * pack.nameplate_ah * _TAIL_RATIO
    if end.volts < absorb_v:
        lacks.append(f"the charge ended at {end.volts:.2f} V, below {absorb_v:.2f} V")
    if end.amps > tail_a:
        lacks.append(
            f"the charge ended at {end.amps:.2f} A, the tail is {tail_a:.2f} A"
        )
    against = _against(pack, evidence, end.days)
    if against:
        lacks.append(f"since it was charged {against}")
    kept = kept_share(pack.chem, end.days, evidence.temp_c)
    if kept < FULL_SHARE:
        lacks.append(f"{end.days:.0f} days since it was full: about {kept:.0%} by now")
    if lacks:
        return "", lacks
    return f"absorption at {end.volts:.2f} V, tail {end.amps:.2f} A", []


def _by_rest(pack: Pack, rested: Rested, evidence: Evidence) -> tuple[str, list[str]]:
    lacks = []
    needed_min = _REST_LEAD_MIN if pack.chem.is_lead else _REST_LITHIUM_MIN
    full_v = full_rested_v(pack)
    if rested.minutes < needed_min:
        lacks.append(
            f"unplugged for {rested.minutes:.0f} min; {needed_min:.0f} min are needed"
        )
    if rested.volts < full_v:
        lacks.append(f"rested at {rested.volts:.2f} V, full is {full_v:.2f} V")
    against = _against(pack, evidence, rested.days)
    if against:
        lacks.append(f"since that reading {against}")
    if kept_share(pack.chem, rested.days, evidence.temp_c) < FULL_SHARE:
        lacks.append(f"that reading is {rested.days:.0f} days old")
    count = evidence.out_since_full_ah
    if pack.chemistry == "lifepo4":
        if count is None:
            lacks.append("volts alone prove nothing for LiFePO4; a count is needed")
        elif count > (1 - FULL_SHARE) * pack.trusted_ah:
            lacks.append(f"{count:.1f} Ah were counted out since it was full")
    if lacks:
        return "", lacks
    with_count = "" if count is None else f", {count:.1f} Ah out since full"
    return f"rested at {rested.volts:.2f} V{with_count}", []
