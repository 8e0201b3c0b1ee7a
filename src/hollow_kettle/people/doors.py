"""Whose tries to sign in count together, so that nobody can lock out another."""

from __future__ import annotations

import ipaddress
from typing import Any
from uuid import uuid4

from django.conf import settings
from django.core import signing
from django.http import HttpRequest, HttpResponse

from .names import plain_name

COOKIE = "kettle_known"
SALT = "hollow_kettle.people.known"
KNOWN_FOR_S = 365 * 24 * 3600
#: A shared laptop remembers so many names.
NAMES_AT_MOST = 8


def client_address(request: HttpRequest) -> str | None:
    """
    Return the address that tries to sign in, as `KETTLE_PROXIES` lets us know it.

    Each proxy adds the address that it was asked by to `X-Forwarded-For`. The last
    one that no trusted proxy has counts; what stands before it anybody can make up.
    An IPv6 address stands for its network of 64 bits, which one household has.
    """
    address = _address(request.META.get("REMOTE_ADDR", ""))
    hops = request.META.get("HTTP_X_FORWARDED_FOR", "").split(",")
    while address is not None and _is_trusted(address) and hops:
        before = _address(hops.pop())
        if before is None:
            break
        address = before
    if address is None:
        return None
    if address.version == 6:
        return str(ipaddress.ip_network((address, 64), strict=False).network_address)
    return str(address)


def counted_name(request: HttpRequest, credentials: dict[str, Any] | None) -> str:
    """
    Return the name under which a failed try is counted.

    A browser that signed in with the name before has a count of its own: whoever
    guesses elsewhere does not lock it out, and it cannot guess more than others.
    """
    said = (credentials or request.POST).get("username") or ""
    name = plain_name(str(said))
    known = known_names(request).get(name)
    return name if known is None else f"{name} {known}"


def known_names(request: HttpRequest) -> dict[str, str]:
    """Return the names this browser signed in with, each with a key of its own."""
    try:
        found = signing.loads(
            request.COOKIES.get(COOKIE, ""), salt=SALT, max_age=KNOWN_FOR_S
        )
    except signing.BadSignature:
        return {}
    return found if isinstance(found, dict) else {}


def remember(request: HttpRequest, response: HttpResponse, username: str) -> None:
    """Let a browser be known by the name it has just signed in with."""
    names, name = known_names(request), plain_name(username)
    key = names.pop(name, None) or uuid4().hex
    latest = dict([*names.items(), (name, key)][-NAMES_AT_MOST:])
    response.set_cookie(
        COOKIE,
        signing.dumps(latest, salt=SALT),
        max_age=KNOWN_FOR_S,
        secure=settings.SESSION_COOKIE_SECURE,
        httponly=True,
        samesite="Lax",
    )


def _address(text: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address | None:
    try:
        address = ipaddress.ip_address(text.strip())
    except ValueError:
        return None
    mapped = getattr(address, "ipv4_mapped", None)
    return mapped or address


def _is_trusted(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    networks = map(ipaddress.ip_network, settings.TRUSTED_PROXIES)
    return any(address in network for network in networks)
