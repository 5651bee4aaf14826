"""Calibrating: what fair accounts reach and how often findings come to them, from matches whose accounts are labelled.

A ceiling is the 99.9 % quantile of the share that fair accounts have in the long run, estimated with their sampling
error taken out; where that lies below what the pooled count can exclude, the latter. On top comes headroom, for players
and lines that calibrating hasn't seen: the odds are raised by half, rates are doubled.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.evidence.course import LEAST_STRETCH_S
from tinclock.core.evidence.detectors import DETECTORS, Chances, gaze_trials, raised, shot_trials
from tinclock.core.evidence.live import HEAVIEST, INCIDENT_S
from tinclock.core.evidence.weights import BINS, LINES, SCHEMA, Ceiling, Provenance, Rate, Weights, bin_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.evidence.observe import Gazes, Shots
    from tinclock.core.findings import Finding

FAIR_QUANTILE, SURE = 0.999, 0.95
DISTANCES_M = (4.0, 8.0, 12.0, 18.0, 26.0, 1e9)
SPEEDS_M_S = (0.7, 2.0, 3.5, 1e9)
HEADROOM, RATE_HEADROOM = 1.5, 2.0
OFTEN = 3.0
"""A code tells something where it comes to unfair accounts so many times as often as to fair ones."""
NO_CHANCES = Chances((1e9,), (1e9,), {})


class Play(NamedTuple):
    """What one account did in one match.

    minutes : by line class, float; incidents : by (code, line, bin)
    shots : (line, hit, weapon, distance, speed across) of each that `hit_share` counts
    windows : by detector, (line, trials) of each window
    """

    account: str
    minutes: dict[str, float]
    incidents: Counter[tuple[str, str, str]]
    shots: list[tuple[str, float, str, float, float]]
    windows: dict[str, list[tuple[str, NDArray[np.float64]]]]


class Collector:
    """Gathers the play of one match from what was seen of it."""

    def __init__(self, automatic: frozenset[str]) -> None:
        self.plays: dict[str, Play] = {}
        self._automatic = automatic
        self._last: dict[tuple[str, str], float] = {}
        self._open: dict[tuple[str, str], list[NDArray[np.float64]]] = {}

    def _play(self, account: str) -> Play:
        return self.plays.setdefault(account, Play(account, defaultdict(float), Counter(), [], {}))

    def take(
        self, shots: Shots, gazes: Gazes, findings: Iterable[Finding], line_of: Mapping[str, str],
        accounts: Mapping[int, str], claims: Mapping[str, int], seconds: float,
    ) -> None:  # fmt: skip
        """A stretch of so many seconds.

        line_of : the class of each account's connection; accounts : of entities; claims : how many each account made
        """
        for account, line in line_of.items():
            self._play(account).minutes[line] += seconds / 60.0
            if seconds > LEAST_STRETCH_S:
                window = np.array([[float(claims.get(account, 0)), seconds]])
                self._play(account).windows.setdefault("claim_rate", []).append((line, window))
        for finding in findings:
            if finding.account not in line_of:
                continue
            line = line_of[finding.account]
            before = self._last.get((finding.account, finding.code), -math.inf)
            self._last[finding.account, finding.code] = finding.server_time
            if finding.server_time >= before + INCIDENT_S:
                self._play(finding.account).incidents[finding.code, line, bin_of(finding)] += 1
        for entity in np.unique(np.concatenate([shots.entity, gazes.entity])).tolist():
            account = accounts.get(entity, "")
            if account in line_of:
                self._entity(account, line_of[account], shots.rows(shots.entity == entity), gazes, entity)

    def _entity(self, account: str, line: str, mine: Shots, gazes: Gazes, entity: int) -> None:
        play = self._play(account)
        own = gazes.entity == entity
        part = type(gazes)(*[column[own] for column in gazes])
        trials = shot_trials(mine, NO_CHANCES, self._automatic) | gaze_trials(part, mine.time[mine.hit])
        for name, fresh in trials.items():
            if name == "hit_share" or not len(fresh):
                continue
            window = self._open.setdefault((account, name), [])
            window.append(fresh)
            if sum(map(len, window)) >= DETECTORS[name].guard:
                play.windows.setdefault(name, []).append((line, np.concatenate(window)))
                window.clear()
        kind = np.array([k == "shot" for k in mine.kind], bool)
        for row in np.flatnonzero(kind & mine.visible & (mine.target > 0) & ~np.isnan(mine.cross_m_s)).tolist():
            play.shots.append(
                (line, float(mine.hit[row]), mine.weapon[row], float(mine.distance_m[row]), float(mine.cross_m_s[row]))
            )


def calibrate(
    fair: Sequence[Play], unfair: Sequence[Play], provenance: Provenance, alike: Weights | None = None
) -> Weights:
    """The table that follows from labelled play.

    alike : an older table, whose decibans stand where the new play says nothing
    """
    chances = _chances(fair)
    odds, clumping = _odds(fair, chances)
    ceilings: dict[str, dict[str, Ceiling]] = {}
    for name, detector in DETECTORS.items():
        if detector.family == "share":
            lines = LINES if detector.per_line else ("all",)
            ceilings[name] = {line: _ceiling(fair, name, None if line == "all" else line) for line in lines}
        elif detector.family == "rate":
            ceilings[name] = {"all": _busiest(fair, name)}
    return Weights(SCHEMA, provenance, _findings(fair, unfair, alike), ceilings, chances, odds, clumping)


# -- shares -----------------------------------------------------------------------------------------------------


def _ceiling(plays: Sequence[Play], name: str, line: str | None) -> Ceiling:
    windows: dict[str, list[tuple[float, int]]] = {}
    for place, play in enumerate(plays):
        found = [
            (float(trials[:, 0].sum()), len(trials))
            for where, trials in play.windows.get(name, [])
            if line is None or where == line
        ]
        if found:
            windows[f"{place}"] = found
    if not windows:
        return Ceiling(1.0)
    successes = np.array([sum(k for k, _ in each) for each in windows.values()])
    trials = np.array([sum(n for _, n in each) for each in windows.values()], float)
    clumping = _clumping(windows)
    mean = float(successes.sum() / trials.sum())
    best = _best(successes, trials, clumping)
    return Ceiling(float(raised(np.array([best]), HEADROOM)[0]), clumping, mean)


def _clumping(windows: Mapping[str, list[tuple[float, int]]]) -> float:
    """The intraclass correlation of trials in a window, about each account's own mean, from its moments."""
    off = expected = size = count = 0.0
    for each in windows.values():
        if len(each) < 3:
            continue
        n = sum(n for _, n in each)
        mean = sum(k for k, _ in each) / n
        off += sum((k - m * mean) ** 2 for k, m in each) * len(each) / (len(each) - 1.0)
        expected += sum(m * mean * (1.0 - mean) for _, m in each)
        size, count = size + n, count + len(each)
    if expected <= 0.0 or count == 0.0:
        return 0.0
    return float(min(max((off / expected - 1.0) / max(size / count - 1.0, 1.0), 0.0), 0.9))


