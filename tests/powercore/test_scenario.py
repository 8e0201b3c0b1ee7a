"""A scenario refuses what contradicts itself, and its command line speaks plainly."""

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest

from powercore.errors import OutOfRange, UnknownKey
from powercore.scenario import UnreadableScenario, decode, encode
from tests.builders import make_battery, make_scenario, make_station

ROOT = Path(__file__).resolve().parents[2]


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"stations": (make_station(), make_station())}, "Two of one station: esker"),
        ({"batteries": (make_battery(), make_battery())}, "Two of one battery: k01"),
        ({"sources": ()}, "Bay 1 is fed from an unknown source"),
    ],
)
def test_keys_must_be_distinct_and_known(values, words):
    """What two things share, or what nothing defines, is named."""
    with pytest.raises(UnknownKey, match=words):
        make_scenario(**values)


def test_ranges_are_checked_where_values_are_made():
    """No walk of nothing, no charge above full, no event of a month."""
    with pytest.raises(OutOfRange, match="Walk to Esker must be between 1 and 600"):
        make_station(walk_min=0)
    with pytest.raises(OutOfRange, match="Charge of K01 must be between 0 and 1"):
        make_battery(start_soc=1.2)
    with pytest.raises(OutOfRange, match="Length of the event"):
        replace(make_scenario(), span_min=30 * 1440)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (b'"walk_min":5', b'"walk_min":"five"', r"\$\.stations\[0\]\.walk_min"),
        (b'"series":4', b'"series":0', "Cells in series must be between 1 and 120"),
        (b'"schema_version":1', b'"schema_version":9', "this reads 1"),
        (b"{", b"", "not a scenario"),
    ],
)
def test_an_unreadable_file_says_where_and_why(old, new, words):
    """The path, the range, the version."""
    content = encode(make_scenario()).replace(old, new, 1)

    with pytest.raises(UnreadableScenario, match=words):
        decode(content)


def test_the_command_line_prints_the_ledger_and_refuses_nonsense(tmp_path):
    """budget prints JSON; an unknown command prints what there is."""
    file = tmp_path / "event.json"
    file.write_bytes(encode(make_scenario()))

    def run(*arguments):
        return subprocess.run(
            [sys.executable, "-m", "powercore", *arguments],
            capture_output=True,
            text=True,
            check=False,
            cwd=ROOT / "src",
        )

    ledger = json.loads(run("budget", str(file)).stdout)
    assert ledger["stations"][0]["need_wh"] == pytest.approx(24 * 12.8)
    assert run("dance", str(file)).returncode == 2
    file.write_text("{}")
    assert "powercore: This is not a scenario" in run("budget", str(file)).stderr
