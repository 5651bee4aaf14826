"""The evidence of one match, account by account: findings as they come, shots and looks stretch by stretch.

What follows a finding of the same code within two seconds of the first belongs to the same incident, and the incident
weighs what its clearest finding does: a stalled line makes one burst, not twenty proofs. Two seconds after its first
finding an incident is over, whatever goes on.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np

from tinclock.core.errors import UnknownNameError
from tinclock.core.evidence.bets import HitsBet, IncidentBet, ShareBet, expected
from tinclock.core.evidence.calibrated_rules import differences, muted_by
from tinclock.core.evidence.calibration_table import LINES, SLIGHT, Ceiling, bin_of
from tinclock.core.evidence.detectors import DETECTORS, gaze_trials, rate_p, shot_trials
from tinclock.core.evidence.eprocess import DECIBAN, KindEvidence, e_of_p
from tinclock.core.evidence.exact import EXACT, ExactTests

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

    from numpy.typing import NDArray

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.exact import Moved
    from tinclock.core.evidence.observe import GazeSamples, ShotTable
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import Rules

INCIDENT_S = 2.0
KEY_SHOTS = 6
ENOUGH_ACCOUNTS = 3
"""In a match of fewer nothing can be said about what is usual in it."""
OVER_USUAL = 1.5
"""An honest account claims at most so many times as often as half of the match does."""
UNKNOWN = Ceiling(1.0)
"""Of a detector that wasn't calibrated: nothing is beyond it."""