def _best(successes: NDArray[np.float64], trials: NDArray[np.float64], clumping: float) -> float:
    """The share that one fair account in a thousand exceeds."""
    from scipy.stats import beta

    total, count = float(trials.sum()), float(successes.sum())
    mean = count / total
    pooled = float(beta.ppf(SURE, count + 1.0, max(total - count, 1.0)))
    spread = max(mean * (1.0 - mean), 1e-12)
    # between accounts: the variance of their shares less what sampling alone makes of it
    effect = 1.0 + clumping * 15.0
    noise = float((spread * effect * trials).sum())
    between = max((float(((successes - mean * trials) ** 2).sum()) - noise) / float((trials**2).sum()), 0.0)
    if between <= 1e-12:
        return min(pooled, 1.0)
    size = max(spread / between - 1.0, 1e-3)
    return min(max(pooled, float(beta.ppf(FAIR_QUANTILE, mean * size, (1.0 - mean) * size))), 0.999)


def _chances(plays: Sequence[Play]) -> Chances:
    """The population's chances of a hit, each cell with two shots' worth of its weapon's mean."""
    hits: dict[str, NDArray[np.float64]] = {}
    shape = (len(DISTANCES_M), len(SPEEDS_M_S))
    for play in plays:
        for _, hit, weapon, distance, cross in play.shots:
            cells = hits.setdefault(weapon, np.zeros((2, *shape)))
            row, column = int(np.searchsorted(DISTANCES_M, distance)), int(np.searchsorted(SPEEDS_M_S, cross))
            cells[:, row, column] += (hit, 1.0)
    table = {}
    for weapon, (hit, shot) in sorted(hits.items()):
        mean = (float(hit.sum()) + 1.0) / (float(shot.sum()) + 2.0)
        table[weapon] = np.round((hit + 2.0 * mean) / (shot + 2.0), 5).tolist()
    return Chances(DISTANCES_M, SPEEDS_M_S, table)


