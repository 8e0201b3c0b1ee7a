"""
Write down every page of the demo for each of its people, or compare with that.

For changes that should change no page. It walks all links from the start page,
with the clock, the random keys and the demo's seed standing still:

    PYTHONPATH=src .venv/bin/python scripts/pages.py before.json
    ... change something ...
    PYTHONPATH=src .venv/bin/python scripts/pages.py after.json --against before.json
"""

import argparse
import difflib
import json
import os
import re
import sys
import uuid
from datetime import datetime
from pathlib import Path
from random import Random

import weasyprint

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from scripts.templates import Node, Reader
from scripts.throwaway import throwaway_database

NOW = "2026-07-01T09:00:00+00:00"
#: At most so many pages whose addresses differ by keys and numbers only.
EACH = 12

#: What differs from one run to the next though nobody changed anything.
PASSING = (
    (re.compile(r'(name="csrfmiddlewaretoken" value=)"[^"]*"'), r'\1""'),
    (re.compile(r'("X-CSRFToken": ?)"[^"]*"'), r'\1""'),
    (re.compile(r'(nonce=)"[^"]*"'), r'\1""'),
)


def hold_still() -> None:
    """Let keys and the clock be the same on every run."""
    random = Random(1)
    uuid.uuid4 = lambda: uuid.UUID(int=random.getrandbits(128), version=4)  # type: ignore[assignment]
    from hollow_kettle import clock

    class Still(datetime):
        @classmethod
        def now(cls, tz=None):
            return datetime.fromisoformat(NOW).astimezone(tz)

    clock.datetime = Still
    # Paper is drawn from the same pages and takes most of the time.
    weasyprint.HTML.write_pdf = lambda self, *args, **options: b"%PDF-"


def plain(html: str) -> str:
    """Return a page with a line for each block, and white space only where it shows."""
    for pattern, instead in PASSING:
        html = pattern.sub(instead, html)
    html = re.sub(r"<!--.*?-->|<!DOCTYPE[^>]*>", "", html, flags=re.S)
    shown = _plain(Reader(html).tree())
    return re.sub(r"\s*\n\s*", "\n", shown).strip()


def _plain(nodes: list[Node]) -> str:
    """White space as one blank; at the edges of blocks a new line instead."""
    shown = ""
    for node in nodes:
        start = re.sub(r" ?(/?>)$", r"\1", re.sub(r"\s+", " ", node.text))
        inside = _plain(node.children) if node.kind == "el" else node.end
        inside = inside.strip(" ") if node.is_box else inside
        own = f"{start}{inside}{node.end if node.kind == 'el' else ''}"
        shown += f"\n{own}\n" if node.is_block else own
    return re.sub(r" +", " ", shown)


def pages_of_demo() -> dict[str, str]:
    """Return each person's pages: "name address" to the page's text."""
    from django.test import Client
    from tests.walker import walk

    from hollow_kettle.demo import club
    from hollow_kettle.people.models import Actor

    club.load()
    club.set_clock()
    found: dict[str, str] = {}
    for name in (*club.PEOPLE, ""):
        client = Client()
        if name:
            client.force_login(Actor.objects.get(user__username=name).user)
        kept = client.get

        def keep(address, *args, _get=kept, _name=name, **options):
            answer = _get(address, *args, **options)
            if answer.get("Content-Type", "").startswith("text/html"):
                found[f"{_name or 'nobody'} {address}"] = plain(answer.content.decode())
            return answer

        client.get = keep
        walk(client, each=EACH)
    return found


def main() -> int:
    """Write the pages, and print what differs."""
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("file", type=Path)
    ask.add_argument("--against", type=Path)
    asked = ask.parse_args()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hollow_kettle.settings.test")
    hold_still()
    with throwaway_database("pages"):
        pages = pages_of_demo()
    asked.file.write_text(json.dumps(pages, indent=0, sort_keys=True))
    if asked.against is None:
        print(f"{len(pages)} pages")
        return 0
    return compare(json.loads(asked.against.read_text()), pages)


def compare(before: dict[str, str], after: dict[str, str]) -> int:
    """Print what differs; return an exit code."""
    differ = 0
    for key in sorted({*before, *after}):
        one, other = before.get(key), after.get(key)
        if one != other:
            differ += 1
            lines = difflib.unified_diff(
                (one or "").split("\n"), (other or "").split("\n"), n=1, lineterm=""
            )
            print(f"== {key}", *list(lines)[2:42], sep="\n")
    print(f"{len(before)} pages before, {len(after)} after, {differ} differ")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())
