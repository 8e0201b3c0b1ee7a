"""
What is believed about a battery's charge, from all that was seen of it.

A turn at a place is a bank of small Kalman filters: one for each pair of a charge at
its beginning and of a factor, which is a station's real draw over its plan or a bay's
real rate over what it should give [1]_. The pairs carry what is not linear (a flat
curve, an empty or a full battery, a dead bay); within each pair a filter carries what
is: how far off the draw, the counter, the gauge, the volts may be, all through the
turn. A reading weighs the pairs by how well they explain it, and a small share is
kept for a reading that is simply wrong. So a reading says something of the factor
too, and of what was before it; and an error that lasts does not average out.

References
----------
.. [1] D. L. Alspach and H. W. Sorenson, "Nonlinear Bayesian estimation using Gaussian
   sum approximations", IEEE Trans. Automatic Control 17(4), 1972; the share for wrong
   readings as in Y. Bar-Shalom et al., "The probabilistic data association filter",
   IEEE Control Systems 29(6), 2009.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from scipy.special import logsumexp, ndtr

from powercore.belief.believed import (
    GIVEN_SD,
    WIDE,
    Begun,
    Joint,
    MethodAnswer,
    SocEstimate,
    charged,
    parts_of,
    points_of,
    wandered,
)
from powercore.belief.draw import LEAST, MOST, DrawFactor
from powercore.belief.mixture import (
    FACTOR_EDGES,
    NORMAL_POINTS,
    SOC_EDGES,
    Mixture,
    band,
)
from powercore.belief.steps import (
    Charging,
    CounterReading,
    Flow,
    GaugeReading,
    Known,
    Reading,
    Step,
    Use,
    VoltsReading,
)
from powercore.physics.battery import Pack
from powercore.values import FloatArray, IntArray, in_range

# How far off things are, one standard deviation each. Common practice, no source.
#: Share of readings that are misread, misheard or of another battery.
OUTLIER = 0.05
#: And of charges that were said to have ended, or seen, but had not.
NOT_SO = 0.02
#: A gauge: it counts itself, and drifts; and it shows whole percents.
GAUGE_LASTS, GAUGE_SD = 0.035, 0.02
#: A hand-held meter and its leads; and who reads it. [V]
METER_LASTS_V, METER_SD_V = 0.02, 0.02
#: A counter's gain as a share, its zero [A], and one reading of it [Ah].
COUNTER_GAIN, COUNTER_ZERO_A, COUNTER_SD_AH = 0.02, 0.02, 0.05
#: What stations draw against a plan: three in four are off by so many times what their
#: plan says that it may be off.
CLUB_DRAWS = 2.5
#: A bay's rate against what it should give; and how many bays give nothing.
BAY_SD, BAY_DEAD = 0.2, 0.04
#: A battery on its way or at rest is where it was, but for this share of it all.
ANYWHERE = 0.006
#: And by each reading an hour after the last one, the share of it being anywhere: a
#: wrong tag, a dead cell, another battery than thought. What has no share can't win.
ELSEWHERE = 0.01
#: So much of that for one voltage under load of a battery that is counted.
BESIDE_COUNTER = 0.1
#: What a battery holds over what is trusted: of a tested one, and of one that is not.
HOLDS_TESTED, HOLDS = 0.025, 0.12
#: How many volts under load are read behind a lead or a joint that takes some, and how
#: much: mean and spread. [V], a 12 V pack
LEAD_SHARE, LEAD_V, LEAD_SD_V = 0.12, -0.2, 0.2
#: And of a battery that is counted, where that is likelier than a wrong count.
LEAD_COUNTED = 0.3
#: A reading contradicts of which belief alone explains no more. (0 to 1)
CONTRADICTS = 0.5
#: How often a bay that works stops within an hour, and nobody notes it.
BAY_STOPS = 0.02
#: A pair that is less likely is let go of; `ELSEWHERE` brings back what was wrongly so.
FORGOTTEN = 1e-4
#: How much of an error that lasts is still there in the next turn.
KEEPS = 0.8
#: A pack not left alone so long is not at its rested volts. [min]
RESTED_MIN = 240.0
#: Lead-acid's surface charge, or what a discharge took off it: of a cell just
#: unplugged, and how fast that goes. [V], [min]
SURFACE_V, SURFACE_MIN = 0.03, 90.0

# What each small filter carries, beside where its charge goes by itself.
_SOC, _USED, _FACTOR, _VOLTS, _GAUGE, _GAIN, _ZERO, _GIVEN, _HOLDS, _LEAD = range(10)
_SIZE = 10
#: What a reading sees of a filter: how much of which of its numbers.
Seen = Mapping[int, FloatArray | float]
_FINE: FloatArray = np.linspace(0, 1, 201)


def draw_prior(spread: float) -> Mixture:
    """What is believed of a draw factor before anything was read: the plan's spread."""
    sd = max(0.01, spread)
    usual = Mixture.normal(1.0, sd, FACTOR_EDGES)
    club = Mixture.normal(1.0, CLUB_DRAWS * sd, FACTOR_EDGES)
    both = usual.with_share(club, 0.75)
    wild = Mixture.normal(2.0, 1.5, FACTOR_EDGES)
    every = both.with_share(wild, 0.02)
    return Mixture.of_points(*every.points(), FACTOR_EDGES)


