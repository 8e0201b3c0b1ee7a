"""What all ways of running share. Values that differ come from ./kettle."""

import json
import os
from datetime import timedelta
from pathlib import Path

from csp.constants import NONE, SELF
from django.core.exceptions import ImproperlyConfigured

from hollow_kettle import logs
from hollow_kettle.database.home import ROOT


def asked_number(name: str, *, usual: int, most: int) -> int:
    """Return a whole number out of the environment, from 1 on."""
    said = os.environ.get(name, "") or str(usual)
    if not said.isdecimal() or not 1 <= int(said) <= most:
        raise ImproperlyConfigured(
            f"{name} is a whole number from 1 to {most}, not “{said}”."
        )
    return int(said)


SECRET_KEY = os.environ.get("KETTLE_SECRET_KEY", "")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
IS_DEMO = os.environ.get("KETTLE_DEMO") == "1"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.messages",
    "django.contrib.postgres",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "django.forms",
    "axes",
    "csp",
    "django_htmx",
    "pgtrigger",
    "procrastinate.contrib.django",
    "hollow_kettle.ui",
    "hollow_kettle.people",
    "hollow_kettle.exchange",
    "hollow_kettle.log",
    "hollow_kettle.shelf",
    "hollow_kettle.plan",
    "hollow_kettle.instruments",
    "hollow_kettle.field",
    "hollow_kettle.debrief",
    "hollow_kettle.upkeep",
    "hollow_kettle.api",
    "hollow_kettle.guide",
    "hollow_kettle.demo",
]

MIDDLEWARE = [
    "hollow_kettle.upkeep.middleware.UpkeepMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.gzip.GZipMiddleware",
    "hollow_kettle.people.middleware.NoStoreMiddleware",
    "hollow_kettle.upkeep.middleware.RoomMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "hollow_kettle.people.middleware.ActorMiddleware",
    "hollow_kettle.ui.middleware.PlainWordsMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "hollow_kettle.people.middleware.FirstPasswordMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "csp.middleware.CSPMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "axes.middleware.AxesMiddleware",
]

ROOT_URLCONF = "hollow_kettle.urls"
WSGI_APPLICATION = "hollow_kettle.wsgi.application"

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.messages.context_processors.messages",
                "hollow_kettle.ui.context.frame",
                "hollow_kettle.people.context.who",
                "hollow_kettle.upkeep.context.warning",
                "hollow_kettle.guide.context.guide",
            ],
            "builtins": ["hollow_kettle.ui.templatetags.kettle"],
        },
    }
]
FORM_RENDERER = "hollow_kettle.ui.forms.KettleFormRenderer"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": os.environ.get("KETTLE_DB_NAME", "kettle_club"),
        "USER": os.environ.get("KETTLE_DB_USER", "kettle_app"),
        "PASSWORD": os.environ.get("KETTLE_DB_PASSWORD", ""),
        "HOST": os.environ.get("KETTLE_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("KETTLE_DB_PORT", "5432"),
        "OPTIONS": json.loads(os.environ.get("KETTLE_DB_OPTIONS", "{}")),
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        # A pooler in transaction mode gives each transaction another connection.
        "DISABLE_SERVER_SIDE_CURSORS": os.environ.get("KETTLE_DB_POOLED") == "1",
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

AUTH_USER_MODEL = "people.User"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    *(
        {"NAME": f"django.contrib.auth.password_validation.{name}", "OPTIONS": options}
        for name, options in [
            ("MinimumLengthValidator", {"min_length": 10}),
            ("UserAttributeSimilarityValidator", {}),
        ]
    ),
    {"NAME": "hollow_kettle.people.passwords.GuessableValidator"},
]
PASSWORD_RESET_TIMEOUT = 24 * 3600
LOGIN_URL = "people:sign_in"
LOGIN_REDIRECT_URL = "home"
LOGOUT_REDIRECT_URL = "people:sign_in"

# One tent shares one address, so name and address count together.
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_FAILURE_LIMIT = 6
AXES_COOLOFF_TIME = timedelta(minutes=10)
AXES_RESET_ON_SUCCESS = True
AXES_LOCKOUT_CALLABLE = "hollow_kettle.people.views.locked_out"
AXES_DISABLE_ACCESS_LOG = True
AXES_USERNAME_CALLABLE = "hollow_kettle.people.doors.counted_name"
AXES_CLIENT_IP_CALLABLE = "hollow_kettle.people.doors.client_address"
# Whose word on a caller's address is taken; serve names the https proxy.
TRUSTED_PROXIES: list[str] = []

SESSION_COOKIE_AGE = 14 * 24 * 3600
SESSION_COOKIE_HTTPONLY = True
CSRF_FAILURE_VIEW = "hollow_kettle.ui.views.csrf_failure"
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "base-uri": [NONE],
        "connect-src": [SELF],
        "font-src": [SELF],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
        "img-src": [SELF, "data:"],
        "manifest-src": [SELF],
        "script-src": [SELF],
        "style-src": [SELF],
        "worker-src": [SELF],
    }
}

LANGUAGE_CODE = "en-gb"
USE_I18N = False
USE_TZ = True
TIME_ZONE = "UTC"

STATIC_URL = "static/"
STATIC_ROOT = Path(os.environ.get("KETTLE_STATIC", ROOT / "tmp" / "static"))
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {
        "BACKEND": "whitenoise.storage.CompressedManifestStaticFilesStorage"
    },
}
# The imports read whole files into memory; nothing larger is ever accepted.
DATA_UPLOAD_MAX_MEMORY_SIZE = 6 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 6 * 1024 * 1024

LOGGING = logs.config()

#: Where our own database lies, whose disk must not fill; empty: it is elsewhere.
KETTLE_FOLDER = os.environ.get("KETTLE_FOLDER", "")
#: With less room than this nothing is saved.
KETTLE_LEAST_BYTES = asked_number("KETTLE_LEAST_MB", usual=200, most=100_000) * 10**6
#: Where the worker puts its backups, for whose key, and for how many days.
KETTLE_BACKUPS = os.environ.get("KETTLE_BACKUPS", "")
KETTLE_BACKUP_FOR = os.environ.get("KETTLE_BACKUP_FOR", "")
KETTLE_BACKUP_DAYS = asked_number("KETTLE_BACKUP_DAYS", usual=14, most=3660)
#: What a collector of figures must say; empty: there are none to collect.
KETTLE_METRICS_TOKEN = os.environ.get("KETTLE_METRICS_TOKEN", "")
#: Whether pages tell a coordinator when something is wrong with the application.
KETTLE_WARNS = True
