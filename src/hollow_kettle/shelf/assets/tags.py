"""When two tags are one tag to whoever reads or hears them."""

import re


def plain_tag(tag: str) -> str:
    """A tag without case and without leading zeros in its numbers."""
    return re.sub(r"\d+", lambda digits: str(int(digits.group())), tag.casefold())
