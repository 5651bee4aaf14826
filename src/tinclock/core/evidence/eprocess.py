"""Evidence that may be looked at as often as one likes: e-values, their products over time, their mean over kinds.

An e-value is a number that is at most 1 on average for an honest account. Products of e-values, each at most 1 on
average
given the past, form an e-process E, and the chance that it *ever* reaches 1/alpha is at most alpha (Ville, Etude
critique de la notion de collectif, 1939; Vovk and Wang, E-values: calibration, combination and applications, Annals of
Statistics 49, 2021; Ramdas, Grunwald, Vovk and Shafer, Game-theoretic statistics and safe anytime-valid inference,
Statistical Science 38, 2023). A mean of e-processes, with calibration that were fixed beforehand, is one again.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

DECIBAN = math.log(10.0) / 10.0
"""One deciban in natural logarithms."""
SMALLEST_P = 1e-12
"""No window is trusted further: rounding, and what nobody thought of."""


def e_of_p(p: float) -> float:
    """Ln of the e-value of a p-value: the integral of k p^(k-1) over k from 0 to 1, which bets on no one strength.

    (1 - p + p ln p) / (p (ln p)^2), from Vovk and Wang (2021), section 2; at p = 1 it is 1/2.
    """
    p = min(max(p, SMALLEST_P), 1.0)
    x = math.log(p)
    if x > -1e-3:  # the series about p = 1: numerator and denominator both vanish there
        return math.log(0.5 - x / 6.0)
    return math.log((1.0 - p + p * x) / (p * x * x))


def add_logs(values: Iterable[float]) -> float:
    """Ln of a sum of exponentials."""
    given = list(values)
    top = max(given, default=-math.inf)
    return top if math.isinf(top) else top + math.log(sum(math.exp(value - top) for value in given))


class KindEvidence(NamedTuple):
    """One kind of evidence on one account, over all its matches.

    An account may turn cheating late, when long honest play has driven a plain product towards nothing. So a share
    1 / (j (j + 1)) of the bet is put on its beginning with match j; the shares add up to 1, and what is still to begin
    counts as 1.

    past : ln of the sum of what began in earlier matches, -inf for none
    matches : how many earlier matches there were
    now : ln of the product of this match's e-values
    """

    past: float = -math.inf
    matches: int = 0
    now: float = 0.0

    def add(self, log_e: float) -> KindEvidence:
        """With one more e-value of the match under way."""
        return self._replace(now=self.now + log_e)

    def _begun(self) -> float:
        number = self.matches + 1
        return add_logs((self.past, -math.log(number * (number + 1)))) + self.now

    def next_match(self) -> KindEvidence:
        """With the match closed."""
        return KindEvidence(self._begun(), self.matches + 1, 0.0)

    @property
    def log_e(self) -> float:
        """Ln of the e-process."""
        return add_logs((self._begun(), -math.log(self.matches + 2.0)))

    @property
    def decibans(self) -> float:
        """The same in decibans."""
        return self.log_e / DECIBAN


def combined(by_kind: Mapping[str, KindEvidence], shares: Mapping[str, float]) -> float:
    """Decibans of all kinds together: the mean by shares that add up to 1; kinds without a one count as 1."""
    known = [math.log(share) + (by_kind[kind].log_e if kind in by_kind else 0.0) for kind, share in shares.items()]
    return add_logs(known) / DECIBAN


def limit_decibans(alpha: float) -> float:
    """Threshold of a case: 1/alpha."""
    return -10.0 * math.log10(alpha)
