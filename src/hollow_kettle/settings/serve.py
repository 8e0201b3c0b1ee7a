"""For ./kettle serve: a club's server behind https. Refuses unsafe settings."""

import os
from ipaddress import ip_network

from django.core.exceptions import ImproperlyConfigured

from .base import *  # noqa: F403 - settings files extend one another
from .base import IS_DEMO, SECRET_KEY

ALLOWED_HOSTS = [
    host for host in os.environ.get("KETTLE_HOSTS", "").split(",") if host.strip()
]
if not ALLOWED_HOSTS or "*" in ALLOWED_HOSTS:
    raise ImproperlyConfigured(
        "serve needs the host names people will type: "
        "KETTLE_HOSTS=kettle.example.org ./kettle serve"
    )
if IS_DEMO:
    raise ImproperlyConfigured("serve never opens the demo club; use ./kettle demo.")
if len(SECRET_KEY) < 50:
    raise ImproperlyConfigured("serve needs a secret key of 50 characters or more.")

TRUSTED_PROXIES = [
    network.strip()
    for network in os.environ.get("KETTLE_PROXIES", "127.0.0.1,::1").split(",")
    if network.strip()
]
try:
    for network in TRUSTED_PROXIES:
        ip_network(network)
except ValueError as error:
    raise ImproperlyConfigured(
        f"KETTLE_PROXIES takes addresses and networks of your https proxies: {error}"
    ) from error

CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS]
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
SECURE_SSL_REDIRECT = True
SECURE_HSTS_SECONDS = 365 * 24 * 3600
# Both bind other hosts of the club's domain, for long: only when asked.
asked = set(os.environ.get("KETTLE_HSTS", "").split(","))
SECURE_HSTS_INCLUDE_SUBDOMAINS = "subdomains" in asked
SECURE_HSTS_PRELOAD = "preload" in asked
SILENCED_SYSTEM_CHECKS = [
    check
    for check, words in [
        ("security.W005", "subdomains"),
        ("security.W021", "preload"),
    ]
    if words not in asked
]
SESSION_COOKIE_SECURE = True
CSRF_COOKIE_SECURE = True
