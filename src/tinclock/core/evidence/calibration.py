"""Calibration from labelled matches: the ceilings of honest accounts, and how often findings come to them.

A ceiling is the 99.9 % quantile of the share that honest accounts have in a match, estimated with their sampling error
taken out; where that lies below what the pooled count can exclude, the latter. On top comes headroom, for players and
lines that calibrating hasn't seen: the odds are raised by half, rates are doubled. What matches vary by goes into the
bets (see `bets`). Where too few accounts showed too little, there is no ceiling, and the detector says nothing.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.evidence.calibration_table import (
    BINS,
    LINES,
    SCHEMA,
    SLIGHT,
    Calibration,
    CalibrationSource,
    Ceiling,
    Rate,
    bin_of,
)
from tinclock.core.evidence.detectors import DETECTORS, Chances, gaze_trials, raised, shot_trials
from tinclock.core.evidence.evidence_timeline import MIN_STRETCH_S
from tinclock.core.evidence.live import INCIDENT_S
from tinclock.core.findings import FINDINGS

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.evidence.observe import GazeSamples, ShotTable
    from tinclock.core.findings import Finding

FAIR_QUANTILE, SURE = 0.999, 0.95
DISTANCES_M = (4.0, 8.0, 12.0, 18.0, 26.0, 1e9)
SPEEDS_M_S = (0.7, 2.0, 3.5, 1e9)
HEADROOM, RATE_HEADROOM = 1.5, 2.0
TOGETHER = 20
MIN_ACCOUNTS, MIN_TRIALS, MIN_SHOTS = 12, 60, 60
"""No ceiling is told from less play."""
BOOTSTRAP = 100
MIN_SHAPE, MAX_SHAPE, ENOUGH_INCIDENTS = 0.05, 20.0, 30.0
PRIOR_DECIBANS, HEAVIEST = 10.0, 30.0
"""Weight of an incident of a code that nobody showed, and the maximum."""
OFTEN = 3.0
"""A code tells something where it comes to cheating accounts so many times as often as to honest ones."""
NO_CHANCES = Chances((1e9,), (1e9,), {})


class MatchStats(NamedTuple):
    """Actions of one account in one match.

    minutes : by line class, float; incidents : by (code, line, bin)
    shots : (hit, weapon, distance, speed across) of each that `hit_fraction` counts
    shares : by (detector, line), [successes, trials]
    rates, seconds : claims a second, and how long, a stretch each
    windows : by detector, [successes, trials] of each stretch
    """

    account: str
    minutes: dict[str, float]
    incidents: Counter[tuple[str, str, str]]
    shots: list[tuple[float, str, float, float]]
    shares: dict[tuple[str, str], list[float]]
    rates: list[float]
    seconds: list[float]
    windows: dict[str, list[tuple[float, int]]] = {}  # noqa: RUF012 - never changed

    def shown(self, name: str) -> float:
        """Rate of a detector or code: its fraction, hits per shot, claims or incidents per minute."""
        if name == "hit_fraction":
            return sum(hit for hit, *_ in self.shots) / len(self.shots) if len(self.shots) >= MIN_SHOTS else 0.0
        if name == "claim_rate":
            return max(self.rates, default=0.0)
        mine = [sums for (what, _), sums in self.shares.items() if what == name]
        if mine:
            return sum(k for k, _ in mine) / sum(n for _, n in mine)
        incidents = sum(count for (code, _, _), count in self.incidents.items() if code == name)
        return incidents / max(sum(self.minutes.values()), 1e-9)

    def lacking(self, names: frozenset[str]) -> MatchStats:
        """The same without what it shows of some detectors and codes."""
        if not names:
            return self
        return self._replace(
            incidents=Counter({at: count for at, count in self.incidents.items() if at[0] not in names}),
            shots=[] if "hit_fraction" in names else self.shots,
            shares={at: sums for at, sums in self.shares.items() if at[0] not in names},
            rates=[] if "claim_rate" in names else self.rates,
            seconds=[] if "claim_rate" in names else self.seconds,
            windows={name: each for name, each in self.windows.items() if name not in names},
        )


class Collector:
    """Gathers the play of one match from what was seen of it."""

    def __init__(self, automatic: frozenset[str]) -> None:
        self.plays: dict[str, MatchStats] = {}
        self._automatic = automatic
        self._open: dict[tuple[str, str], tuple[float, str, str]] = {}

    def _play(self, account: str) -> MatchStats:
        return self.plays.setdefault(account, MatchStats(account, defaultdict(float), Counter(), [], {}, [], [], {}))

    def take(
        self, shots: ShotTable, gazes: GazeSamples, findings: Iterable[Finding], line_of: Mapping[str, str],
        accounts: Mapping[int, str], claims: Mapping[str, int], seconds: float,
    ) -> None:  # fmt: skip
        """A stretch of so many seconds.

        line_of : the class of each account's connection; accounts : of entities; claims : how many each account made
        """
        for account, line in line_of.items():
            self._play(account).minutes[line] += seconds / 60.0
            if seconds > MIN_STRETCH_S:
                self._play(account).rates.append(claims.get(account, 0) / seconds)
                self._play(account).seconds.append(seconds)
        for finding in findings:
            if finding.account in line_of:
                self._incident(finding, line_of[finding.account])
        for entity in np.unique(np.concatenate([shots.entity, gazes.entity])).tolist():
            account = accounts.get(entity, "")
            if account in line_of:
                self._entity(account, line_of[account], shots.rows(shots.entity == entity), gazes, entity)

    def _incident(self, finding: Finding, line: str) -> None:
        """As `LiveEvidence` counts them: over two seconds after its first finding, in the bin of its clearest one."""
        incidents, place, bin_ = self._play(finding.account).incidents, (finding.account, finding.code), bin_of(finding)
        began, then, clearest = self._open.get(place, (-math.inf, line, bin_))
        if finding.server_time >= began + INCIDENT_S:
            incidents[finding.code, line, bin_] += 1
            self._open[place] = (finding.server_time, line, bin_)
        elif bin_ != clearest == SLIGHT:
            incidents[finding.code, then, clearest] -= 1
            incidents[finding.code, then, bin_] += 1
            self._open[place] = (began, then, bin_)

    def _entity(self, account: str, line: str, mine: ShotTable, gazes: GazeSamples, entity: int) -> None:
        play = self._play(account)
        own = gazes.entity == entity
        part = type(gazes)(*[column[own] for column in gazes])
        trials = shot_trials(mine, NO_CHANCES, self._automatic) | gaze_trials(part, mine.time[mine.hit])
        for name, fresh in trials.items():
            if DETECTORS[name].family == "share" and len(fresh):
                sums = play.shares.setdefault((name, line), [0.0, 0.0])
                sums[0], sums[1] = sums[0] + float(fresh[:, 0].sum()), sums[1] + len(fresh)
                play.windows.setdefault(name, []).append((float(fresh[:, 0].sum()), len(fresh)))
        kind = np.array([k == "shot" for k in mine.kind], bool)
        for row in np.flatnonzero(kind & mine.visible & (mine.target > 0) & ~np.isnan(mine.cross_m_s)).tolist():
            play.shots.append(
                (float(mine.hit[row]), mine.weapon[row], float(mine.distance_m[row]), float(mine.cross_m_s[row]))
            )


def calibrate(
    honest: Sequence[MatchStats],
    cheating: Sequence[MatchStats],
    provenance: CalibrationSource,
    alike: Calibration | None = None,
) -> Calibration:
    """The table that follows from labelled play.

    alike : an older table, whose decibans stand where the new play says nothing
    """
    chances = _chances(honest)
    odds, sigma, effect = _odds(honest, chances)
    ceilings: dict[str, dict[str, Ceiling]] = {}
    for name, detector in DETECTORS.items():
        if detector.family == "share":
            lines = LINES if detector.per_line else ("all",)
            ceilings[name] = {line: _ceiling(honest, name, None if line == "all" else line) for line in lines}
        elif detector.family == "rate":
            ceilings[name] = {"all": _busiest(honest)}
    findings = _findings(honest, cheating, alike)
    shapes = {code: _shape(honest, code) for code in findings}
    return Calibration(SCHEMA, provenance, findings, ceilings, chances, odds, sigma, effect, shapes)


# -- shares -----------------------------------------------------------------------------------------------------


def _ceiling(plays: Sequence[MatchStats], name: str, line: str | None) -> Ceiling:
    rows = []
    for play in plays:
        mine = [sums for (what, where), sums in play.shares.items() if what == name and line in (None, where)]
        if mine:
            rows.append(np.sum(mine, 0))
    counts = np.array(rows, float).reshape(-1, 2)
    total = float(counts[:, 1].sum())
    if len(counts) < MIN_ACCOUNTS or total < MIN_TRIALS:
        return Ceiling(1.0, accounts=len(counts), trials=int(total))
    best, clumping, mean = _best(counts[:, 0], counts[:, 1])
    rng = np.random.default_rng(len(counts))
    again = [_best(*counts[rng.integers(0, len(counts), len(counts))].T)[0] for _ in range(BOOTSTRAP)]
    low, high = np.quantile(_headroom(np.array(again)), (0.025, 0.975)).tolist()
    share = float(_headroom(np.array([best]))[0])
    effect = round(_effect([play.windows.get(name, []) for play in plays]), 3)
    return Ceiling(share, clumping, mean, effect, len(counts), int(total), round(low, 5), round(high, 5))


def _effect(plays: Sequence[Sequence[tuple[float, int]]]) -> float:
    """By how much the counts of stretches vary more than if their trials knew nothing of each other.

    About each account's own mean; at least 1 (Kish's design effect, Survey Sampling, 1965).
    """
    off = expected = 0.0
    for each in plays:
        trials = sum(n for _, n in each)
        if len(each) < 3 or not trials:
            continue
        mean = sum(k for k, _ in each) / trials
        off += sum((k - n * mean) ** 2 for k, n in each) * len(each) / (len(each) - 1.0)
        expected += sum(n * mean * (1.0 - mean) for _, n in each)
    return max(off / expected, 1.0) if expected > 0.0 else 1.0


def _headroom(shares: NDArray[np.float64]) -> NDArray[np.float64]:
    return raised(shares, HEADROOM)


def _best(successes: NDArray[np.float64], trials: NDArray[np.float64]) -> tuple[float, float, float]:
    """The share that one honest account in a thousand exceeds in a match, how trials of a match clump, and the mean."""
    from scipy.special import betaincinv  # the beta distribution's quantiles

    total, count = float(trials.sum()), float(successes.sum())
    mean = count / total
    pooled = float(betaincinv(count + 1.0, max(total - count, 1.0), SURE))
    spread = max(mean * (1.0 - mean), 1e-12)
    # between matches: the variance of their shares less what sampling alone makes of it
    noise = float((spread * trials).sum())
    pairs = float((trials * (trials - 1.0)).sum())
    between = max(float(((successes - mean * trials) ** 2).sum()) - noise, 0.0) / max(pairs, 1.0)
    clumping = min(max(between / spread, 0.0), 0.9)
    if between <= 1e-12:
        return min(pooled, 1.0), clumping, mean
    size = max(spread / between - 1.0, 1e-3)
    quantile = float(betaincinv(mean * size, (1.0 - mean) * size, FAIR_QUANTILE))
    return min(max(pooled, quantile), 0.999), clumping, mean


def _chances(plays: Sequence[MatchStats]) -> Chances:
    """The population's chances of a hit, each cell with two shots' worth of its weapon's mean."""
    hits: dict[str, NDArray[np.float64]] = {}
    shape = (len(DISTANCES_M), len(SPEEDS_M_S))
    for play in plays:
        for hit, weapon, distance, cross in play.shots:
            cells = hits.setdefault(weapon, np.zeros((2, *shape)))
            row, column = int(np.searchsorted(DISTANCES_M, distance)), int(np.searchsorted(SPEEDS_M_S, cross))
            cells[:, row, column] += (hit, 1.0)
    table = {}
    for weapon, (hit, shot) in sorted(hits.items()):
        mean = (float(hit.sum()) + 1.0) / (float(shot.sum()) + 2.0)
        table[weapon] = np.round((hit + 2.0 * mean) / (shot + 2.0), 5).tolist()
    return Chances(DISTANCES_M, SPEEDS_M_S, table)


