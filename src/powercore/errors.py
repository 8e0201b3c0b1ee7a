"""One small family of errors; each names the condition and what to do."""

from __future__ import annotations


class PowercoreError(Exception):
    """Something asked of the core can't be computed as asked."""


class OutOfRange(PowercoreError):
    """A quantity lies outside the range in which it makes sense."""

    def __init__(
        self,
        field: str,
        value: object,
        *,
        low: float | None = None,
        high: float | None = None,
        unit: str = "",
        why: str = "",
    ) -> None:
        self.field = field
        unit = f" {unit}" if unit else ""
        if low is not None and high is not None:
            allowed = f"between {low:g} and {high:g}{unit}"
        elif low is not None:
            allowed = f"{low:g}{unit} or more"
        else:
            allowed = f"{high:g}{unit} or less"
        reason = f" ({why})" if why else ""
        super().__init__(f"{field} must be {allowed}, not {value}{unit}{reason}.")


class NotANumber(PowercoreError):
    """A text that should be a number is not one."""


class PowerBeyondPack(PowercoreError):
    """A load asks for more power than the pack can push through its resistance."""


class UnknownKey(PowercoreError):
    """A name is used that nothing in the problem defines."""


class ConflictingStart(PowercoreError):
    """Batteries begin where no two can be, or where one must not be."""
