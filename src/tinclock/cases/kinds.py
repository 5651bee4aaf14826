"""Kinds of evidence in plain words, with what else explains them, for somebody who didn't write the game."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.evidence.calibration_table import LINES
from tinclock.core.evidence.detectors import DETECTORS
from tinclock.core.evidence.exact import EXACT
from tinclock.core.findings import FINDINGS

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.evidence.calibration_table import Calibration


class EvidenceText(NamedTuple):
    """Meaning of a kind of evidence, and other explanations."""

    title: str
    benign: str


def evidence_text(kind: str) -> EvidenceText:
    """Return the meaning of a kind of evidence."""
    test = EXACT.get(kind) or DETECTORS.get(kind)
    if test is not None:
        return EvidenceText(test.title, test.benign)
    found = FINDINGS.get(kind)
    if found is None or not found.title:
        return EvidenceText(kind.replace("_", " "), "not known")
    return EvidenceText(found.title, found.otherwise)


SHOWN_DECIBANS = 1.0
"""Kinds of fewer decibans say nothing worth a line."""
STRENGTHS = ((10.0, "weak"), (20.0, "notable"), (40.0, "strong"))


def strength(decibans: float) -> str:
    """Return the strength in a word: weak below 10 decibans, notable below 20, strong below 40, overwhelming."""
    return next((word for below, word in STRENGTHS if decibans < below), "overwhelming")


def chance_of(decibans: float) -> str:
    """Return the bound on honest accounts that ever get so far, in words: for one kind of evidence, at any time."""
    return f"of honest accounts at most 1 in {10.0 ** (min(decibans, 90.0) / 10.0):,.0f} ever gets so far"


def null_of(kind: str) -> str:
    """Return the assumption that a kind makes about an honest player; empty for a finding's code."""
    test = EXACT.get(kind) or DETECTORS.get(kind)
    return "" if test is None else test.null


def exact_first(by_kind: Mapping[str, float]) -> list[tuple[str, float]]:
    """Kinds with what they weigh, the heaviest first, but exact tests before what had to be calibrated."""
    return sorted(by_kind.items(), key=lambda item: (item[0] not in EXACT, -item[1]))


def benign_fraction(kind: str, line: str, weights: Calibration) -> str:
    """Return the rate at which honest accounts on such a line show a kind, in words."""
    if kind in EXACT:
        return "this needs no figures about other players, only a client that works"
    rows = weights.findings.get(kind, {}).get(line if line in LINES else "rough")
    if rows:
        rate = sum(rate.honest_per_min for rate in rows.values())
        had = 100.0 * max(rate.benign for rate in rows.values())
        return f"on a {line} line {had:.0f} % of honest accounts show any; at most {rate:.2g} a minute are expected"
    ceilings = weights.ceilings.get(kind, {})
    ceiling = ceilings.get(line) or ceilings.get("all")
    if ceiling is None:
        return "no honest account is known to show it"
    if kind == "claim_rate":
        return f"honest accounts send {ceiling.typical:.0f} a second, the busiest {ceiling.share:.0f}"
    return f"honest accounts: {100.0 * ceiling.typical:.2g} % of times, the best of them {100.0 * ceiling.share:.2g} %"


def reason_of(by_kind: Mapping[str, float]) -> str:
    """Return the kind of evidence that a case is about: the heaviest exact test, else the heaviest of all; "" for none.

    The queue, the page, notices and lists all say this one.
    """
    speaking = {kind: decibans for kind, decibans in by_kind.items() if decibans >= SHOWN_DECIBANS}
    return next((kind for kind, _ in exact_first(speaking)), "")


def why_line(kinds: Mapping[str, float], match: str, at: float | None) -> str:
    """Return in one line why a case opened."""
    when = "" if at is None else f", {at:.0f} s into it"
    return f"{evidence_text(reason_of(kinds)).title}; reached the case threshold in {match}{when}"


def why_again(kinds: Mapping[str, float], before: str) -> str:
    """Return the line with the reason as it is now; where the threshold was reached stays as it was."""
    reached = before.rpartition("; ")[2].replace("crossed the line in", "reached the case threshold in")
    return f"{evidence_text(reason_of(kinds)).title}; {reached}"
