"""When two sign-in names are one name to whoever reads them."""

import unicodedata
from functools import cache

from confusable_homoglyphs import confusables

#: Letters and digits that are told apart neither on a label nor by hand.
SAME = str.maketrans({"0": "o", "1": "l", "i": "l", "|": "l"})


def plain_name(name: str) -> str:
    """
    A name without case and with look-alike letters as one.

    Compatibility forms and case are folded (Unicode NFKC), then each letter that
    Unicode lists as confusable with a Latin one becomes that one, so that a
    Cyrillic а is an a (Unicode Technical Standard #39). At most 250 characters.
    """
    folded = unicodedata.normalize("NFKC", name).casefold().replace("\0", "")
    return "".join(_latin(letter) for letter in folded).translate(SAME)[:250]


@cache
def _latin(letter: str) -> str:
    if letter.isascii():
        return letter
    twins = (twin["c"] for twin in confusables.confusables_data.get(letter, ()))
    plain = (twin for twin in twins if twin.isascii() and len(twin) == 1)
    return next(plain, letter).casefold()