def bay_prior() -> Mixture:
    """What is believed of a bay's rate: about what it should give, or nothing."""
    works = Mixture.normal(1.0, BAY_SD, FACTOR_EDGES)
    dead = Mixture(np.ones(1), np.zeros(1), np.zeros(1))
    return works.with_share(dead, BAY_DEAD)


class Belief:
    """A belief that grows step by step; `estimate` is its plain use."""

    def __init__(self, pack: Pack, start: Mixture | None = None) -> None:
        self.pack = pack
        self.outlier, self.not_so = OUTLIER, NOT_SO
        self._answers: dict[str, MethodAnswer] = {}
        self._evidence = "never seen"
        curve_v = pack.chem.curve_sd_v * pack.series
        #: Spreads of the errors that last, in the order of the filters.
        self._lasting = np.array(
            [
                0.0,
                0.0,
                0.0,
                float(np.hypot(curve_v, METER_LASTS_V)),
                GAUGE_LASTS,
                COUNTER_GAIN,
                COUNTER_ZERO_A,
                GIVEN_SD,
                HOLDS if pack.tested_ah is None else HOLDS_TESTED,
                0.0,
            ]
        )
        charge = start or Mixture.flat(SOC_EDGES)
        self.resume(Begun(charge, _exactly(), np.zeros(_SIZE)))

    def begin(self, factor: Mixture | None = None) -> Begun:
        """
        Begin a turn at another place: counters start anew.

        Parameters
        ----------
        factor : Mixture, optional
            Of the station's draw (`draw_prior` or what its last turn left) or of the
            bay's rate (`bay_prior`); none: nothing flows by a plan there.

        Returns
        -------
        Begun
            What `resume` begins the same turn with again.
        """
        points, weights = self._soc_points()
        kept = Mixture.of_points(points, weights, SOC_EDGES)
        flat = Mixture.flat(np.linspace(0, 1, 9))
        begun = Begun(
            charge=kept.with_share(flat, ANYWHERE),
            factor=factor or _exactly(),
            errors=KEEPS * (self._weights @ self._x[:, :_SIZE]),
        )
        self.resume(begun)
        return begun

    def resume(self, begun: Begun) -> None:
        """Lay out the bank of a turn: each charge with each factor."""
        start, factor = begun.charge, begun.factor
        pairs = np.outer(start.weight, factor.weight).ravel()
        kept = pairs > 1e-6
        which, what = np.divmod(np.flatnonzero(kept), factor.weight.size)
        count = which.size
        self._log = np.log(pairs[kept])
        self._weigh()
        self._path = start.mean[which].copy()
        self._begins = self._path
        self._factor = factor.mean[what]
        self._x = np.zeros((count, _SIZE))
        # What a lead takes is its station's, and stays there.
        known = begun.errors[:_LEAD]
        self._x[:, _VOLTS : known.size] = known[_VOLTS:]
        self._p = np.zeros((count, _SIZE, _SIZE))
        self._p[:, _SOC, _SOC] = start.var[which]
        self._p[:, _FACTOR, _FACTOR] = factor.var[what]
        for error in range(_VOLTS, _SIZE):
            self._p[:, error, error] = self._lasting[error] ** 2
        self._start_band = band(*self._soc_points())
        self._amps: FloatArray | float = 0.0
        self._is_charging = False
        self._has_read = self._has_leads = False
        self._settled, self._said, self.contradicts = self._log.size, "", ""
        self._unread_h = 0.0
        self._paths: list[FloatArray] = []

    # What happens

    def apply(self, step: Step) -> None:
        """Take one step: time passes, or something is read."""
        if isinstance(step, Use):
            self._use(step)
        elif isinstance(step, Flow):
            share = step.ah / self.pack.trusted_ah
            noise = (step.sd_ah / self.pack.trusted_ah) ** 2
            self._move(self._path - share, noise)
        elif isinstance(step, Charging):
            self._charge(step)
        else:
            self._read(step)

    def _use(self, step: Use) -> None:
        hours = max(step.hours, 1e-3)
        self._unread_h += hours
        drawn_ah = self._factor * step.planned_ah
        # Lead-acid gives less of itself at a high current.
        drawn = step.planned_ah / self.pack.ah_at(drawn_ah / hours)
        given = step.given_ah / self.pack.trusted_ah
        noise = wandered(self._factor, drawn, hours)
        self._amps = (drawn_ah - step.given_ah) / hours
        out = self._factor * drawn
        to: Seen = {_FACTOR: -drawn, _GIVEN: given, _HOLDS: out - given}
        self._move(self._path - self._factor * drawn + given, noise, to)

    def _charge(self, step: Charging) -> None:
        self._is_charging = True
        self._unread_h += step.hours
        self._stopped(step)
        model, hours = step.model, step.hours

        def after(share: FloatArray, factor: FloatArray) -> FloatArray:
            return charged(model, share, factor * hours)

        small = 0.01
        there = after(self._path, self._factor)
        further = (after(self._path + small, self._factor) - there) / small
        faster = (after(self._path, self._factor + small) - there) / small
        gained = there - self._path
        to: Seen = {_FACTOR: faster, _HOLDS: -gained}
        self._move(there, (0.02 * gained) ** 2, to, further)

    def _stopped(self, step: Charging) -> None:
        """Add that the bay stopped on the way, for each pair: at once, early, late."""
        works = np.flatnonzero(self._factor > 0)
        stops = min(0.2, BAY_STOPS * step.hours)
        if works.size == 0 or stops <= 0:
            return
        log, before = self._log[works], self._path[works]
        for share in (0.0, 0.35, 0.7):
            ran = self._factor[works] * share * step.hours
            path = charged(step.model, before, ran)
            new = self._copied(works, log + np.log(stops / 3))
            self._path[new] = path
            self._factor[new] = 0.0
            self._x[new, _FACTOR] = 0.0
            self._p[new, _FACTOR] = self._p[new, :, _FACTOR] = 0.0
        self._log[works] += np.log(1 - stops)
        self._weigh()
        self._drop()

    def _copied(self, which: IntArray, log: FloatArray) -> slice:
        """Add copies of some pairs with other weights; where they are now."""
        count = self._log.size
        self._log = np.concatenate([self._log, log])
        self._factor = np.concatenate([self._factor, self._factor[which]])
        self._path = np.concatenate([self._path, self._path[which]])
        self._begins = np.concatenate([self._begins, self._begins[which]])
        self._x = np.concatenate([self._x, self._x[which]])
        self._p = np.concatenate([self._p, self._p[which]])
        self._paths = [np.concatenate([path, path[which]]) for path in self._paths]
        if isinstance(self._amps, np.ndarray):
            self._amps = np.concatenate([self._amps, self._amps[which]])
        return slice(count, self._log.size)

    def _elsewhere(self, *, is_loaded: bool) -> None:
        """
        Add that it may be anywhere, whatever was read before.

        What flowed is as it is believed; what the battery held as it began is not.
        """
        if not self._has_read:
            return  # it began so, a moment ago
        ends = np.linspace(0, 1, 9)
        middle, count = (ends[1:] + ends[:-1]) / 2, ends.size - 1
        weight = self._weights
        mean = weight @ self._x
        off = self._x - mean
        spread = np.einsum("i,ij,ik->jk", weight, off, off)
        spread += np.einsum("i,ijk->jk", weight, self._p)
        now = weight @ self._path
        likeliest = np.argmax(weight)
        chance = ELSEWHERE * min(1.0, max(0.3, self._unread_h))
        if is_loaded and "counter" in self._answers:
            chance *= BESIDE_COUNTER
        share = logsumexp(self._log) + np.log(chance / count)
        new = self._copied(np.full(count, likeliest), np.full(count, share))
        used = weight @ (self._begins[: weight.size] - self._path[: weight.size])
        self._path[new] = middle
        self._begins[new] = middle + used
        self._factor[new] = weight @ self._factor[: weight.size]
        self._x[new] = mean
        self._x[new, _SOC] = 0.0
        wide = (ends[1] - ends[0]) ** 2 / 12
        spread[_SOC] = spread[:, _SOC] = 0.0
        spread[_SOC, _SOC] = wide
        for at, path in enumerate(self._paths, _SIZE):
            self._paths[at - _SIZE] = path = path.copy()
            was = weight @ path[: weight.size] - now
            path[new] = np.clip(middle + was, 0, 1)
            self._x[new, at] = 0.0
            spread[at] = spread[:, at] = 0.0
            spread[at, at] = spread[at, _SOC] = spread[_SOC, at] = wide
        self._p[new] = spread
        self._weigh()

    def _behind_leads(self) -> None:
        """Add that volts under load are read behind something that takes some."""
        if self._has_leads:
            return
        self._has_leads = True
        kept = np.flatnonzero(self._weights > 1e-4)
        volts = self.pack.nominal_v / 12.8
        share = LEAD_COUNTED if "counter" in self._answers else LEAD_SHARE
        log = self._log[kept] + np.log(share)
        new = self._copied(kept, log)
        self._x[new, _LEAD] = LEAD_V * volts
        self._p[new, _LEAD] = self._p[new, :, _LEAD] = 0.0
        self._p[new, _LEAD, _LEAD] = (LEAD_SD_V * volts) ** 2
        self._log[kept] += np.log(1 - share)
        self._weigh()

    def _move(
        self,
        path: FloatArray,
        noise: FloatArray | float,
        pushes: Seen | None = None,
        keeps: FloatArray | float = 1.0,
    ) -> None:
        """
        Carry each filter along its path; at empty and full all end alike.

        `pushes`: how much each of its other numbers moves the charge; `keeps`: how much
        of what it was off stays.
        """
        inside = (path > 0) & (path < 1)
        self._path = np.clip(path, 0, 1)
        parts = {_SOC: np.where(inside, keeps, 0.0)}
        for index, push in (pushes or {}).items():
            parts[index] = np.where(inside, push, 0.0)
        x, p = self._x, self._p
        soc = sum(part * x[:, index] for index, part in parts.items())
        x[:, _USED] += x[:, _SOC] - soc
        x[:, _SOC] = soc
        row = sum(part[:, None] * p[:, index] for index, part in parts.items())
        p[:, _USED] += p[:, _SOC] - row
        p[:, _SOC] = row
        column = sum(part[:, None] * p[:, :, index] for index, part in parts.items())
        p[:, :, _USED] += p[:, :, _SOC] - column
        p[:, :, _SOC] = column
        wanders = np.where(inside, noise, 0.0)
        for a, b, sign in ((0, 0, 1), (1, 1, 1), (0, 1, -1), (1, 0, -1)):
            p[:, a, b] += sign * wanders

    # What is read

    def _read(self, step: Reading) -> None:
        is_loaded = isinstance(step, VoltsReading) and step.how != "unplugged"
        if is_loaded and self._is_charging:
            return  # volts under charge say nothing of the charge
        before = self._log.size
        self._elsewhere(is_loaded=is_loaded)
        if is_loaded:
            self._behind_leads()
        self._settled = before if self._log.size > before else self._log.size
        self._said = step.words
        self._take(step)
        self._has_read, self._unread_h = True, 0.0

    def _take(self, step: Reading) -> None:
        if isinstance(step, Known):
            in_range("State of charge", step.soc, low=0, high=1)
            self._note("seen", _bell(_FINE, step.soc, step.sd), step.words)
            wrong = self.not_so if step.wrong is None else step.wrong
            self._weigh_in(step.soc, self._path, {_SOC: 1.0}, step.sd**2, None, wrong)
        elif isinstance(step, GaugeReading):
            sd = float(np.hypot(GAUGE_LASTS, GAUGE_SD))
            self._note("gauge", _bell(_FINE, step.soc, sd), step.words)
            seen = {_SOC: 1.0, _GAUGE: 1.0}
            self._weigh_in(step.soc, self._path, seen, GAUGE_SD**2, None)
        elif isinstance(step, CounterReading):
            self._count(step)
        else:
            self._measure(step)

    def _count(self, step: CounterReading) -> None:
        full_ah = self.pack.trusted_ah
        if step.hours > 0 and step.ah > 0:
            full_ah = float(self.pack.ah_at(step.ah / step.hours))
        share = step.ah / full_ah
        used = self._begins - self._path
        zero = step.hours / full_ah
        seen: Seen = {_USED: 1.0, _GAIN: used, _ZERO: zero, _HOLDS: used}
        self._weigh_in(share, used, seen, (COUNTER_SD_AH / full_ah) ** 2, 1.0)
        low, _, high = (float(np.clip(end - share, 0, 1)) for end in self._start_band)
        self._say("counter", low, high, step.words)

    def _measure(self, step: VoltsReading) -> None:
        pack = self.pack
        curve_v, lasting = pack.chem.curve_sd_v * pack.series, self._lasting[_VOLTS]
        # Not rested yet; or the sag, and so the resistance, weighs most.
        unrested = step.how == "unplugged" and step.unplugged_min < RESTED_MIN
        words = step.words
        more_v = curve_v * (1.1 if unrested else 1.7 if step.how == "key_down" else 0)
        if unrested and pack.chem.is_lead:
            left = np.exp(-step.unplugged_min / SURFACE_MIN)
            more_v = float(np.hypot(more_v, SURFACE_V * pack.series * left))
            words += ", not rested: read again after 4 h"
        amps = self._amps if step.amps is None else step.amps
        if step.how == "unplugged":
            amps = 0.0
        sag_v = np.asarray(amps) * pack.resistance_ohm
        if step.amps is None:
            more_v = float(np.hypot(more_v, 0.5 * np.max(np.abs(sag_v))))
        fresh = METER_SD_V**2 + more_v**2

        def expected(soc: FloatArray) -> FloatArray:
            return pack.chem.rested_v(np.clip(soc, 0, 1)) * pack.series

        # The curve over each filter's own spread, as its mean and its slope.
        sd = np.sqrt(np.maximum(self._p[:, _SOC, _SOC], 1e-8))
        at = np.clip(self._path + self._x[:, _SOC], 0, 1)
        up, down = expected(at + 1.732 * sd), expected(at - 1.732 * sd)
        slope, middle = (up - down) / (3.464 * sd), expected(at)
        mean = (up + 4 * middle + down) / 6 - slope * self._x[:, _SOC]
        bent = (up + down - 2 * middle) ** 2 / 18
        # Above and below the curve its ends explain a reading best.
        low_v, high_v = (float(expected(np.array(end))) for end in (0.0, 1.0))
        volts = np.clip(step.volts + sag_v, low_v - lasting, high_v + lasting)
        seen: Seen = {_SOC: slope, _VOLTS: 1.0}
        if step.how != "unplugged":
            seen = {**seen, _LEAD: 1.0}
        wide = 1 / (high_v - low_v)
        self._weigh_in(volts, mean, seen, fresh + bent, wide)
        sd_v = float(np.hypot(lasting, fresh**0.5))
        alone = float(np.clip(step.volts + np.mean(sag_v), low_v, high_v))
        self._note("volts", _bell(expected(_FINE), alone, sd_v), words)

    def _weigh_in(
        self,
        read: FloatArray | float,
        path: FloatArray,
        seen: Seen,
        variance: FloatArray | float,
        wide: float | None,
        wrong: float | None = None,
    ) -> None:
        """
        Let each filter learn from a reading, and weigh it by how it explains it.

        `wide` is how likely a wrong reading is, per unit, wherever it lies; none: it
        is a share, which nobody reads below 0 or above 1.
        """
        x, p = self._x, self._p
        cross = np.zeros(x.shape)
        said = np.array(path, dtype=float)
        for index, part in seen.items():
            cross += np.asarray(part)[..., None] * p[:, :, index]
            said += part * x[:, index]
        total = variance + sum(part * cross[:, index] for index, part in seen.items())
        off = read - said
        fits = np.exp(-0.5 * off**2 / total) / np.sqrt(2 * np.pi * total)
        if wide is None:
            sd, wide = np.sqrt(total), 1.0
            fits /= np.maximum(ndtr((1 - said) / sd) - ndtr(-said / sd), 0.1)
        wrong = self.outlier if wrong is None else wrong
        likely = (1 - wrong) * fits + wrong * wide
        right = (1 - wrong) * fits / np.maximum(likely, 1e-300)
        self._compare(right, likely, np.broadcast_to(off, likely.shape))
        gain = cross / np.asarray(total)[:, None]
        x += (right * off)[:, None] * gain
        shrinks = right * total - right * (1 - right) * off**2
        p -= shrinks[:, None, None] * (gain[:, :, None] * gain[:, None, :])
        self._log += np.log(np.maximum(likely, 1e-300))
        self._weigh()
        self._drop()

    def _compare(self, right: FloatArray, likely: FloatArray, off: FloatArray) -> None:
        """Note whether what was believed calls a reading wrong, and which way."""
        usual = self._weights.copy()
        leads = self._p[:, _LEAD, _LEAD] > 0
        if usual[leads].sum() < 0.5:
            usual[leads] = 0.0
        usual[self._settled :] = 0.0
        whole = max(self._weights @ likely, 1e-300)
        explained = usual @ (right * likely) / whole
        # What had next to no share and has much of it now was not believed either.
        rises = self._weights * likely / whole
        rose = rises[likely > 10 * whole].sum()
        self.contradicts = ""
        is_known = self._start_band[2] - self._start_band[0] < WIDE or self._has_read
        if usual.sum() > 0 and (
            explained < CONTRADICTS or (is_known and rose > CONTRADICTS)
        ):
            way = "below" if usual @ off < 0 else "above"
            self.contradicts = f"{self._said} is far {way} what was believed"

    def _drop(self) -> None:
        """Let go of pairs that nothing likely brings back, once they are many."""
        kept = self._weights > FORGOTTEN
        if np.count_nonzero(kept) > 0.9 * kept.size:
            return
        self._log, self._factor = self._log[kept], self._factor[kept]
        self._path, self._begins = self._path[kept], self._begins[kept]
        self._x, self._p = self._x[kept], self._p[kept]
        self._paths = [path[kept] for path in self._paths]
        if isinstance(self._amps, np.ndarray):
            self._amps = self._amps[kept]
        self._weigh()

    def _weigh(self) -> None:
        weights = np.exp(self._log - self._log.max())
        self._weights = weights / weights.sum()

    # What is believed

    def mark(self) -> None:
        """Remember this moment of the turn, so that later readings correct it too."""
        count, size = self._x.shape
        grown = np.zeros((count, size + 1, size + 1))
        grown[:, :size, :size] = self._p
        grown[:, size, :size] = grown[:, :size, size] = self._p[:, _SOC]
        grown[:, size, size] = self._p[:, _SOC, _SOC]
        self._p = grown
        self._x = np.concatenate([self._x, self._x[:, [_SOC]]], axis=1)
        self._paths.append(self._path)

    def marked(self) -> list[SocEstimate]:
        """What is believed now of each moment of this turn that was marked."""
        return [
            self._estimate(
                *points_of(path + self._x[:, at], self._p[:, at, at], self._weights)
            )
            for at, path in enumerate(self._paths, _SIZE)
        ]

    def estimate(self) -> SocEstimate:
        """Return median and 80 % interval of what is believed now."""
        return self._estimate(*self._soc_points())

    def _estimate(self, points: FloatArray, weights: FloatArray) -> SocEstimate:
        low, typical, high = band(points, weights)
        return SocEstimate(
            typical=typical,
            low=low,
            high=high,
            methods=tuple(self._answers.values()),
            evidence=self._evidence,
            contradicts=self.contradicts,
        )

    def _soc_points(self) -> tuple[FloatArray, FloatArray]:
        mean = self._path + self._x[:, _SOC]
        return points_of(mean, self._p[:, _SOC, _SOC], self._weights)

    def factor(self) -> Mixture:
        """What is believed of this turn's factor now, to begin the next one with."""
        var = np.maximum(self._p[:, _FACTOR, _FACTOR], 0)
        mean = self._factor + self._x[:, _FACTOR]
        points = mean[:, None] + np.sqrt(var)[:, None] * NORMAL_POINTS
        weights = np.repeat(self._weights / NORMAL_POINTS.size, NORMAL_POINTS.size)
        return Mixture.of_points(points.ravel(), weights, FACTOR_EDGES)

    def joint(self) -> Joint:
        """What is believed of charge and factor together."""
        var = np.maximum(self._p[:, _SOC, _SOC], 1e-12)
        shared = self._p[:, _SOC, _FACTOR] / var
        left = np.maximum(self._p[:, _FACTOR, _FACTOR] - shared**2 * var, 0)
        off = np.sqrt(var)[:, None] * NORMAL_POINTS
        soc, weights = self._soc_points()
        factor = (self._factor + self._x[:, _FACTOR])[:, None] + shared[:, None] * off
        factor = np.clip(factor, LEAST, MOST).ravel()
        left = np.repeat(left, NORMAL_POINTS.size)
        return parts_of(soc, factor, left, weights)

    def _note(self, method: str, weights: FloatArray, words: str) -> None:
        low, _, high = band(_FINE, weights)
        self._say(method, low, high, words)

    def _say(self, method: str, low: float, high: float, words: str) -> None:
        answer = MethodAnswer(method=method, low=low, high=high, words=words)
        self._answers[method] = answer
        self._evidence = words or method


def draw_of(factor: Mixture, turns: int) -> DrawFactor:
    """Return a station's draw factor as a mean and a standard deviation."""
    mean = min(MOST, max(LEAST, factor.average))
    return DrawFactor(mean=mean, sd=max(factor.sd, 1e-4), turns=turns)


def estimate(pack: Pack, steps: Sequence[Step]) -> SocEstimate:
    """
    Fuse what was seen and planned in one turn, in order, into one estimate.

    Parameters
    ----------
    pack : Pack
        The battery; its trusted capacity turns amp-hours into charge.
    steps : sequence of Step
        Uses and readings, oldest first. Without any, nothing is known.

    Returns
    -------
    SocEstimate
        Median, 10 % and 90 % quantile of the belief. (0 to 1)
    """
    belief = Belief(pack)
    for step in steps:
        belief.apply(step)
    return belief.estimate()


def _exactly() -> Mixture:
    return Mixture(np.ones(1), np.ones(1), np.zeros(1))


def _bell(x: FloatArray, mean: float, sd: float) -> FloatArray:
    squared = ((x - mean) / sd) ** 2
    return np.exp(-0.5 * np.minimum(squared - squared.min(), 700.0))
