"""Fair shares: they add up, equals get equal shares, what changed nothing gets none."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.debrief.shapley import along, shares_of

games = st.integers(1, 6).flatmap(
    lambda n: st.lists(st.integers(-(10**11), 10**11), min_size=1 << n, max_size=1 << n)
)


def test_the_glove_game_has_its_known_shares():
    """Shapley 1953's rule on the usual glove game: 1/6, 1/6 and 4/6 of a pair."""
    one_pair = [0, 0, 0, 0, 0, 600, 600, 600]  # 0 and 1 have a left glove, 2 the right

    assert shares_of(np.array(one_pair)).tolist() == [100, 100, 400]


@given(games)
def test_shares_are_what_orders_say_and_add_up(values):
    """By brute force over all orders; rounding stays below one unit a cause."""
    array = np.array(values)
    count = array.size.bit_length() - 1
    orders = list(itertools.permutations(range(count)))
    plain = np.zeros(count)
    for order in orders:
        steps = np.diff([float(values[bits]) for bits in along(order)])
        for cause, step in zip(order, steps, strict=True):
            plain[cause] += step / len(orders)

    found = shares_of(array)

    assert found == pytest.approx(plain, abs=1, rel=1e-9)
    assert abs(found.sum() - (array[-1] - array[0])) <= count / 2


@given(games, st.integers(-5, 5))
def test_equal_causes_get_equal_shares_and_idle_ones_none(values, adds):
    """Two new causes that only count together with others by their number; one idle."""
    base = np.array(values)
    both = np.concatenate([base, base + adds, base + adds, base + 3 * adds])
    idle = np.concatenate([both, both])

    *_, one, other, none = shares_of(idle).tolist()

    assert one == other
    assert none == 0
