"""What the frame of every page needs."""

from typing import Any

from django.conf import settings
from django.http import HttpRequest

LIGHTS = ("day", "sun", "night")
ROOMS = ("shelf", "plan", "field", "debrief")


def frame(request: HttpRequest) -> dict[str, Any]:
    """Return the light that this device chose, the room it is in, and the banner."""
    light = request.COOKIES.get("light", "day")
    match = request.resolver_match
    return {
        "density": "close" if request.COOKIES.get("density") == "close" else "roomy",
        "light": light if light in LIGHTS else "day",
        "lights": LIGHTS,
        "room": match.app_names[0] if match and match.app_names else "",
        "is_demo": settings.IS_DEMO,
    }
