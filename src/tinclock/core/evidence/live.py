"""The evidence of one match, account by account: findings as they come, detectors when enough was seen.

Findings. Incidents of one code come to a fair account at most `fair_per_min` times a minute. Betting that they come
more often, by the factor that one incident weighs, multiplies the bet by that factor with each and takes
exp(-(factor - 1) * fair_per_min * minutes) off: a likelihood ratio of two Poisson processes, at most 1 on average for
every rate up to the fair one (Cox and Lewis, The Statistical Analysis of Series of Events, 1966). What follows an
incident of the same code within two seconds belongs to it: a stalled line makes one burst, not twenty proofs.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np

from tinclock.core.evidence.detectors import (
    DETECTORS,
    gaze_trials,
    hits_p,
    link_p,
    rate_p,
    share_p,
    shot_trials,
)
from tinclock.core.evidence.eprocess import DECIBAN, KindEvidence, e_of_p
from tinclock.core.evidence.exact import ExactTests
from tinclock.core.evidence.weights import LINES, Ceiling, bin_of

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.evidence.exact import Moved
    from tinclock.core.evidence.observe import Gazes, Shots
    from tinclock.core.evidence.weights import Weights
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import Rules

INCIDENT_S = 2.0
HEAVIEST = 30.0
"""No incident counts for more decibans."""
KEY_SHOTS = 6
ENOUGH_ACCOUNTS = 3
"""In a match of fewer nothing can be said about what is usual in it."""
OVER_USUAL = 1.5
"""A fair account claims at most so many times as often as half of the match does."""
UNKNOWN = Ceiling(1.0)
"""Of a detector that wasn't calibrated: nothing is beyond it."""