def hits_of(play: MatchStats, chances: Chances) -> NDArray[np.float64]:
    """(n, 3): `hit_fraction`'s trials of a play, whether each hit, 0, and the population's chance of it."""
    rows = [(hit, 0.0, chances.of(weapon, distance, cross)) for hit, weapon, distance, cross in play.shots]
    trials = np.array(rows, float).reshape(-1, 3)
    known: NDArray[np.float64] = trials[~np.isnan(trials[:, 2])]
    return known


def _odds(plays: Sequence[MatchStats], chances: Chances) -> tuple[float, float, float]:
    """Factor of the population's odds that one honest account in a thousand exceeds; the variation of their ln; the
    effect.
    """
    from scipy.optimize import brentq
    from scipy.special import ndtri  # the normal distribution's quantiles

    shifts, errors, off, expecting = [], [], 0.0, 0.0
    for play in plays:
        expected = np.array([chances.of(weapon, distance, cross) for _, weapon, distance, cross in play.shots])
        hit = np.array([hit for hit, *_ in play.shots], float)
        if len(hit) < MIN_SHOTS or not 0.0 < hit.mean() < 1.0:
            continue
        shift = float(brentq(lambda s, e=expected, h=hit: float(raised(e, math.exp(s)).sum() - h.sum()), -12.0, 12.0))
        fitted = raised(expected, math.exp(shift))
        shifts.append(shift)
        errors.append(1.0 / float((fitted * (1.0 - fitted)).sum()))
        cuts = range(0, len(hit) - TOGETHER + 1, TOGETHER)
        off += sum(float((hit[c : c + TOGETHER] - fitted[c : c + TOGETHER]).sum()) ** 2 for c in cuts)
        expecting += sum(float((fitted * (1.0 - fitted))[c : c + TOGETHER].sum()) for c in cuts)
    if len(shifts) < MIN_ACCOUNTS:
        return 1e6, 0.0, 1.0
    sigma = math.sqrt(max(float(np.var(shifts)) - float(np.mean(errors)), 0.0))
    effect = max(off / expecting, 1.0) if expecting > 0.0 else 1.0
    return float(HEADROOM * math.exp(np.mean(shifts) + ndtri(FAIR_QUANTILE) * sigma)), sigma, round(effect, 3)


