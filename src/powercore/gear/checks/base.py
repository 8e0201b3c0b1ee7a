"""What a rule and a finding are, and how findings of a kit are put together."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from enum import StrEnum

from powercore.gear.checks.order import FIRE, NO_POWER, OVER_VOLTS, SAID_BY
from powercore.gear.powerpath import Kit

PRACTICE = "common practice, no source"


class Severity(StrEnum):
    """How much a finding matters."""

    STOP = "stop"
    CAUTION = "caution"
    NOTE = "note"


STOP, CAUTION, NOTE = Severity.STOP, Severity.CAUTION, Severity.NOTE
ORDER = {STOP: 0, CAUTION: 1, NOTE: 2}


@dataclass(frozen=True, slots=True, kw_only=True)
class Hit:
    """Where a rule fires, and what is wrong there, with the numbers."""

    #: Key of a part or of a charge, or the tag of a thing; "" is the whole kit.
    where: str
    words: str
    #: Instead of the rule's own.
    remedy: str = ""
    severity: Severity | None = None


Check = Callable[[Kit], Iterator[Hit]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One rule: what it looks for, why it matters, what to do, whose word it is."""

    id: str
    severity: Severity
    #: What findings are grouped by.
    cause: str
    #: What it looks for, as a short name.
    name: str
    why: str
    remedy: str
    source: str
    check: Check

    @property
    def hazard(self) -> int:
        """0 for what can burn or hurt, 1 for what volts destroy, 2 for all else."""
        if self.id in FIRE:
            return 0
        return 1 if self.id in OVER_VOLTS else 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing that is wrong or worth knowing in a kit."""

    rule: Rule
    severity: Severity
    where: str
    words: str
    remedy: str

    @property
    def key(self) -> str:
        """What an acceptance of it refers to."""
        return f"{self.rule.id}:{self.where}"

    @property
    def is_no_power(self) -> bool:
        """Whether by this the kit gives nothing."""
        return self.severity is STOP and self.rule.id in NO_POWER


RULES: dict[str, Rule] = {}
#: Rules about switches: they see them as they stand.
OF_SWITCHES = ("switch-open", "charge-behind-switch")


def rule(  # noqa: PLR0913 - a rule is declared, all of it, where it is written
    id: str,
    severity: Severity,
    cause: str,
    name: str,
    *,
    why: str,
    remedy: str,
    source: str = PRACTICE,
) -> Callable[[Check], Check]:
    """Enter a function among the rules; it yields a hit for each place it fires."""

    def enter(check: Check) -> Check:
        if id in RULES:
            raise ValueError(f"Rule {id} is there twice.")
        RULES[id] = Rule(
            id=id,
            severity=severity,
            cause=cause,
            name=name,
            why=why,
            remedy=remedy,
            source=source,
            check=check,
        )
        return check

    return enter


def _said_once(found: dict[str, Finding]) -> dict[str, Finding]:
    """Join what is said twice of one cause at one place; the graver one speaks."""
    left = dict(found)
    for id, others in SAID_BY.items():
        for lesser in [one for one in left.values() if one.rule.id == id]:
            said = (left.get(f"{other}:{lesser.where}") for other in others)
            first = next((one for one in said if one is not None), None)
            if first is None or ORDER[first.severity] > ORDER[lesser.severity]:
                continue
            del left[lesser.key]
            left[first.key] = replace(first, words=f"{first.words} {lesser.words}")
    return left


def findings_of(kit: Kit, only: Iterable[str] | None = None) -> list[Finding]:
    """
    Check a kit against every rule.

    Parameters
    ----------
    kit : Kit
        Any kit, also half-described ones: what is not known fires no rule but
        those that ask for it.
    only : iterable of str, optional
        Ids of the rules to run instead of all.

    Returns
    -------
    list of Finding
        Stops first, then cautions and notes; among them first what can burn or hurt,
        then what too many volts destroy; rules of one cause together. One cause that
        two rules find at one place is said once, with the words of both. A switch
        that is off is said by itself; all else holds with it on.
    """
    wanted = RULES.values() if only is None else [RULES[key] for key in only]
    on = kit.switched_on
    found = [
        Finding(
            rule=one,
            severity=hit.severity or one.severity,
            where=hit.where,
            words=hit.words[:1].upper() + hit.words[1:],
            remedy=hit.remedy or one.remedy,
        )
        for one in wanted
        for hit in one.check(kit if one.id in OF_SWITCHES else on)
    ]
    unique = _said_once({finding.key: finding for finding in reversed(found)})
    worst: dict[str, int] = {}
    for finding in unique.values():
        cause = finding.rule.cause
        worst[cause] = min(worst.get(cause, 9), ORDER[finding.severity])
    return sorted(
        unique.values(),
        key=lambda finding: (
            ORDER[finding.severity],
            finding.rule.hazard,
            worst[finding.rule.cause],
            finding.rule.cause,
            finding.rule.id,
            finding.where,
        ),
    )
