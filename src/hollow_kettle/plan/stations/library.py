"""Operating patterns every installation starts with."""

from __future__ import annotations

from hollow_kettle.plan.models import AS_NOTED, OperatingPattern

# Duty factors of SSB, CW and digital modes: FCC OET Bulletin 65 Supplement B
# (ed. 97-01), Table 2, from memory. Transmit shares: common practice, no source.
_FCC = "duty: FCC OET 65 Suppl. B, Table 2 (from memory); share: common practice"
_SHELF = "the radio's own record; where a station has none of ours: common practice"
_PRACTICE = "common practice, no source"

PATTERNS = (
    ("calling-ssb", "Calling, phone", 0.40, 0.0, 0.2, _FCC),
    ("search-ssb", "Search and pounce, phone", 0.20, 0.0, 0.2, _FCC),
    ("calling-cw", "Calling, CW", 0.40, 0.0, 0.4, _FCC),
    ("search-cw", "Search and pounce, CW", 0.20, 0.0, 0.4, _FCC),
    ("digital", "Digital, half the time", 0.50, 0.0, 1.0, _FCC),
    ("net-control", "Net control, FM", 0.30, 0.0, 1.0, _FCC),
    ("net-station", "Net station, FM", 0.08, 0.0, 1.0, _FCC),
    ("relay-10", "Relay, 10 % activity", 0.10, 0.0, 1.0, _PRACTICE),
    ("relay-30", "Relay, 30 % activity", 0.30, 0.0, 1.0, _PRACTICE),
    ("beacon", "Beacon, always on, one minute in four", 0.25, 0.0, 1.0, _PRACTICE),
    ("listening", "Listening windows, answers when called", 0.05, 0.0, 0.4, _PRACTICE),
    ("standby-watch", "Standby watch", 0.01, 0.60, 1.0, _PRACTICE),
    (AS_NOTED, "As its own radio is noted on the shelf", 0.30, 0.0, 0.4, _SHELF),
    ("visitors", "Visitors' station, phone", 0.15, 0.10, 0.2, _PRACTICE),
)


def stock_patterns() -> None:
    """Put the generic patterns into the library where they are missing."""
    for key, name, share, standby, duty, origin in PATTERNS:
        OperatingPattern.objects.get_or_create(
            key=key,
            defaults={
                "name": name,
                "transmit_share": share,
                "standby_share": standby,
                "duty": duty,
                "origin": origin,
            },
        )
