"""Quality of detection where the truth is known: fractions found, times to a case, curves, false cases."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.evidence.eprocess import DECIBAN
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from numpy.typing import NDArray

MARKS_MIN = (1.0, 3.0, 5.0, 10.0)
SKILL_BANDS = 3
DRAWN_AGAIN = 100
LONGEST = 40
"""Matches of a simulated account's history, at most."""


class Labelled(NamedTuple):
    """One account in one match, with the truth about it.

    strengths : what it did that was cheating, none for an honest one; quality : of its line; skill : of its hand, 0
    to 1
    times_min : (t,) float64, minutes of play; stages : (t, kinds) float64, ln of the match's product by kind
    """

    account: str
    match: str
    cheats: Mapping[str, float]
    quality: str
    skill: float
    times_min: NDArray[np.float64]
    stages: NDArray[np.float64]


class QualityRow(NamedTuple):
    """One cheat at one strength. found : share with a case by each of `MARKS_MIN`; median_min : to the case
    of those who got one, nan for none.
    """

    kind: str
    strength: float
    accounts: int
    found: tuple[float, ...]
    median_min: float


class FalseCases(NamedTuple):
    """Simulated honest histories, and how many ever got a case.

    accounts : real ones that they are put together from, which is what the interval can rest on
    low, high : 95 %, over whole accounts drawn again; where none of them ever got a case, what so many accounts exclude
    """

    histories: int
    accounts: int
    matches: int
    minutes: float
    cases: int
    share: float
    low: float
    high: float
    by_quality: dict[str, tuple[int, int]]


def matrix(stages: Sequence[tuple[float, Mapping[str, float]]], kinds: Sequence[str]) -> NDArray[np.float64]:
    """(t, kinds): `Course.stages` of an account as an array."""
    return np.array([[now.get(kind, 0.0) for kind in kinds] for _, now in stages]).reshape(len(stages), len(kinds))


class Chain:
    """The evidence of many matches in a row, all kinds at once. shares : (kinds,) of the bet."""

    def __init__(self, shares: NDArray[np.float64]) -> None:
        self._logs = np.log(shares)
        self.past, self.matches = np.full(len(shares), -np.inf), 0

    def match(self, stages: NDArray[np.float64]) -> NDArray[np.float64]:
        """(t,): decibans after each stage of one more match."""
        number = self.matches + 1
        begun = np.logaddexp(self.past, -math.log(number * (number + 1)))
        whole = np.logaddexp(begun + stages, -math.log(number + 1.0)) + self._logs
        self.past, self.matches = begun + stages[-1], number
        top = whole.max(1)
        out: NDArray[np.float64] = (top + np.log(np.exp(whole - top[:, None]).sum(1))) / DECIBAN
        return out


def minutes_to_case(
    history: Sequence[Labelled], shares: NDArray[np.float64], limit: float, until_min: float = math.inf
) -> float:
    """Minutes of play until the evidence of some matches in a row reached a limit, inf for never.

    shares : (kinds,) float64, adding up to 1; limit : decibans.
    """
    chain, before = Chain(shares), 0.0
    for play in history:
        if before >= until_min or not len(play.stages):
            break
        over = np.flatnonzero(chain.match(play.stages) >= limit)
        if len(over):
            return before + float(play.times_min[over[0]])
        before += float(play.times_min[-1])
    return math.inf


def detection_rows(plays: Sequence[Labelled], shares: NDArray[np.float64], limit: float) -> list[QualityRow]:
    """A row a kind and strength. Accounts that played for less than the last mark go on in another match of their like.

    shares : (kinds,) float64, adding up to 1; limit : decibans.
    """
    groups: dict[tuple[str, float], list[Labelled]] = {}
    for play in plays:
        if len(play.cheats) == 1:
            (kind, strength) = next(iter(play.cheats.items()))
            groups.setdefault((kind, strength), []).append(play)
    rows = []
    for (kind, strength), like in sorted(groups.items()):
        took = np.array([minutes_to_case(_joined(like, k), shares, limit) for k in range(len(like))])
        found = tuple(float((took <= mark).mean()) for mark in MARKS_MIN)
        some = took[np.isfinite(took)]
        rows.append(QualityRow(kind, strength, len(like), found, float(np.median(some)) if len(some) else math.nan))
    return rows


def _joined(like: Sequence[Labelled], first: int) -> list[Labelled]:
    """From one of them on, round and round, until there is as much play as the last mark asks for."""
    out, minutes = [], 0.0
    for k in range(len(like) * 20):
        play = like[(first + k) % len(like)]
        out.append(play)
        minutes += float(play.times_min[-1]) if len(play.times_min) else 0.0
        if minutes >= MARKS_MIN[-1]:
            break
    return out


