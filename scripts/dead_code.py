"""
Name what nothing in the application uses.

    .venv/bin/python scripts/dead_code.py

Vulture looks through the code without its tests: what only a test calls is dead. What
templates name, and what settings name by a dotted path, counts as used.
"""

from __future__ import annotations

import ast
import re
import sys
from pathlib import Path

from vulture import Vulture
from vulture.config import make_config

ROOT = Path(__file__).parents[1]
TAG = re.compile(r"{{.*?}}|{%.*?%}", re.DOTALL)
WORD = re.compile(r"[A-Za-z_]\w*")


def used_by_templates() -> set[str]:
    """Names in tags of templates."""
    found = set()
    for path in ROOT.glob("src/**/templates/**/*"):
        if path.is_file():
            for tag in TAG.findall(path.read_text()):
                found.update(WORD.findall(tag))
    return found


def used_by_name() -> set[str]:
    """What code names in strings: the last part of a path, columns, keywords."""
    found = set()
    for path in (*ROOT.glob("src/**/*.py"), *ROOT.glob("bench/*.py")):
        if "migrations" in path.parts:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                last = re.split(r"[.]|__", node.value)[-1]
                found.update([last, node.value.lstrip("-")])
            elif isinstance(node, ast.keyword) and node.arg:
                found.add(node.arg)
    return found


#: Kept on purpose, with the reason; at most twenty.
EXCEPTIONS = {
    "methods",  # what each way of measuring says by itself, before they are joined
    "shed_min",  # of a future
    "between_a",  # current from battery to battery in a set, with nothing drawn
    "is_cure",  # a trial's row that stands for a cure
    "lost_wh",  # closes the balance of energy of the plant
    "unadjusted_ah",  # of the worked example that sizing is checked against
    "created_at",  # when a row was made, for whoever looks into the database
    "received_at",  # when the server had an entry, beside the phone's own time
    "skew_s",  # how far a phone's clock is off, as far as it was said
    "COUNTER",  # a choice that rows are saved with
    "peukert_hours",  # ties what bench tests undo to the published law
}


def main() -> int:
    """Print what is dead; return 1 if something is."""
    with (ROOT / "pyproject.toml").open("rb") as file:
        config = make_config(argv=[], tomlfile=file)
    dead = Vulture(
        ignore_names=config["ignore_names"],
        ignore_decorators=config["ignore_decorators"],
    )
    dead.scavenge([str(ROOT / path) for path in config["paths"]], config["exclude"])
    used = used_by_templates() | used_by_name()
    rest = [
        item
        for item in dead.get_unused_code()
        if item.name not in used | EXCEPTIONS
        and not {"bench", "settings"} & set(item.filename.parts)
    ]
    for item in rest:
        where = item.filename.relative_to(ROOT)
        print(f"{where}:{item.first_lineno}: {item.typ} {item.name} is used nowhere")
    return 1 if rest else 0


if __name__ == "__main__":
    sys.exit(main())
