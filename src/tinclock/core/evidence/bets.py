"""Bets against the best of honest accounts, each over a whole match, with the variation between matches.

Each is the likelihood of what was seen, were the account better than the best of honest ones, over the likelihood for
one
that is just as good, and so at most 1 on average for every honest account however often one looks: an e-process (see
`eprocess`). A match has a share, odds or rate of its own, drawn around the account's: one bad evening is no proof.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.evidence.eprocess import DECIBAN, add_logs

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.evidence.calibration_table import Ceiling, Rate

MIN_CLUMPING, MAX_CLUMPING = 1e-3, 0.5
BEYOND = (0.1, 0.25, 0.5, 0.8)
"""Fraction of the distance from the ceiling to 1 that a cheating account is assumed to reach."""
TIMES_ODDS = (1.5, 2.5, 5.0)
"""By how much its odds of a hit are taken to be raised."""
MIN_SIGMA, NODES = 0.1, np.linspace(-3.0, 3.0, 13)


def log_beta(a: float, b: float) -> float:
    """Ln of Euler's beta function."""
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)


class ShareBet:
    """Bets that a share of trials is beyond its ceiling.

    The share of one match is a beta-distributed number around the ceiling, whose spread gives trials of that match the
    correlation `clumping` (Skellam, A probability distribution derived from the binomial distribution by regarding the
    probability of success as variable, J. R. Stat. Soc. B 10, 1948); counts are divided by how many trials weigh as
    much as one. The ratio rises with each success, so a lower share makes it smaller on average.
    """

    def __init__(self, ceiling: Ceiling) -> None:
        self._mean, self._effect = ceiling.share, max(ceiling.effect, 1.0)
        size = 1.0 / min(max(ceiling.clumping, MIN_CLUMPING), MAX_CLUMPING) - 1.0
        means = [self._mean, *(self._mean + (1.0 - self._mean) * part for part in BEYOND)]
        self._betas = [(mean * size, (1.0 - mean) * size) for mean in means]
        self.successes = self.trials = 0.0
        self.log_e = 0.0

    def take(self, trials: NDArray[np.float64]) -> float:
        """Some trials; returns by how much ln of the e-value moved.

        trials : (n, m) float64, the first column 0 or 1.
        """
        return self.take_counts(float(trials[:, 0].sum()), len(trials))

    def take_counts(self, successes: float, trials: float) -> float:
        """The same, already counted."""
        self.successes += successes
        self.trials += trials
        if not 0.0 < self._mean < 1.0:
            return 0.0
        k, rest = self.successes / self._effect, (self.trials - self.successes) / self._effect
        honest, *cheating = [log_beta(a + k, b + rest) - log_beta(a, b) for a, b in self._betas]
        before, self.log_e = self.log_e, add_logs(cheating) - math.log(len(cheating)) - honest
        return self.log_e - before


class HitsBet:
    """Bets that hits come more often than at the population's chances with their odds at the ceiling.

    odds : how many times the population's odds the best reach; sigma : by how much ln of a match's odds varies about
    that, normally distributed. Given the chances only the number of hits matters, and the ratio rises with it.
    """

    def __init__(self, odds: float, sigma: float, effect: float = 1.0) -> None:
        sigma, self._effect = max(sigma, MIN_SIGMA), max(effect, 1.0)
        density = np.exp(-0.5 * NODES**2)
        self._log_weights = np.log(density / density.sum())
        centres = math.log(odds) + np.log(np.array((1.0, *TIMES_ODDS)))
        self._shifts = centres[:, None] + sigma * NODES[None]
        self._logs = np.broadcast_to(self._log_weights, self._shifts.shape).copy()
        self.successes = self.trials = 0.0
        self.log_e = 0.0

    def take(self, trials: NDArray[np.float64]) -> float:
        """Some trials; returns by how much ln of the e-value moved.

        trials : (n, 3) float64, whether it hit, a number, and the population's chance of it.
        """
        logit = np.log(trials[:, 2]) - np.log1p(-trials[:, 2])
        likely = trials[:, 0].sum() * self._shifts
        likely -= np.logaddexp(0.0, logit[:, None, None] + self._shifts[None]).sum(0)
        self._logs += likely / self._effect
        self.successes += float(trials[:, 0].sum())
        self.trials += len(trials)
        honest, *cheating = [add_logs(row.tolist()) for row in self._logs]
        before, self.log_e = self.log_e, add_logs(cheating) - math.log(len(cheating)) - honest
        return self.log_e - before


class IncidentBet:
    """Bets that incidents of one code come more often than to the busiest honest account.

    Incidents come to an honest account at most `honest_per_min` times a minute, times a number that belongs to the
    match:
    gamma-distributed about 1 with a given shape (Greenwood and Yule, J. R. Stat. Soc. 83, 1920). Betting that they come
    `k` times as often gives k for each incident, and ((a + K) / (a + R)) ** -(a + n) after n of them, where R of them
    were to be expected of an honest account and K by the bet. For a match that is as steady as a clock, a without
    bound, that is the ratio of two Poisson processes.
    """

    def __init__(self, shape: float) -> None:
        self._shape = shape
        self._gained = 0.0
        self.incidents = 0

    def incident(self, decibans: float) -> None:
        """One more; decibans : what it weighs."""
        self._gained += decibans * DECIBAN
        self.incidents += 1

    def weighs_more(self, decibans: float) -> None:
        """The last one weighs so much more, or less, than it seemed to."""
        self._gained += decibans * DECIBAN

    def log_e(self, honest: float, bet: float) -> float:
        """Ln of the e-process. honest, bet : expected incidents of an honest account, and by the bet"""
        a = self._shape
        return self._gained - (a + self.incidents) * math.log((a + bet) / (a + honest))


def expected(rates: Mapping[str, Rate]) -> tuple[float, float]:
    """Incidents in a minute of an honest account, and by the bet. rates : by bin, of one line."""
    honest = sum(rate.honest_per_min for rate in rates.values())
    return honest, sum(math.exp(rate.decibans * DECIBAN) * rate.honest_per_min for rate in rates.values())