class EvidenceChange(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that moved the evidence of an account.

    kind : a finding's code or a detector's name
    decibans : by how much; trials, successes : of a detector, in the stretch that moved it
    ceiling : what it bets against; connection_quality : of the account then, stored as `line`
    rulings : numbers of those that show it best
    """

    server_time: float
    account: str
    kind: str
    decibans: float
    trials: int = 0
    successes: float = 0.0
    ceiling: float | None = None
    connection_quality: str = msgspec.field(default="", name="line")
    rulings: tuple[int, ...] = ()


class _LiveAccount:
    __slots__ = ("bets", "exact", "first", "incidents", "last", "line", "minutes", "open", "rate", "until")

    def __init__(self, now: float) -> None:
        self.first = self.last = self.until = now
        self.line = "rough"
        self.exact = ExactTests()
        self.minutes: dict[str, float] = {}
        self.incidents: dict[str, IncidentBet] = {}
        self.open: dict[str, tuple[float, str, float]] = {}
        """By code: when its last incident began, its bin, and what it weighs."""
        self.bets: dict[tuple[str, str], ShareBet | HitsBet] = {}
        self.rate = 0.0


class LiveEvidence:
    """Watches one match. Give it findings as they come, and stretches of shots and looks; it says what they weigh.

    calibration : the calibrated table; rules : the match's
    mute : kinds that say nothing in this game, such as aims that the game itself guides

    Where the table was calibrated under other rules, what hangs on them is muted; `muted` says what differs.
    """

    def __init__(self, calibration: Calibration, rules: Rules, mute: Collection[str] = ()) -> None:
        self._weights, kinds = calibration, list(calibration.kinds())
        for kind in mute:
            if kind not in kinds:
                raise UnknownNameError("kind of evidence", kind, kinds)
        self.muted = differences(calibration.provenance.calibrated_rules, rules)
        self._mute = frozenset(mute) | muted_by(self.muted, [kind for kind in kinds if kind not in EXACT])
        self._automatic = frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic)
        self._accounts: dict[str, _LiveAccount] = {}
        self._codes = sorted(calibration.findings)
        self._expected = {
            line: np.array([expected(calibration.findings[code][line]) for code in self._codes]).reshape(-1, 2)
            for line in LINES
        }

    @property
    def accounts(self) -> list[str]:
        """Everybody who was seen so far."""
        return sorted(self._accounts)

    def _account(self, name: str, now: float) -> _LiveAccount:
        found = self._accounts.get(name)
        if found is None:
            found = self._accounts[name] = _LiveAccount(now)
        found.last = max(found.last, now)
        return found

    def present(self, account: str, line: str, now: float) -> None:
        """An account plays on, over a line of a class; minutes count by the class that the line was of."""
        found = self._account(account, now)
        if now > found.until:
            found.minutes[found.line] = found.minutes.get(found.line, 0.0) + (now - found.until) / 60.0
            found.until = now
        found.line = line
        found.exact.goes_on(now)

    def finding(self, finding: Finding, ruling: int = 0) -> list[EvidenceChange]:
        """Weigh one finding. It may move an exact test and the weight of its code, or nothing."""
        if not finding.account:
            return []
        found = self._account(finding.account, finding.server_time)
        moved = found.exact.finding(finding)
        gains = []
        if moved is not None and moved.name not in self._mute:
            gains.append(_gain(finding.server_time, finding.account, found.line, moved, (ruling,)))
        more = self._incident(found, finding)
        if more != 0.0:
            gains.append(
                EvidenceChange(
                    finding.server_time,
                    finding.account,
                    finding.code,
                    more,
                    connection_quality=found.line,
                    rulings=(ruling,),
                )
            )
        return gains

    def _incident(self, found: _LiveAccount, finding: Finding) -> float:
        """Decibans by which a finding moves the incident that it belongs to, or begins."""
        rows = self._weights.findings.get(finding.code)
        if rows is None or finding.code in self._mute:
            return 0.0
        bet = found.incidents.get(finding.code)
        if bet is None:
            bet = found.incidents[finding.code] = IncidentBet(self._weights.shape(finding.code))
        bin_, at = bin_of(finding), finding.server_time
        weight = rows[found.line][bin_].decibans
        began, clearest, counted = found.open.get(finding.code, (-np.inf, "", 0.0))
        if at >= began + INCIDENT_S:
            bet.incident(weight)
            found.open[finding.code] = (at, bin_, weight)
            return weight
        if bin_ != clearest == SLIGHT:
            bet.weighs_more(weight - counted)
            found.open[finding.code] = (began, bin_, weight)
            return weight - counted
        return 0.0

    def shots(self, shots: ShotTable, accounts: Mapping[int, str], now: float) -> list[EvidenceChange]:
        """Take in what was seen of shots; accounts : of entities."""
        gains: list[EvidenceChange] = []
        for entity in np.unique(shots.entity).tolist():
            mine = shots.rows(shots.entity == entity)
            name = accounts.get(entity, "")
            if name:
                found = self._account(name, now)
                gains += [
                    _gain(now, name, found.line, moved, moved.rulings)
                    for moved in found.exact.shots(mine)
                    if moved.name not in self._mute
                ]
                trials = shot_trials(mine, self._weights.chances, self._automatic)
                gains += self._test(name, trials, now)
        return gains

    def gazes(
        self, gazes: GazeSamples, shots: ShotTable, accounts: Mapping[int, str], now: float
    ) -> list[EvidenceChange]:
        """Take in where players looked, and when they did damage."""
        gains: list[EvidenceChange] = []
        for entity in np.unique(gazes.entity).tolist():
            mine = gazes.entity == entity
            name = accounts.get(entity, "")
            if name:
                part = type(gazes)(*[column[mine] for column in gazes])
                damaged = shots.time[(shots.entity == entity) & shots.hit]
                gains += self._test(name, gaze_trials(part, damaged), now)
        return gains

    def claims(self, counts: Mapping[str, int], seconds: float, now: float) -> list[EvidenceChange]:
        """Take in how many claims each account made in so much time.

        How often clients report is the game's own matter: an account is held against what is usual in this match.
        """
        gains: list[EvidenceChange] = []
        usual = float(np.median(list(counts.values()))) / seconds if len(counts) >= ENOUGH_ACCOUNTS else 0.0
        for account, count in counts.items():
            gains += self._test(account, {"claim_rate": np.array([[float(count), seconds, usual]])}, now)
        return gains

    def _test(self, account: str, trials: Mapping[str, NDArray[np.float64]], now: float) -> list[EvidenceChange]:
        found = self._account(account, now)
        told = {name: fresh for name, fresh in trials.items() if len(fresh) and name not in self._mute}
        return [self._bet(account, found, name, fresh, now) for name, fresh in told.items()]

    def _bet(
        self, account: str, found: _LiveAccount, name: str, trials: NDArray[np.float64], now: float
    ) -> EvidenceChange:
        """Bet on some trials of one detector."""
        detector, calibration = DETECTORS[name], self._weights
        line = found.line if detector.per_line else "all"
        ceiling = calibration.ceilings.get(name, {}).get(line, UNKNOWN)
        if detector.family == "rate":
            return self._rate(account, found, trials, ceiling, now)
        bet = found.bets.get((name, line))
        if bet is None:
            hits = detector.family == "hits"
            bet = (
                HitsBet(calibration.odds, calibration.odds_sigma, calibration.odds_effect)
                if hits
                else ShareBet(ceiling)
            )
            found.bets[name, line] = bet
        moved = bet.take(trials)
        shown = trials[(trials[:, 0] > 0) & (trials[:, 1] > 0), 1].astype(int)[:KEY_SHOTS].tolist()
        return EvidenceChange(
            now, account, name, moved / DECIBAN, len(trials), float(trials[:, 0].sum()),
            calibration.odds if detector.family == "hits" else ceiling.share, found.line, tuple(shown),
        )  # fmt: skip

    @staticmethod
    def _rate(
        account: str, found: _LiveAccount, trials: NDArray[np.float64], ceiling: Ceiling, now: float
    ) -> EvidenceChange:
        count, seconds = float(trials[:, 0].sum()), float(trials[:, 1].sum())
        most = max(ceiling.share, OVER_USUAL * float(trials[:, 2].mean()))
        log_e = e_of_p(rate_p(count, seconds, most))
        found.rate += log_e
        return EvidenceChange(now, account, "claim_rate", log_e / DECIBAN, len(trials), count, most, found.line)

    def now(self, account: str) -> dict[str, float]:
        """Ln of this match's product of e-values, by kind."""
        found = self._accounts[account]
        out = {name: 0.0 if name in self._mute else log_e for name, log_e in found.exact.now().items()}
        due = np.zeros((len(self._codes), 2))
        for line, minutes in found.minutes.items():
            due += self._expected[line] * minutes
        for code, (honest, bet) in zip(self._codes, due.tolist(), strict=True):
            if code in self._mute:
                continue
            mine = found.incidents.get(code)
            out[code] = (mine or IncidentBet(self._weights.shape(code))).log_e(honest, bet)
        for (name, _), one in found.bets.items():
            out[name] = out.get(name, 0.0) + one.log_e
        if found.rate:
            out["claim_rate"] = found.rate
        return out


def _gain(now: float, account: str, line: str, moved: Moved, rulings: tuple[int, ...]) -> EvidenceChange:
    decibans = moved.log_e / DECIBAN
    return EvidenceChange(
        now, account, moved.name, decibans, moved.trials, moved.successes, connection_quality=line, rulings=rulings
    )


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
    """State of a kind of evidence without earlier matches: its shares, each still at 1."""
    return float(np.log(1.0 - 1.0 / (matches + 1.0))) if matches else -np.inf