def _busiest(plays: Sequence[MatchStats]) -> Ceiling:
    """The rate that one stretch of honest play in a thousand exceeds, and a quarter more."""
    rates = np.array([rate for play in plays for rate in play.rates] or [1e9])
    most = 1.25 * float(np.quantile(rates, FAIR_QUANTILE))
    return Ceiling(most, 0.0, float(rates.mean()), accounts=len(plays), trials=len(rates))


# -- findings ---------------------------------------------------------------------------------------------------


def _findings(
    honest: Sequence[MatchStats], cheating: Sequence[MatchStats], alike: Calibration | None
) -> dict[str, dict[str, dict[str, Rate]]]:
    out = {}
    for code in (code for code, kind in FINDINGS.items() if kind.title):
        table = {line: {bin_: _rate(honest, cheating, code, line, bin_, alike) for bin_ in BINS} for line in LINES}
        if any(rate.decibans > 0.0 for row in table.values() for rate in row.values()):
            out[code] = table
    return out


def _shape(plays: Sequence[MatchStats], code: str) -> float:
    """Spread of a code's incidents over matches: the shape of the gamma distribution of a match's rate.

    By moments, over lines by their own means. Few incidents say little, and then a match is taken to be as uneven as an
    exponential distribution is.
    """
    off = square = count = 0.0
    for line in LINES:
        minutes = np.array([play.minutes.get(line, 0.0) for play in plays])
        counts = np.array([sum(play.incidents[code, line, bin_] for bin_ in BINS) for play in plays], float)
        if minutes.sum() <= 0.0 or counts.sum() <= 0.0:
            continue
        due = counts.sum() / minutes.sum() * minutes
        off, square, count = (
            off + float(((counts - due) ** 2 - counts).sum()),
            square + float((due**2).sum()),
            (count + float(counts.sum())),
        )
    most = MAX_SHAPE if count >= ENOUGH_INCIDENTS else 1.0
    if off <= 0.0:
        return most
    return round(min(max(square / off, MIN_SHAPE), most), 3)


