"""
Take the pictures of docs/screenshots anew, from the demo's data.

    PYTHONPATH=src .venv/bin/python scripts/pictures.py            # all of them
    PYTHONPATH=src .venv/bin/python scripts/pictures.py kit yard   # some

Needs Chromium and what ./kettle test installs; no server need run.
"""

import io
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PIL.Image import Image

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from scripts.throwaway import throwaway_database

ROOT = Path(__file__).resolve().parents[1]
PICTURES = ROOT / "docs" / "screenshots"
WIDE, PHONE = {"width": 1280, "height": 800}, {"width": 390, "height": 844}


def views() -> dict[str, tuple[str, str, dict[str, int]]]:
    """Each picture's address, light and size."""
    from hollow_kettle.plan.models import Event
    from hollow_kettle.shelf.models import Asset

    under_way, over = (
        Event.objects.get(state=state)
        for state in (Event.State.RUNNING, Event.State.CLOSED)
    )
    kit, battery = (Asset.objects.get(tag=tag) for tag in ("Q01", "K09"))
    event = under_way.get_absolute_url()
    number = under_way.rotations.get(state="published").number
    station = under_way.stations.get(name="Drumlin").get_absolute_url()
    wide = {
        "battery": battery.get_absolute_url(),
        "debrief": f"/debrief/{over.pk}/",
        "energy-ledger": event,
        "field-board": f"/field/{under_way.pk}/",
        "kit": f"/shelf/kits/{kit.pk}/",
        "log": f"/field/{under_way.pk}/log/",
        "debrief-why": f"/debrief/{over.pk}/why/",
        "rotation-board": f"{event}rotation/{number}/",
        "shelf": "/shelf/",
        "station": station,
        "sun-sheet": f"{event}sun/",
        "yard": f"{event}yard/",
    }
    found = {name: (path, "day", WIDE) for name, path in wide.items()}
    found["field-board-night"] = wide["field-board"], "night", WIDE
    return found


def sheets() -> dict[str, tuple[tuple[str, str], ...]]:
    """Pictures of four views each, every one with its light."""
    from hollow_kettle.plan.models import Event
    from hollow_kettle.shelf.models import Asset

    over = Event.objects.get(state=Event.State.CLOSED)
    board = f"/field/{Event.objects.get(state=Event.State.RUNNING).pk}/"
    at, kit = f"/debrief/{over.pk}/", Asset.objects.get(tag="Q01")
    return {
        "phones": (
            (f"/shelf/kits/{kit.pk}/packing/", "day"),
            (f"{board}log/reading/", "day"),
            (board, "night"),
            ("/guide/when-things-break/", "sun"),
        ),
        "way-in": (
            ("/guide/", "day"),
            ("/guide/first-event/", "sun"),
            ("/guide/night/", "night"),
            ("/people/scripts/", "day"),
        ),
        "debrief-more": (
            (f"{at}actuals/", "day"),
            (f"{at}actions/", "day"),
            (f"{at}learned/", "night"),
            ("/debrief/backtest/", "day"),
        ),
        "how-it-is": (
            ("/kettle/", "day"),
            ("/kettle/", "night"),
            ("/kettle/changes/", "day"),
            ("/kettle/changes/", "sun"),
        ),
    }


def joined(parts: list[bytes]) -> "Image":
    """Four pictures as one, two by two."""
    from PIL import Image

    found = [Image.open(io.BytesIO(part)) for part in parts]
    width, height = found[0].size
    whole = Image.new("RGB", (2 * width, 2 * height))
    for number, one in enumerate(found):
        whole.paste(one, (number % 2 * width, number // 2 * height))
    return whole


def take(names: list[str]) -> None:
    """Take pictures of the demo behind a live server."""
    from django.test import Client
    from playwright.sync_api import sync_playwright
    from pytest_django.live_server_helper import LiveServer
    from tests.chromium import launch

    from hollow_kettle.demo import club
    from hollow_kettle.people.models import Actor

    club.load()
    club.set_clock()
    client = Client()
    client.force_login(Actor.objects.get(user__username="marin").user)
    session = client.cookies["sessionid"].value
    wanted, four = views(), sheets()
    server = LiveServer("127.0.0.1")
    with sync_playwright() as playwright:
        browser = launch(playwright.chromium)

        def shot(path: str, light: str, size: dict[str, int]) -> bytes:
            context = browser.new_context(viewport=size)
            cookies = {"sessionid": session, "light": light}
            context.add_cookies(
                [{"name": k, "value": v, "url": server.url} for k, v in cookies.items()]
            )
            page = context.new_page()
            page.goto(server.url + path, wait_until="networkidle")
            page.wait_for_timeout(600)
            picture = page.screenshot()
            context.close()
            return picture

        for name in names or (*wanted, *four):
            file = PICTURES / f"{name}.png"
            if name in four:
                size = PHONE if name == "phones" else WIDE
                joined([shot(*part, size) for part in four[name]]).save(file)
            else:
                file.write_bytes(shot(*wanted[name]))
        browser.close()
    server.stop()


def main(names: list[str]) -> None:
    """Make the demo in a database of its own, and take its pictures."""
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"
    with throwaway_database("pictures"):
        take(names)


if __name__ == "__main__":
    main(sys.argv[1:])
