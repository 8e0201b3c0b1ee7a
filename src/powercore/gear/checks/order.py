"""
What of a kit's findings comes first, and what is only said once.

Kept in one table, apart from the rules, since it is about rules against each other.
"""

from __future__ import annotations

#: What can burn or hurt somebody: first among findings of the same weight.
FIRE = frozenset(
    {
        "building",
        "charge-chemistry",
        "charge-current",
        "charge-volts-high",
        "cold-charge",
        "fuse-above-wire",
        "fuse-missing",
        "fuse-not-makers",
        "fuse-open",
        "generator-place",
        "no-protection",
        "on-hold",
        "panel-no-controller",
        "parallel-chemistry",
        "parallel-fuse",
        "parallel-protection",
        "polarity",
        "primary-cell",
        "protection-unknown",
        "separate-port-bypassed",
        "unbalanced-charge",
        "weak-part",
        "wire-ampacity",
    }
)
#: What is destroyed by too many volts: next.
OVER_VOLTS = frozenset(
    {
        "charge-volts-device",
        "controller-voc",
        "converter-input",
        "converter-output",
        "device-max-volts",
    }
)
#: With a stop of these a kit gives nothing, so no hours are promised of it.
NO_POWER = frozenset(
    {
        "converter-input",
        "converter-output",
        "converter-overload",
        "device-max-volts",
        "device-min-volts",
        "discharge-rate",
        "fuse-open",
        "joint-mismatch",
        "no-steady-voltage",
        "on-hold",
        "parallel-chemistry",
        "pd-level",
        "polarity",
    }
)
#: The same cause found by another rule at the same place: only the first that fires of
#: those named speaks, with the words of both.
SAID_BY = {
    "charge-behind-switch": ("switch-open",),
    "charge-setting-unknown": ("unbalanced-charge",),
    "charge-volts-device": ("device-max-volts",),
    "charge-volts-high": ("charge-chemistry",),
    "charge-volts-low": ("charge-chemistry",),
    "float-above-limit": ("charge-chemistry", "charge-volts-high", "charge-volts-low"),
    "fuse-sustained": ("fuse-below-key-down",),
    "parallel-share": ("parallel-chemistry",),
    "power-falls": ("device-min-volts",),
    "voltage-drop": ("wire-ampacity", "fuse-above-wire"),
    "wire-ampacity": ("fuse-above-wire",),
}
