"""Calibrating from play of which nobody knows who was honest, if only most were.

First a table from the middle of the play: of each detector and code the accounts that show most are left out, as many
as may be cheating (the idea of an empirical null: Efron, Large-scale simultaneous hypothesis testing, J. Am. Stat.
Assoc. 99, 2004). By that table everybody is weighed, and accounts that have a case by it are set aside. Then again and
again: a table from all who aren't set aside, everybody weighed by it, until the same accounts are. So an account set
aside for being merely good comes back. At last no one account may lift a ceiling by itself.
"""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.evidence.bets import HitsBet, IncidentBet, ShareBet, expected
from tinclock.core.evidence.calibration import calibrate, hits_of
from tinclock.core.evidence.calibration_table import BINS
from tinclock.core.evidence.detectors import DETECTORS, rate_p
from tinclock.core.evidence.eprocess import KindEvidence, combined, e_of_p, limit_decibans

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping, Sequence

    from tinclock.core.evidence.calibration import MatchStats
    from tinclock.core.evidence.calibration_table import Calibration, CalibrationSource

ROUNDS = 12
LIFTED = 1.25
"""An account that raises the odds of a ceiling by so much is left out of that ceiling."""


class ExcludedAccount(NamedTuple):
    """An account treated as cheating. decibans : by the table that is left; kind : its strongest evidence"""

    account: str
    decibans: float
    kind: str


class UnlabelledResult(NamedTuple):
    """Result. rounds : number of times it was weighed again; stable : whether the last two set the same aside."""

    calibration: Calibration
    aside: tuple[ExcludedAccount, ...]
    rounds: int
    stable: bool


def weighed(play: MatchStats, calibration: Calibration) -> dict[str, float]:
    """Ln of a match's e-values by kind, as `LiveEvidence` has them at its end; what hangs on the match is left out.

    That is exact tests, and claim rates against what is usual in the match: here they are held against the table.
    """
    out: dict[str, float] = {}
    for code, lines in calibration.findings.items():
        bet, honest, most = IncidentBet(calibration.shape(code)), 0.0, 0.0
        for line, rates in lines.items():
            minutes, due = play.minutes.get(line, 0.0), expected(rates)
            honest, most = honest + due[0] * minutes, most + due[1] * minutes
            for bin_ in BINS:
                for _ in range(play.incidents[code, line, bin_]):
                    bet.incident(rates[bin_].decibans)
        out[code] = bet.log_e(honest, most)
    for (name, line), (successes, trials) in play.shares.items():
        ceiling = calibration.ceilings.get(name, {}).get(line if DETECTORS[name].per_line else "all")
        if ceiling is not None:
            share = ShareBet(ceiling)
            share.take_counts(successes, trials)
            out[name] = out.get(name, 0.0) + share.log_e
    aimed = hits_of(play, calibration.chances)
    if len(aimed):
        hits = HitsBet(calibration.odds, calibration.odds_sigma, calibration.odds_effect)
        hits.take(aimed)
        out["hit_fraction"] = hits.log_e
    max_per_s = calibration.ceilings["claim_rate"]["all"].share
    out["claim_rate"] = sum(
        e_of_p(rate_p(rate * seconds, seconds, max_per_s))
        for rate, seconds in zip(play.rates, play.seconds, strict=True)
    )
    return out


def standing(plays: Sequence[MatchStats], calibration: Calibration) -> dict[str, tuple[float, str]]:
    """By account, decibans over all its matches in a row, and the kind that speaks most against it."""
    shares, out = calibration.kinds(), {}
    for account, mine in _by_account(plays).items():
        by_kind: dict[str, KindEvidence] = {}
        for play in mine:
            for kind, log_e in weighed(play, calibration).items():
                by_kind[kind] = by_kind.get(kind, KindEvidence()).add(log_e).next_match()
        strongest = max(by_kind, key=lambda kind: by_kind[kind].log_e)
        out[account] = (combined(by_kind, shares), strongest)
    return out


def calibrate_unlabelled(
    plays: Sequence[MatchStats],
    max_cheating_fraction: float,
    provenance: CalibrationSource,
    alike: Calibration | None = None,
    alpha: float = 0.001,
) -> UnlabelledResult:
    """The table that follows from play without labels.

    max_cheating_fraction : which share of accounts may be cheating; alike : an older table, for codes that few showed
    alpha : accounts that have a case by it are set aside
    """
    limit, accounts = limit_decibans(alpha), _by_account(plays)
    most = int(max_cheating_fraction * len(accounts))
    table = calibrate(_middle(accounts, most), [], provenance, alike)
    aside: frozenset[str] = frozenset()
    stable, told, rounds = False, standing(plays, table), 0
    for rounds in range(1, ROUNDS + 1):
        over = sorted((account for account in told if told[account][0] >= limit), key=lambda a: -told[a][0])[:most]
        if stable := frozenset(over) == aside and rounds > 1:
            break
        aside = frozenset(over)
        table = _without_lifters(accounts, aside, provenance, alike)
        told = standing(plays, table)
    out = sorted((ExcludedAccount(account, *told[account]) for account in aside), key=lambda one: -one.decibans)
    return UnlabelledResult(table, tuple(out), rounds, stable)


def _by_account(plays: Sequence[MatchStats]) -> dict[str, list[MatchStats]]:
    out: dict[str, list[MatchStats]] = defaultdict(list)
    for play in plays:
        out[play.account].append(play)
    return out


def _middle(accounts: Mapping[str, Sequence[MatchStats]], most: int) -> list[MatchStats]:
    """All play, but of each detector and code without those accounts that show most of it."""
    names = {name for mine in accounts.values() for play in mine for name, _ in play.shares}
    codes = {code for mine in accounts.values() for play in mine for code, _, _ in play.incidents}
    without = {name: _most_of(accounts, name, most) for name in (*names, *codes, "hit_fraction", "claim_rate")}
    return [
        play.lacking(frozenset(name for name, tops in without.items() if account in tops))
        for account, mine in accounts.items()
        for play in mine
    ]


def _most_of(accounts: Mapping[str, Sequence[MatchStats]], name: str, most: int) -> Collection[str]:
    """The accounts that show most of a detector or code, by its share or rate."""
    shown = {account: sum(play.shown(name) for play in mine) / len(mine) for account, mine in accounts.items()}
    return sorted((account for account in shown if shown[account] > 0.0), key=lambda a: -shown[a])[:most]


def _without_lifters(
    accounts: Mapping[str, Sequence[MatchStats]],
    aside: frozenset[str],
    provenance: CalibrationSource,
    alike: Calibration | None,
) -> Calibration:
    """A table from all who aren't set aside; where one account lifts a ceiling by itself, without it there."""
    plays = [play for account, mine in accounts.items() if account not in aside for play in mine]
    cheating = [play for account in aside for play in accounts[account]]
    table = calibrate(plays, cheating, provenance, alike)
    honest = {account: mine for account, mine in accounts.items() if account not in aside}
    names = {name for play in plays for name, _ in play.shares} | {
        code for play in plays for code, _, _ in play.incidents
    }
    tops = {name: top for name in (*sorted(names), "hit_fraction") for top in _most_of(honest, name, 1)}
    less = calibrate(
        [play.lacking(frozenset(n for n, top in tops.items() if top == play.account)) for play in plays], cheating,
        provenance, alike,
    )  # fmt: skip
    return table.where_lower(less, LIFTED)
