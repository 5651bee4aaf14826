"""The table that says how much a finding weighs and what the best of honest accounts reach, with where it came from."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import msgspec

from tinclock.core.evidence.detectors import DETECTORS, Chances
from tinclock.core.evidence.exact import EXACT

if TYPE_CHECKING:
    from tinclock.core.evidence.measured import MeasuredLine
    from tinclock.core.findings import Finding

SCHEMA: Final = 2
LINES: Final = ("steady", "uneven", "rough")
"""Connections by their own jitter: below 2 ms, below 8 ms, above."""
STEADY_S, UNEVEN_S = 0.002, 0.008
SLIGHT: Final = "slight"
BINS: Final = (SLIGHT, "clear")
"""A finding is slight when its margin is less than half of its limit."""
EXACT_SHARE, FINDINGS_SHARE = 0.25, 0.375
"""The shares of the bet that lie on exact tests and on findings; the rest lies on detectors."""


class Rate(msgspec.Struct, frozen=True):
    """Rate of a finding, in incidents per minute of play, and the weight of one.

    honest_per_min : at most so often with honest accounts, the busiest included
    decibans : of one incident
    benign : the share of honest accounts that had one at all
    minutes : of honest play that it rests on
    """

    honest_per_min: float
    decibans: float
    benign: float = 0.0
    minutes: float = 0.0


class Ceiling(msgspec.Struct, frozen=True):
    """Rates of the best honest accounts.

    share : their long-run share, 1 where there wasn't enough play to tell
    clumping : by how much trials of one match go together (intraclass correlation)
    typical : the population's mean
    effect : how many trials weigh as much as one that knows nothing of those around it: shots of one burst are alike
    accounts, trials : what it rests on; low, high : the ceiling's 95 % interval, over whole accounts drawn again
    """

    share: float
    clumping: float = 0.0
    typical: float = 0.0
    effect: float = 1.0
    accounts: int = 0
    trials: int = 0
    low: float = 0.0
    high: float = 1.0


class CalibrationSource(msgspec.Struct, frozen=True):
    """Origin of a table.

    calibrated_rules : the rules that it was calibrated under, see `calibrated_rules.calibrated_rules_of`; empty for
    one that holds anywhere
    """

    made_by: str
    recordings: int
    honest_accounts: int
    honest_minutes: float
    cheating_accounts: int
    cheating_minutes: float
    note: str = ""
    calibrated_rules: dict[str, str] = {}


class Calibration(msgspec.Struct, frozen=True):
    """Everything that was calibrated.

    findings : by code, line and bin; shapes : by code, how evenly its incidents are spread over matches
    ceilings : by detector and line
    odds, odds_sigma, odds_effect : how many times the population's odds of a hit the best reach, by how much ln of a
        match's odds varies, and `Ceiling.effect` for hits
    """

    schema: int
    provenance: CalibrationSource
    findings: dict[str, dict[str, dict[str, Rate]]]
    ceilings: dict[str, dict[str, Ceiling]]
    chances: Chances
    odds: float
    odds_sigma: float
    odds_effect: float = 1.0
    shapes: dict[str, float] = {}

    def kinds(self) -> dict[str, float]:
        """Every kind of evidence with its share of the bet: exact tests first."""
        codes, detectors = sorted(self.findings), list(DETECTORS)
        each = {name: EXACT_SHARE / len(EXACT) for name in EXACT}
        each |= {code: FINDINGS_SHARE / len(codes) for code in codes}
        rest = 1.0 - sum(each.values())
        return {**each, **{name: rest / len(detectors) for name in detectors}}

    def weight(self, finding: Finding, line: str) -> float:
        """Decibans of one finding on a line of a class; 0 for a code that has no weight."""
        rows = self.findings.get(finding.code)
        return 0.0 if rows is None else rows[line][bin_of(finding)].decibans

    def where_lower(self, other: Calibration, times: float) -> Calibration:
        """This table, with the ceilings and rates of another where they lie lower by so many times (of the odds)."""

        def lower(mine: Ceiling, theirs: Ceiling) -> Ceiling:
            if mine.share >= 1.0 or theirs.share >= 1.0:
                return mine
            ratio = mine.share * (1.0 - theirs.share) / max((1.0 - mine.share) * theirs.share, 1e-12)
            return theirs if ratio > times else mine

        def rarer(mine: Rate, theirs: Rate) -> Rate:
            return theirs if mine.honest_per_min > times * theirs.honest_per_min else mine

        ceilings = {
            name: {line: lower(one, other.ceilings[name][line]) for line, one in lines.items()}
            for name, lines in self.ceilings.items()
        }
        findings = {
            code: {
                line: {bin_: rarer(rate, other.findings[code][line][bin_]) for bin_, rate in rates.items()}
                for line, rates in lines.items()
            }
            if code in other.findings
            else lines
            for code, lines in self.findings.items()
        }
        odds = other if self.odds > times * other.odds else self
        return msgspec.structs.replace(
            self, ceilings=ceilings, findings=findings, odds=odds.odds, odds_sigma=odds.odds_sigma
        )

    def shape(self, code: str) -> float:
        """Spread of a code's incidents over matches; 1 where nothing is known."""
        return self.shapes.get(code, 1.0)


def line_class(line: MeasuredLine | None) -> str:
    """Return the class of a connection, one of `LINES`; an unknown one is rough."""
    if line is None or line.jitter_s >= UNEVEN_S:
        return "rough"
    return "steady" if line.jitter_s < STEADY_S else "uneven"


def bin_of(finding: Finding) -> str:
    """Return the bin of a finding's margin, one of `BINS`; a finding without a limit is clear."""
    if finding.margin is None or not finding.limit:
        return "clear"
    return "slight" if abs(finding.margin) < 0.5 * abs(finding.limit) else "clear"
