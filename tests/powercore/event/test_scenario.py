"""A scenario refuses what contradicts itself, and its command line speaks plainly."""

import json
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import jsonschema
import psutil
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.__main__ import spare_laptop
from powercore.errors import OutOfRange, UnknownKey
from powercore.event.plans import SkyHour
from powercore.event.scenario import UnreadableScenario, decode, encode, without_sky
from powercore.sun.arrays import Array, Site
from tests.builders import make_battery, make_scenario, make_station

ROOT = Path(__file__).resolve().parents[3]
EXAMPLES = ROOT / "src" / "hollow_kettle" / "examples"


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
        (
            b'"schema_version":13',
            b'"schema_version":14',
            "this reads 1 and 2 and 3 and 4 and 5 and 6",
        ),
        (b'"2026-06-27T18:00:00+00:00"', b'"noon"', "'noon' must be a moment in UTC"),
        (b'"zone":"UTC"', b'"zone":"Mars/Olympus"', "no time zone 'Mars/Olympus'"),
        (b"{", b"", "not a scenario"),
    ],
)
def test_an_unreadable_file_says_where_and_why(old, new, words):
    """The path, the range, the version."""
    content = encode(make_scenario()).replace(old, new, 1)

    with pytest.raises(UnreadableScenario, match=words):
        decode(content)


def run_core(*arguments):
    """Run the core's command line as a person would."""
    return subprocess.run(
        [sys.executable, "-m", "powercore", *arguments],
        capture_output=True,
        text=True,
        check=False,
        cwd=ROOT / "src",
    )


def test_the_command_line_prints_the_ledger_and_refuses_nonsense(tmp_path):
    """budget prints JSON; an unknown command prints what there is."""
    file = tmp_path / "event.json"
    file.write_bytes(encode(make_scenario()))

    ledger = json.loads(run_core("budget", str(file), "--json").stdout)
    assert ledger["none"]["stations"][0]["need_wh"] == pytest.approx(24 * 12.8)
    assert "Esker" in run_core("budget", str(file)).stdout
    assert run_core("dance", str(file)).returncode == 2
    assert "no site under the sky" in run_core("solar", str(file)).stderr
    file.write_text("{}")
    assert "powercore: This is not a scenario" in run_core("budget", str(file)).stderr


@pytest.mark.parametrize("name", sorted(p.name for p in EXAMPLES.glob("*.json")))
def test_examples_say_what_the_published_schema_asks(name):
    """Each example fits docs/formats, has sun and passes the check."""
    schema = json.loads((ROOT / "docs/formats/scenario-13.schema.json").read_text())
    jsonschema.validate(json.loads((EXAMPLES / name).read_text()), schema)
    solar = json.loads(run_core("solar", str(EXAMPLES / name), "--json").stdout)

    assert schema == json.loads(run_core("schema").stdout)
    assert all(day["wh"] >= 0 for row in solar for day in row["days"])
    assert run_core("check", str(EXAMPLES / name)).returncode == 0


@pytest.mark.parametrize(("plugged", "rests"), [(False, [3.0]), (True, []), (None, [])])
def test_a_search_rests_while_the_laptop_runs_on_its_battery(
    monkeypatch, plugged, rests
):
    """As long as it worked; unknown counts as plugged in."""
    slept = []
    battery = SimpleNamespace(power_plugged=plugged)
    monkeypatch.setattr(psutil, "sensors_battery", lambda: battery)
    monkeypatch.setattr(time, "sleep", slept.append)

    spare_laptop(3.0)

    assert slept == rests


def test_a_file_of_the_first_version_is_still_read():
    """What it lacks has a default."""
    old = json.loads(encode(make_scenario()))
    for name in ("site", "sky", "purpose", "spots", "is_own_power", "other_sky"):
        del old[name]
    old["schema_version"] = 1

    assert decode(json.dumps(old).encode()).stations == make_scenario().stations


@given(
    oktas=st.lists(st.floats(0, 8), max_size=5),
    latitude=st.floats(-90, 90),
    tilt=st.floats(0, 90),
    is_own=st.booleans(),
)
def test_json_gives_back_what_went_in(oktas, latitude, tilt, is_own):
    """Encode and decode: equal values, equal bytes; the sky is no part of a plan."""
    array = Array(vmp_v=18.0, imp_a=5.0, voc_v=22.0, isc_a=6.0, tilt=tilt)
    scenario = make_scenario(
        stations=(make_station(arrays=(array,)),),
        site=Site(latitude=latitude, longitude=0.0),
        sky=tuple(
            SkyHour(start_min=60 * number, oktas=value)
            for number, value in enumerate(oktas)
        ),
        is_own_power=is_own,
    )

    assert decode(encode(scenario)) == scenario
    written = encode(decode(encode(scenario)))
    assert encode(decode(written)) == written
    assert without_sky(scenario) == without_sky(replace(scenario, sky=()))