def peaks(plays: Sequence[Labelled], shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """The most decibans of each in its one match.

    shares : (kinds,) float64, adding up to 1. Returns (plays,) float64.
    """
    return np.array([float(Chain(shares).match(play.stages).max()) if len(play.stages) else 0.0 for play in plays])


def curves(honest: NDArray[np.float64], cheating: NDArray[np.float64]) -> Fields:
    """ROC and precision-recall over all thresholds, and the areas under both.

    honest, cheating : (n,) peak decibans. Fawcett, An introduction to ROC analysis, Pattern Recogn. Lett. 27 (2006).
    """
    limits = np.unique(np.concatenate([honest, cheating, [-np.inf, np.inf]]))[::-1]
    found = np.array([(cheating >= limit).mean() for limit in limits]) if len(cheating) else np.zeros(len(limits))
    false = np.array([(honest >= limit).mean() for limit in limits]) if len(honest) else np.zeros(len(limits))
    right = np.array([(cheating >= limit).sum() for limit in limits], float)
    taken = right + np.array([(honest >= limit).sum() for limit in limits])
    precision = np.where(taken > 0, right / np.maximum(taken, 1.0), 1.0)
    return {
        "false": false.tolist(), "found": found.tolist(), "precision": precision.tolist(),
        "roc_area": float(np.trapezoid(found, false)),
        "pr_area": float(np.sum(np.diff(found, prepend=0.0) * precision)),
    }  # fmt: skip


def false_cases(
    honest: Sequence[Labelled], shares: NDArray[np.float64], limit: float, histories: int, rng: np.random.Generator,
    on_progress: Callable[[float], None] | None = None,
) -> FalseCases:  # fmt: skip
    """Fair histories put together from honest matches: how many of the accounts ever get a case.

    A person is a line quality and a band of skill, and stays that; each of its matches, 1 to `LONGEST` of them, is
    one that somebody of its quality and band really played. However many histories are drawn, they hold no more people
    than played: the interval comes from drawing those again, whole, `DRAWN_AGAIN` times.

    shares : (kinds,) float64, adding up to 1; limit : decibans.
    """
    bands: dict[tuple[str, int], list[Labelled]] = {}
    for play in honest:
        if len(play.stages):
            bands.setdefault((play.quality, _band(play.skill)), []).append(play)
    keys, cases, total, minutes = sorted(bands), 0, 0, 0.0
    accounts = len({(play.match, play.account) for like in bands.values() for play in like})
    by_quality: dict[str, tuple[int, int]] = {}
    calibration = np.array([len(bands[key]) for key in keys], float)
    for number in range(histories):
        key = keys[int(rng.choice(len(keys), p=calibration / calibration.sum()))]
        like, chain, found = bands[key], Chain(shares), False
        for pick in rng.integers(0, len(like), int(rng.integers(1, LONGEST + 1))).tolist():
            total, minutes = total + 1, minutes + float(like[pick].times_min[-1])
            if chain.match(like[pick].stages).max() >= limit:
                found = True
                break
        cases += found
        had, of = by_quality.get(key[0], (0, 0))
        by_quality[key[0]] = (had + found, of + 1)
        if on_progress is not None and number % 200 == 0:
            on_progress(number / histories)
    low, high = _between(bands, shares, limit, max(histories // DRAWN_AGAIN, 20), rng, accounts, cases)
    return FalseCases(
        histories, accounts, total, minutes, cases, cases / histories, low, high, dict(sorted(by_quality.items()))
    )


def _between(
    bands: Mapping[tuple[str, int], Sequence[Labelled]], shares: NDArray[np.float64], limit: float, histories: int,
    rng: np.random.Generator, accounts: int, cases: int,
) -> tuple[float, float]:  # fmt: skip
    """The interval of the share with a case: people drawn again, and a few histories of each drawing."""
    none = 1.0 - 0.05 ** (1.0 / accounts) if accounts else 1.0
    if not cases:
        return 0.0, none
    drawn = []
    for _ in range(DRAWN_AGAIN):
        found = 0
        people = {key: [like[k] for k in rng.integers(0, len(like), len(like))] for key, like in bands.items()}
        keys = sorted(people)
        for _ in range(histories):
            like, chain = people[keys[int(rng.integers(0, len(keys)))]], Chain(shares)
            picks = rng.integers(0, len(like), int(rng.integers(1, LONGEST + 1))).tolist()
            found += any(chain.match(like[pick].stages).max() >= limit for pick in picks)
        drawn.append(found / histories)
    low, high = np.quantile(drawn, (0.025, 0.975)).tolist()
    return low, max(high, none)


def _band(skill: float) -> int:
    return min(int(max(skill, 0.0) * SKILL_BANDS), SKILL_BANDS - 1)
