"""
What stations drew told apart from what batteries hold.

A charge that fell faster than planned says that the station drew more, or that the
battery holds less: only their ratio. A counter says what was drawn, by itself; and
the same battery at other stations, the same station on other batteries, tell the two
apart. All of it is linear in logarithms: each turn's readings are sums of a station's,
a turn's and a battery's own deviation, which are normal around the plan, so that what
is believed after them is the usual conditional normal [1]_.

References
----------
.. [1] C. E. Rasmussen and C. K. I. Williams, Gaussian Processes for Machine Learning,
   MIT Press, 2006, sec. 2.1 (Bayesian linear regression).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from powercore.belief.mixture import Mixture
from powercore.values import FloatArray

#: How much a station's draw differs from one turn to the next, as a share: one standard
#: deviation. Common practice, no source.
TURN_SD = 0.08
#: Readings that narrow what was believed of a ratio by less say nothing. (0 to 1)
SAYS_NOTHING = 0.15


@dataclass(frozen=True, slots=True, kw_only=True)
class Ratio:
    """A ratio as it was read: the mean and standard deviation of its logarithm."""

    log: float
    sd: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadTurn:
    """A battery's turn at a station, and what was read in it against the plan."""

    station: str
    battery: str
    start_min: float
    end_min: float
    #: Drawn over planned, where a counter says so by itself.
    drawn: Ratio | None = None
    #: Charge used over planned, by gauge, volts, or the end of its power: what was
    #: drawn over planned, divided by what it holds over what it was trusted with.
    used: Ratio | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Separated:
    """
    What is believed of stations and batteries, in logarithms against the plan.

    S stations, B batteries, T turns: one vector of S + B + T.
    """

    stations: tuple[str, ...]
    batteries: tuple[str, ...]
    turns: tuple[ReadTurn, ...]
    #: shapes (S + B + T,) and (S + B + T, S + B + T)
    mean: FloatArray
    cov: FloatArray

    def drawn(self, station: str) -> Ratio:
        """What a station draws over its plan, whatever the turn."""
        return self._one(self.stations.index(station))

    def holds(self, battery: str) -> Ratio:
        """What a battery holds over what it was trusted with."""
        return self._one(len(self.stations) + self.batteries.index(battery))

    def samples(self, rng: np.random.Generator, count: int) -> FloatArray:
        """Draw likely values of the whole vector. shape (count, S + B + T)"""
        return rng.multivariate_normal(self.mean, self.cov, count, method="eigh")

    def draws_by_hour(self, values: FloatArray, hours: int) -> FloatArray:
        """
        Each station's draw over plan, hour by hour, of rows of the vector.

        Parameters
        ----------
        values : array of shape (rows, S + B + T)
        hours : int
            Hours of the event.

        Returns
        -------
        array of shape (rows, S, hours)
            A turn's own deviation counts in the hours whose middle lies in it.
        """
        count = len(self.stations)
        first = count + len(self.batteries)
        logs = np.repeat(values[:, :count, None], hours, axis=2)
        for number, turn in enumerate(self.turns):
            at = self.stations.index(turn.station)
            middle = 60 * np.arange(hours) + 30
            inside = (middle >= turn.start_min) & (middle < turn.end_min)
            logs[:, at, inside] += values[:, first + number, None]
        return np.exp(logs)

    def held(self, values: FloatArray) -> FloatArray:
        """What batteries hold over trust, of rows of the vector. shape (rows, B)"""
        first = len(self.stations)
        return np.exp(values[:, first : first + len(self.batteries)])

    def _one(self, index: int) -> Ratio:
        return Ratio(
            log=float(self.mean[index]), sd=float(np.sqrt(self.cov[index, index]))
        )


def said_between(before: Mixture, after: Mixture) -> Ratio | None:
    """
    What readings alone say of a ratio: what is believed after them less before them.

    Parameters
    ----------
    before, after : Mixture
        Of the ratio, both taken as normal in its logarithm.

    Returns
    -------
    Ratio or None
        None where they hardly narrowed it.
    """
    (mean_0, var_0), (mean_1, var_1) = _log_moments(before), _log_moments(after)
    if var_1 <= 0 or var_1 > (1 - SAYS_NOTHING) * var_0:
        return None
    var = 1 / (1 / var_1 - 1 / var_0)
    return Ratio(log=var * (mean_1 / var_1 - mean_0 / var_0), sd=float(np.sqrt(var)))


def _log_moments(of: Mixture) -> tuple[float, float]:
    points, weights = of.points()
    logs = np.log(np.maximum(points, 0.05))
    mean = float(weights @ logs)
    return mean, float(weights @ (logs - mean) ** 2)


def separate(
    turns: Sequence[ReadTurn],
    *,
    station_sd: Mapping[str, float],
    battery_sd: Mapping[str, float],
) -> Separated:
    """
    Tell what stations drew apart from what batteries hold.

    Parameters
    ----------
    turns : sequence of ReadTurn
        In any order; those that nothing was read in say nothing.
    station_sd, battery_sd : mapping of str to float
        How far a station's draw and a battery's capacity may be from the plan, one
        standard deviation as a share, by key.

    Returns
    -------
    Separated
    """
    stations, batteries = tuple(station_sd), tuple(battery_sd)
    prior = np.array(
        [*station_sd.values(), *battery_sd.values(), *([TURN_SD] * len(turns))]
    )
    rows, read, noise = [], [], []
    for number, turn in enumerate(turns):
        row = np.zeros(prior.size)
        row[stations.index(turn.station)] = 1.0
        row[len(stations) + len(batteries) + number] = 1.0
        if turn.drawn is not None:
            rows.append(row.copy())
            read.append(turn.drawn.log)
            noise.append(turn.drawn.sd)
        if turn.used is not None:
            row[len(stations) + batteries.index(turn.battery)] = -1.0
            rows.append(row)
            read.append(turn.used.log)
            noise.append(turn.used.sd)
    cov = np.diag(prior**2)
    mean = np.zeros(prior.size)
    if rows:
        sees = np.array(rows)
        total = sees @ cov @ sees.T + np.diag(np.square(noise))
        gain = np.linalg.solve(total, sees @ cov).T
        mean = gain @ np.array(read)
        cov = cov - gain @ sees @ cov
    return Separated(stations, batteries, tuple(turns), mean, (cov + cov.T) / 2)
