"""
Fair shares of a change among its causes, in whole numbers.

Each cause gets what it adds to a set of others, averaged over all orders in which
causes can come [1]_. Equal causes get equal shares, a cause that changes nothing gets
none, and the shares add up to the whole change.

References
----------
.. [1] L. S. Shapley, "A value for n-person games", in Contributions to the Theory of
   Games II, Princeton University Press, 1953, pp. 307-317.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import factorial

import numpy as np

from powercore.values import IntArray, in_range

#: More causes than this would overflow, and say nothing to anybody.
MOST_CAUSES = 10


def shares_of(values: IntArray) -> IntArray:
    """
    Share the change from no cause to all causes among them.

    Parameters
    ----------
    values : array of int, shape (2**n, ...)
        What comes out with each set of causes: cause number i is in a set where bit i
        of its index is set.

    Returns
    -------
    array of int, shape (n, ...)
        Each cause's share, rounded to whole numbers; together they differ from
        values[-1] - values[0] by no more than n / 2.

    Raises
    ------
    OutOfRange
        For more than `MOST_CAUSES` causes.
    """
    count = max(0, values.shape[0].bit_length() - 1)
    in_range("Causes", count, high=MOST_CAUSES)
    sets = np.arange(values.shape[0])
    orders = factorial(count)
    found = np.zeros((count, *values.shape[1:]), dtype=np.int64)
    for cause in range(count):
        without = sets[sets & (1 << cause) == 0]
        sizes = [int(one).bit_count() for one in without]
        weights = [factorial(size) * factorial(count - 1 - size) for size in sizes]
        adds = values[without | (1 << cause)] - values[without]
        weighed = np.tensordot(np.array(weights, dtype=np.int64), adds, 1)
        found[cause] = (2 * weighed + orders) // (2 * orders)
    return found


def along(order: Sequence[int]) -> list[int]:
    """Return the sets that grow along an order of causes, none first, as indices."""
    found = [0]
    for cause in order:
        found.append(found[-1] | (1 << cause))
    return found
