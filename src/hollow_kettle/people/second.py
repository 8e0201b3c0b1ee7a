"""
A second factor: a code that changes each half minute, out of an app or a small device.

RFC 6238 with what its apps expect: SHA-1, six digits, 30 s. Who holds the database or
a backup holds the secrets too, as with anything that must be compared.
"""

from __future__ import annotations

import hmac
import secrets
from datetime import timedelta

import pyotp
from django.db import transaction

from hollow_kettle.clock import real_now

from .models import Actor, Deed, SecondFactor, User
from .passes import ALPHABET
from .tokens import digest_of

STEP_S, DIGITS = 30, 6
#: A clock may be so many steps off, either way.
DRIFT = 1
#: Wrong codes within the time, after which none is looked at until it has passed.
MOST_WRONG, WITHIN = 6, timedelta(minutes=10)
SPARES, SPARE_LENGTH = 8, 10
_SPARE = "people.second.spare"


class TooManyCodes(Exception):
    """So many wrong codes came that none is looked at for some minutes."""


def new_secret() -> str:
    """What the app and the club share, in the letters that apps read (base 32)."""
    return str(pyotp.random_base32())


def address_of(secret: str, user: User, club: str) -> str:
    """The address that an app reads out of a code on the screen."""
    made = pyotp.TOTP(secret, digits=DIGITS, interval=STEP_S)
    return str(made.provisioning_uri(name=user.username, issuer_name=club))


def step_of(secret: str, said: str, *, after: int = -1) -> int | None:
    """
    The time step whose code was said, near now and later than one that was used.

    Parameters
    ----------
    secret : str
        In base 32.
    said : str
        Six digits, with blanks where people put them.
    after : int
        The step used last: no code opens twice.
    """
    digits = "".join(said.split())
    made = pyotp.TOTP(secret, digits=DIGITS, interval=STEP_S)
    now = int(real_now().timestamp()) // STEP_S
    for step in range(max(now - DRIFT, 0), now + DRIFT + 1):
        code = made.at(step * STEP_S)
        if step > after and hmac.compare_digest(code.encode(), digits.encode()):
            return step
    return None


def factor_of(user: User) -> SecondFactor | None:
    """The second factor that a sign-in asks for; None: none."""
    return SecondFactor.objects.filter(user=user).first()


@transaction.atomic
def take_on(user: User, secret: str, said: str, *, by: Actor) -> list[str] | None:
    """
    Ask for codes from now on, once the app has shown that it knows the secret.

    Returns spare codes, which open once each and are not shown again; None: the code
    was wrong, and nothing changed.
    """
    step = step_of(secret, said)
    if step is None:
        return None
    spares = [
        "".join(secrets.choice(ALPHABET) for _ in range(SPARE_LENGTH))
        for _ in range(SPARES)
    ]
    SecondFactor.objects.update_or_create(
        user=user,
        defaults={
            "secret": secret,
            "last_step": step,
            "spares": [digest_of(_SPARE, one) for one in spares],
            "wrong": 0,
        },
    )
    Deed.objects.create(kind=Deed.Kind.SECOND_ON, by=by, about=by)
    return spares


def drop(user: User, *, by: Actor | None) -> bool:
    """Ask for no code any more; whether one was asked for."""
    count, _ = SecondFactor.objects.filter(user=user).delete()
    if count:
        about = Actor.objects.filter(user=user).first()
        Deed.objects.create(kind=Deed.Kind.SECOND_OFF, by=by, about=about)
    return bool(count)


def is_right(user: User, said: str) -> bool:
    """
    Whether a code opens: the app's, once, or one of the spare ones, once.

    Raises
    ------
    TooManyCodes
        If too many were wrong in the last minutes.
    """
    with transaction.atomic():
        row = SecondFactor.objects.select_for_update().filter(user=user).first()
        if row is None:
            return True
        now = real_now()
        if row.wrong_since is None or now - row.wrong_since > WITHIN:
            row.wrong, row.wrong_since = 0, None
        if row.wrong >= MOST_WRONG:
            raise TooManyCodes
        step = step_of(row.secret, said, after=row.last_step)
        spare = digest_of(_SPARE, "".join(said.split()).upper())
        is_open = step is not None or spare in row.spares
        if step is not None:
            row.last_step = step
        elif spare in row.spares:
            row.spares = [one for one in row.spares if one != spare]
        else:
            row.wrong += 1
            row.wrong_since = row.wrong_since or now
        row.save()
    return is_open
