"""For ./kettle test: quick password hashing, plain static files."""

from .base import *  # noqa: F403 - settings files extend one another
from .base import DATABASES, STORAGES

SECRET_KEY = "only-for-tests-" + "0123456789abcdef" * 4
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
DATABASES["default"]["TEST"] = {"NAME": "kettle_test"}
DATABASES["default"]["CONN_MAX_AGE"] = 0
STORAGES["staticfiles"] = {
    "BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"
}
WHITENOISE_AUTOREFRESH = True
WHITENOISE_USE_FINDERS = True
KETTLE_WARNS = False
KETTLE_LEAST_BYTES = 0
# The tests' own server would hand out files of the working folder under "/".
MEDIA_URL = "/no-media/"
