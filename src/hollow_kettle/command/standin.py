"""Simulated meters that send to a running application, for trying it without any."""

from __future__ import annotations

import json
import select
import sys
import urllib.error
import urllib.request
from datetime import datetime, timedelta

from hollow_kettle.clock import moment_of, real_now
from hollow_kettle.database.home import KettleError
from powercore.errors import PowercoreError
from powercore.gear.plant import Account, PlantBattery
from powercore.gear.standin import FAULTS, KINDS, StandIn
from powercore.physics.battery import Pack

USAGE = (
    "./kettle stand-in URL TOKEN [shunt|controller|generator] [--watts=25] [--ah=20] "
    "[--soc=0.9] [--zero=0] [--noise=0.02] [--loses=0] [--every=10] [--speed=1] "
    "[--from=2026-06-27T20:00Z] [--steps=0]"
)
_OPTIONS = {
    "watts": 25.0, "ah": 20.0, "soc": 0.9, "zero": 0.0, "noise": 0.02, "loses": 0.0,
    "every": 10.0, "speed": 1.0, "steps": 0.0,
}  # fmt: skip


def run(arguments: list[str]) -> None:
    """Send what a simulated meter shows, until Ctrl-C; faults are typed meanwhile."""
    words = [word for word in arguments if not word.startswith("--")]
    if not 2 <= len(words) <= 3:
        raise KettleError(f"A stand-in needs where to send and its token:\n  {USAGE}")
    url, token, kind = (*words, KINDS[0])[:3]
    options, start = _read(arguments)
    meter = _meter(kind, options)
    step_s, speed = options["every"], max(options["speed"], 1e-6)
    listens = True
    moment, seq, sent = start, int(real_now().timestamp() * 1000), 0
    print(f"Sends every {step_s / speed:g} s. Type one of: {', '.join(FAULTS)}.")
    try:
        while not options["steps"] or sent < options["steps"]:
            heard = select.select(
                [sys.stdin] if listens else [], [], [], step_s / speed
            )
            if heard[0]:
                said = sys.stdin.readline()
                listens = bool(said)
                if said.strip():
                    _command(meter, said.strip())
                continue
            shown = meter.step(step_s / 3600)
            sent, seq = sent + 1, seq + 1
            if moment is not None:
                moment += timedelta(seconds=step_s)
            if shown is not None:
                at = {} if moment is None else {"at": moment.isoformat()}
                print(_send(url, token, {"samples": [{"seq": seq, **at, **shown}]}))
    except KeyboardInterrupt:
        print("\nkettle: the stand-in stops.")


def _read(arguments: list[str]) -> tuple[dict[str, float], datetime | None]:
    options, start = dict(_OPTIONS), None
    for word in (word for word in arguments if word.startswith("--")):
        name, _, said = word[2:].partition("=")
        try:
            if name == "from":
                start = moment_of(said)
                if start is None:
                    raise ValueError(said)
            else:
                options[name] = type(_OPTIONS[name])(said)
        except (KeyError, ValueError):
            raise KettleError(f"Not understood: {word}.\n  {USAGE}") from None
    if options["speed"] != 1 and start is None:
        start = real_now()
    return options, start


def _meter(kind: str, options: dict[str, float]) -> StandIn:
    try:
        pack = Pack(chemistry="lifepo4", series=4, nameplate_ah=options["ah"])
        battery = PlantBattery(
            pack=pack, true_ah=options["ah"], soc=options["soc"], account=Account()
        )
        return StandIn(
            kind=kind, battery=battery, power_w=options["watts"],
            noise_a=options["noise"], zero_a=options["zero"], loses=options["loses"],
        )  # fmt: skip
    except PowercoreError as error:
        raise KettleError(str(error)) from error


def _command(meter: StandIn, said: str) -> None:
    try:
        meter.set_fault(said)
    except PowercoreError as error:
        print(error)


def _send(url: str, token: str, body: dict[str, object]) -> str:
    request = urllib.request.Request(  # noqa: S310 - the user's own server
        url,
        json.dumps(body).encode(),
        {"Authorization": f"Bearer {token}", "Content-Type": "application/json"},
    )
    try:
        with urllib.request.urlopen(request, timeout=10) as answer:  # noqa: S310
            return str(answer.read().decode())
    except urllib.error.HTTPError as error:
        return f"{error.code}: {error.read().decode()}"
    except OSError as error:
        return f"not sent: {error}"
