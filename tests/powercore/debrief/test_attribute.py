"""Causes of what ran short: exact sums, and shares against the physical plant's."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.debrief.attribute import UNEXPLAINED, attribute, powerless
from powercore.event.plans import LOW, Pin
from powercore.event.problem import SERVE
from powercore.values import Window

from .planted import SPAN, Planted, legs_of, logged, make_problem, play

EVENTS = 200


def test_shares_meet_the_plants_own_in_four_of_five_events():
    """
    Two causes of random size, planted on the physical simulator of batteries.

    A cause's true share is the Shapley value of the plant's own four runs: half of
    what it adds to the other, and half of what it adds alone. 80 % intervals are to
    cover it in 72 to 88 % of the cases in which it has one.
    """
    problem, rng = make_problem(), np.random.default_rng(7)
    hits = []
    for _ in range(EVENTS):
        real, (one, two) = Planted.drawn(rng)
        none, a, b, both = (
            play(problem, real.with_only(some))[0]
            for some in ((), (one,), (two,), (one, two))
        )
        found = attribute(problem, legs_of(), logged(problem, real, rng, 200))
        for cause, alone, other in ((one, a, b), (two, b, a)):
            true = 1e6 * ((both - other) + (alone - none)) / 2
            (part,) = (p for p in found.total.parts if p.cause == cause)
            if true:
                hits.append(part.energy.low <= true <= part.energy.high)

    assert len(hits) > 1.6 * EVENTS
    assert 0.72 <= np.mean(hits) <= 0.88


@settings(max_examples=25, deadline=None)
@given(
    st.integers(0, 1 << 30),
    st.floats(0, 300),
    st.integers(0, 400),
    st.booleans(),
    st.integers(0, 200),
)
def test_a_ledger_adds_up_to_the_last_microwatt_hour(
    seed, missed_wh, fault_min, saves, out_min
):
    """Planned, shares, and what is not explained: exactly what was logged."""
    problem, rng = make_problem(), np.random.default_rng(seed)
    real, _ = Planted.drawn(rng)
    low = Pin(kind=LOW, place="esker", start_min=100, end_min=200)
    fault = [Window(start_min=fault_min, end_min=fault_min + 31)] if fault_min else []
    actual = replace(
        logged(problem, replace(real, out_min=out_min), rng, 6),
        missed_wh={"esker": missed_wh},
        off_min={"esker": missed_wh / 7},
        faults={"esker": fault},
        saving=(low,) if saves else (),
    )

    found = attribute(problem, legs_of(), actual)

    for ledger in (found.total, *found.stations):
        wh = sum(part.energy.exact for part in ledger.parts)
        ms = sum(part.time.exact for part in ledger.parts)
        assert ledger.planned[0] + wh == ledger.actual[0] == round(missed_wh * 1e6)
        assert ledger.planned[1] + ms == ledger.actual[1]
        assert all(
            p.energy.low <= p.energy.exact <= p.energy.high for p in ledger.parts
        )


def test_a_fault_that_was_noted_takes_what_it_cost_and_no_more():
    """A lead out for 30 min at 32 W is 16 Wh (by hand); nothing else changed."""
    problem, rng = make_problem(), np.random.default_rng(1)
    actual = logged(problem, Planted(), rng, 0)
    plain = replace(
        actual.believed,
        load=np.ones_like(actual.believed.load),
        capacity=np.ones_like(actual.believed.capacity),
        start_soc=np.ones_like(actual.believed.start_soc),
    )
    fault = {"esker": [Window(start_min=60, end_min=90)]}
    actual = replace(
        actual,
        believed=plain,
        faults=fault,
        missed_wh={"esker": 16.0},
        off_min={"esker": 30.0},
    )

    (part, left) = attribute(problem, legs_of(), actual).total.parts

    assert (part.cause, left.cause) == ("fault", UNEXPLAINED)
    assert part.time.exact == 30 * 60_000
    assert part.energy.exact == pytest.approx(16e6, rel=1e-6)
    assert abs(left.energy.exact) <= 1


def test_gaps_are_cut_out_of_legs_of_their_place():
    """Serving from 0 to 230 without 50 to 60 are two legs; others stay whole."""
    gaps = {"esker": [Window(start_min=50, end_min=60)]}

    found = powerless(legs_of(), SERVE, gaps)

    first = [(leg.start_min, leg.end_min) for leg in found if leg.battery == "k01"]
    assert first == [(0, 50), (60, 230), (240, 450), (460, SPAN)]