def _rate(
    honest: Sequence[MatchStats],
    cheating: Sequence[MatchStats],
    code: str,
    line: str,
    bin_: str,
    alike: Calibration | None,
) -> Rate:
    from scipy.special import gammaincinv  # the gamma distribution's quantiles

    minutes = np.array([play.minutes.get(line, 0.0) for play in honest])
    counts = np.array([play.incidents[code, line, bin_] for play in honest], float)
    total, count = float(minutes.sum()), float(counts.sum())
    if total <= 0.0:
        return Rate(1e9, 0.0)
    most = float(gammaincinv(count + 1.0, SURE)) / total
    mean = count / total
    between = max((float(((counts - mean * minutes) ** 2).sum()) - count) / float((minutes**2).sum()), 0.0)
    if between > 1e-12 and mean > 0.0:
        most = max(most, float(gammaincinv(mean**2 / between, FAIR_QUANTILE)) * between / mean)
    most *= RATE_HEADROOM
    often = _cheating_rate(cheating, code, bin_, most)
    if often is not None:
        decibans = 10.0 * math.log10(max(often / most, 1.0))
    elif alike is not None:  # nobody did that here: what an older table says of it, or a cautious guess
        held = alike.findings.get(code, {}).get(line, {}).get(bin_)
        decibans = held.decibans if held is not None else 0.0
    else:
        decibans = PRIOR_DECIBANS if count == 0.0 else 0.0
    had = float(f"{(counts > 0).mean():.4g}")
    return Rate(float(f"{most:.4g}"), round(min(decibans, HEAVIEST), 1), had, round(total, 1))


def _cheating_rate(cheating: Sequence[MatchStats], code: str, bin_: str, most: float) -> float | None:
    """Return incidents a minute of cheating accounts that show them much more often than honest ones; None for none.

    Over lines of all classes: what a liar does doesn't depend on its line.
    """
    rates = []
    for play in cheating:
        minutes = sum(play.minutes.values())
        count = sum(play.incidents[code, line, bin_] for line in LINES)
        if minutes > 0.0 and count / minutes > OFTEN * most:
            rates.append(count / minutes)
    return float(np.median(rates)) if rates else None
