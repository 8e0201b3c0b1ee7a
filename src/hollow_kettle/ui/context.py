"""What the frame of every page needs."""

import json
from typing import Any

from django.conf import settings
from django.http import HttpRequest

from hollow_kettle.database.home import COMMAND

LIGHTS = ("day", "sun", "night")
#: How htmx behaves: nothing kept or evaluated, answers of 422 shown like others.
HTMX = {
    "historyCacheSize": 0,
    "includeIndicatorStyles": False,
    "allowEval": False,
    "responseHandling": [
        {"code": "204", "swap": False},
        {"code": "[23]..", "swap": True},
        {"code": "422", "swap": True},
        {"code": "[45]..", "swap": False, "error": True},
    ],
}


def frame(request: HttpRequest) -> dict[str, Any]:
    """Return a device's light, the room it is in, the banner and the command."""
    light = request.COOKIES.get("light", "day")
    match = request.resolver_match
    return {
        "density": "close" if request.COOKIES.get("density") == "close" else "roomy",
        "light": light if light in LIGHTS else "day",
        "lights": LIGHTS,
        "room": match.app_names[0] if match and match.app_names else "",
        "is_demo": settings.IS_DEMO,
        "command": COMMAND,
        "htmx": json.dumps(HTMX, separators=(",", ":")),
    }