class Gain(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that moved the evidence of an account.

    kind : a finding's code or a detector's name
    decibans : by how much; trials, successes, p : of a detector's window
    rulings : numbers of those that show it best
    """

    server_time: float
    account: str
    kind: str
    decibans: float
    trials: int = 0
    successes: float = 0.0
    p: float | None = None
    ceiling: float | None = None
    line: str = ""
    rulings: tuple[int, ...] = ()


class _Account:
    __slots__ = ("drifted", "exact", "first", "gained", "incidents", "last", "line", "tested", "windows")

    def __init__(self, now: float) -> None:
        self.first = self.last = now
        self.line = "rough"
        self.exact = ExactTests()
        self.gained: dict[str, float] = {}
        self.incidents: dict[str, tuple[float, float]] = {}
        self.drifted: dict[str, float] = {}
        self.tested: dict[str, float] = {}
        self.windows: dict[str, list[NDArray[np.float64]]] = {}


class LiveEvidence:
    """Watches one match. Give it findings as they come, and stretches of shots and looks; it says what they weigh.

    weights : the calibrated table; rules : the match's
    """

    def __init__(self, weights: Weights, rules: Rules) -> None:
        self._weights = weights
        self._automatic = frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic)
        self._accounts: dict[str, _Account] = {}
        self._drift = {
            line: np.array([weights.drift(code, line) for code in sorted(weights.findings)]) for line in LINES
        }
        self._codes = sorted(weights.findings)

    @property
    def accounts(self) -> list[str]:
        """Everybody who was seen so far."""
        return sorted(self._accounts)

    def _account(self, name: str, now: float) -> _Account:
        found = self._accounts.get(name)
        if found is None:
            found = self._accounts[name] = _Account(now)
        found.last = max(found.last, now)
        return found

    def present(self, account: str, line: str, now: float) -> None:
        """An account plays on, over a line of a class: what a minute takes off is taken by the class it was of."""
        found = self._account(account, now)
        since = found.drifted.get("", found.first)
        if now > since:
            minutes = (now - since) / 60.0
            found.drifted[found.line] = found.drifted.get(found.line, 0.0) + minutes
            found.drifted[""] = now
        found.line = line
        found.exact.goes_on(now)

    def finding(self, finding: Finding, ruling: int = 0) -> list[Gain]:
        """Weigh one finding. It may move an exact test and the weight of its code, or nothing."""
        if not finding.account:
            return []
        found = self._account(finding.account, finding.server_time)
        moved = found.exact.finding(finding)
        gains = [] if moved is None else [_gain(finding.server_time, finding.account, found.line, moved, (ruling,))]
        more = self._incident(found, finding)
        if more > 0.0:
            gains.append(
                Gain(finding.server_time, finding.account, finding.code, more, line=found.line, rulings=(ruling,))
            )
        return gains

    def _incident(self, found: _Account, finding: Finding) -> float:
        """Decibans that a finding adds to the incident that it belongs to."""
        rows = self._weights.findings.get(finding.code)
        if rows is None:
            return 0.0
        weight = min(rows[found.line][bin_of(finding)].decibans, HEAVIEST)
        since, counted = found.incidents.get(finding.code, (-np.inf, 0.0))
        more = weight
        if finding.server_time < since + INCIDENT_S:
            more = max(0.0, weight - counted)
            found.incidents[finding.code] = (finding.server_time, max(weight, counted))
        else:
            found.incidents[finding.code] = (finding.server_time, weight)
        if more > 0.0:
            found.gained[finding.code] = found.gained.get(finding.code, 0.0) + more * DECIBAN
        return more

    def shots(self, shots: Shots, accounts: Mapping[int, str], now: float) -> list[Gain]:
        """Take in what was seen of shots; accounts : of entities."""
        gains: list[Gain] = []
        for entity in np.unique(shots.entity).tolist():
            mine = shots.rows(shots.entity == entity)
            name = accounts.get(entity, "")
            if name:
                found = self._account(name, now)
                gains += [_gain(now, name, found.line, moved, moved.rulings) for moved in found.exact.shots(mine)]
                trials = shot_trials(mine, self._weights.chances, self._automatic)
                gains += self._test(name, trials, now)
        return gains

    def gazes(self, gazes: Gazes, shots: Shots, accounts: Mapping[int, str], now: float) -> list[Gain]:
        """Take in where players looked, and when they did damage."""
        gains: list[Gain] = []
        for entity in np.unique(gazes.entity).tolist():
            mine = gazes.entity == entity
            name = accounts.get(entity, "")
            if name:
                part = type(gazes)(*[column[mine] for column in gazes])
                damaged = shots.time[(shots.entity == entity) & shots.hit]
                gains += self._test(name, gaze_trials(part, damaged), now)
        return gains

    def claims(self, counts: Mapping[str, int], seconds: float, now: float) -> list[Gain]:
        """Take in how many claims each account made in so much time.

        How often clients report is the game's own matter: an account is held against what is usual in this match.
        """
        gains: list[Gain] = []
        usual = float(np.median(list(counts.values()))) / seconds if len(counts) >= ENOUGH_ACCOUNTS else 0.0
        for account, count in counts.items():
            gains += self._test(account, {"claim_rate": np.array([[float(count), seconds, usual]])}, now)
        return gains

    def _test(self, account: str, trials: Mapping[str, NDArray[np.float64]], now: float) -> list[Gain]:
        found, gains = self._account(account, now), []
        for name, fresh in trials.items():
            if not len(fresh):
                continue
            window = found.windows.setdefault(name, [])
            window.append(fresh)
            if sum(map(len, window)) >= DETECTORS[name].guard:
                gains.append(self._close(account, found, name, np.concatenate(window), now))
                window.clear()
        return gains

    def _close(self, account: str, found: _Account, name: str, trials: NDArray[np.float64], now: float) -> Gain:
        """Test one window of one detector."""
        detector, weights = DETECTORS[name], self._weights
        known = weights.ceilings.get(name, {}).get(found.line if detector.per_line else "all", UNKNOWN)
        ceiling = known.share
        shown: tuple[int, ...] = ()
        successes = 0.0
        if detector.family in ("share", "hits"):
            successes = float(trials[:, 0].sum())
            shown = tuple(trials[(trials[:, 0] > 0) & (trials[:, 1] > 0), 1].astype(int)[:KEY_SHOTS].tolist())
        if detector.family == "share":
            p = share_p(int(successes), len(trials), ceiling, known.clumping)
        elif detector.family == "hits":
            p, ceiling = hits_p(trials[:, 0], trials[:, 2], weights.odds, weights.odds_clumping), weights.odds
        elif detector.family == "rate":
            successes = float(trials[:, 0].sum())
            ceiling = max(ceiling, OVER_USUAL * float(trials[:, 2].mean()))
            p = rate_p(successes, float(trials[:, 1].sum()), ceiling)
        else:
            p, ceiling = link_p(trials), 0.0
        log_e = e_of_p(p)
        found.tested[name] = found.tested.get(name, 0.0) + log_e
        return Gain(now, account, name, log_e / DECIBAN, len(trials), successes, p, ceiling, found.line, shown)

    def now(self, account: str) -> dict[str, float]:
        """Ln of this match's product of e-values, by kind."""
        found = self._accounts[account]
        drift = np.zeros(len(self._codes))
        for line, minutes in found.drifted.items():
            if line:
                drift += self._drift[line] * minutes
        codes = {
            code: found.gained.get(code, 0.0) - taken for code, taken in zip(self._codes, drift.tolist(), strict=True)
        }
        return {**found.exact.now(), **codes, **found.tested}


def _gain(now: float, account: str, line: str, moved: Moved, rulings: tuple[int, ...]) -> Gain:
    decibans = moved.log_e / DECIBAN
    return Gain(now, account, moved.name, decibans, moved.trials, moved.successes, line=line, rulings=rulings)


def with_match(by_kind: Mapping[str, KindEvidence], now: Mapping[str, float]) -> dict[str, KindEvidence]:
    """Earlier matches' by_kind with a match that is under way."""
    matches = max((one.matches for one in by_kind.values()), default=0)
    out = dict(by_kind)
    for kind, log_e in now.items():
        out[kind] = by_kind.get(kind, KindEvidence(_idle(matches), matches))._replace(now=log_e)
    return out


def after_match(by_kind: Mapping[str, KindEvidence], now: Mapping[str, float]) -> dict[str, KindEvidence]:
    """The by_kind once a match is over, for the next one."""
    closed = with_match(by_kind, now)
    return {kind: one.next_match() for kind, one in closed.items()}


def _idle(matches: int) -> float:
    """What a kind that nothing was said of has begun in earlier matches: its shares, each still at 1."""
    return float(np.log(1.0 - 1.0 / (matches + 1.0))) if matches else -np.inf
