"""For ./kettle serve: a club's server behind https. Refuses unsafe settings."""

import os

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

CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS]
SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
SECURE_SSL_REDIRECT = True
SECURE_HSTS_SECONDS = 365 * 24 * 3600
SECURE_HSTS_INCLUDE_SUBDOMAINS = True
SECURE_HSTS_PRELOAD = True
SESSION_COOKIE_SECURE = True
CSRF_COOKIE_SECURE = True
