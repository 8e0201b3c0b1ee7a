"""What addresses and buttons ask for, read without trust."""

#: Said where the database refuses what two did at once.
SAVED_MEANWHILE = (
    "The same was saved a moment ago, by somebody else or a second press of the button."
)


def whole_number(text: str | None) -> int | None:
    """A whole number of at most nine digits; None for anything else."""
    return int(text) if text and len(text) < 10 and text.isdecimal() else None
