"""Which passwords are too easily guessed (after NIST SP 800-63B, 5.1.1.2)."""

import re

from django.core.exceptions import ValidationError
from zxcvbn import zxcvbn

from .models import Club, User

#: Scores run from 0 to 4; below 3 a patient guesser gets in.
SCORE_NEEDED = 3
#: The estimator reads this much; what comes after only helps.
READ_AT_MOST = 72
CONTEXT = ("hollow", "kettle", "hollowkettle", "radio", "club", "field", "fieldday")


class GuessableValidator:
    """
    Refuses common, repeated and sequential passwords, and words of the context.

    No mixture of letters and digits is asked for: length and rarity count.
    """

    def validate(self, password: str, user: User | None = None) -> None:
        """Raise ValidationError for a password that is easy to guess."""
        club = Club.the().name
        words = [*CONTEXT, club, club.replace(" ", ""), *re.findall(r"\w+", club)]
        if user is not None:
            words += re.findall(r"\w+", user.username)
        if zxcvbn(password[:READ_AT_MOST], user_inputs=words)["score"] < SCORE_NEEDED:
            raise ValidationError(
                "This password is easy to guess. Use three or four unrelated words, "
                "and no repeats, rows of keys, or names of "
                "the club.",
                code="password_guessable",
            )

    def get_help_text(self) -> str:
        """What a form says beforehand."""
        return "Three or four unrelated words work well."
