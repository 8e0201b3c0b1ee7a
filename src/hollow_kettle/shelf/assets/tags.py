"""When two tags are one tag to whoever reads or hears them."""

from powercore.values import without_zeros


def plain_tag(tag: str) -> str:
    """A tag without case and without leading zeros in its numbers."""
    return without_zeros(tag.casefold())