def _odds(plays: Sequence[Play], chances: Chances) -> tuple[float, float]:
    """How many times the population's odds one fair account in a thousand exceeds, and how hits clump."""
    from scipy.optimize import brentq
    from scipy.stats import norm

    shifts, errors, windows = [], [], {}
    guard = DETECTORS["hit_share"].guard
    for place, play in enumerate(plays):
        expected = np.array([chances.of(weapon, distance, cross) for _, _, weapon, distance, cross in play.shots])
        hit = np.array([hit for _, hit, *_ in play.shots], float)
        if len(hit) < 3 * guard or not 0.0 < hit.mean() < 1.0:
            continue
        shift = float(brentq(lambda s, e=expected, h=hit: float(raised(e, math.exp(s)).sum() - h.sum()), -12.0, 12.0))
        fitted = raised(expected, math.exp(shift))
        shifts.append(shift)
        errors.append(1.0 / float((fitted * (1.0 - fitted)).sum()))
        cuts = range(0, len(hit) - guard + 1, guard)
        windows[f"{place}"] = [(float(hit[c : c + guard].sum()), guard) for c in cuts]
    if len(shifts) < 3:
        return 1e6, 0.0
    clumping = _clumping(windows)
    wide = float(np.var(shifts)) - float(np.mean(errors)) * (1.0 + clumping * (guard - 1))
    return float(HEADROOM * math.exp(np.mean(shifts) + norm.ppf(FAIR_QUANTILE) * math.sqrt(max(wide, 0.0)))), clumping


def _busiest(plays: Sequence[Play], name: str) -> Ceiling:
    """The rate that one window of fair play in a thousand exceeds, and a quarter more."""
    rates = np.array(
        [float(t[:, 0].sum() / t[:, 1].sum()) for play in plays for _, t in play.windows.get(name, [])] or [1e9]
    )
    return Ceiling(1.25 * float(np.quantile(rates, FAIR_QUANTILE)), 0.0, float(rates.mean()))


# -- findings ---------------------------------------------------------------------------------------------------


def _findings(
    fair: Sequence[Play], unfair: Sequence[Play], alike: Weights | None
) -> dict[str, dict[str, dict[str, Rate]]]:
    codes = sorted({code for play in (*fair, *unfair) for code, _, _ in play.incidents})
    out = {}
    for code in codes:
        table = {line: {bin_: _rate(fair, unfair, code, line, bin_, alike) for bin_ in BINS} for line in LINES}
        if any(rate.decibans > 0.0 for row in table.values() for rate in row.values()):
            out[code] = table
    return out


def _rate(fair: Sequence[Play], unfair: Sequence[Play], code: str, line: str, bin_: str, alike: Weights | None) -> Rate:
    from scipy.stats import chi2, gamma

    minutes = np.array([play.minutes[line] for play in fair])
    counts = np.array([play.incidents[code, line, bin_] for play in fair], float)
    total, count = float(minutes.sum()), float(counts.sum())
    if total <= 0.0:
        return Rate(1e9, 0.0)
    most = float(chi2.ppf(SURE, 2.0 * (count + 1.0))) / 2.0 / total
    mean = count / total
    between = max((float(((counts - mean * minutes) ** 2).sum()) - count) / float((minutes**2).sum()), 0.0)
    if between > 1e-12 and mean > 0.0:
        most = max(most, float(gamma.ppf(FAIR_QUANTILE, mean**2 / between, scale=between / mean)))
    most *= RATE_HEADROOM
    often = _unfair_rate(unfair, code, bin_, most)
    held = alike.findings.get(code, {}).get(line, {}).get(bin_) if alike is not None else None
    decibans = held.decibans if often is None and held is not None else 10.0 * math.log10(max((often or 0.0) / most, 1))
    return Rate(float(f"{most:.4g}"), round(min(decibans, HEAVIEST), 1), float(f"{(counts > 0).mean():.4g}"))


def _unfair_rate(unfair: Sequence[Play], code: str, bin_: str, most: float) -> float | None:
    """Incidents a minute of those unfair accounts that show them much more often than fair ones; None: there are none.

    Over lines of all classes: what a liar does doesn't depend on its line.
    """
    rates = []
    for play in unfair:
        minutes = sum(play.minutes.values())
        count = sum(play.incidents[code, line, bin_] for line in LINES)
        if minutes > 0.0 and count / minutes > OFTEN * most:
            rates.append(count / minutes)
    return float(np.median(rates)) if rates else None
