"""Content of a case page: the reason, other explanations, the shots that show it, and the data of its charts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from tinclock.cases.kinds import (
    SHOWN_DECIBANS,
    benign_fraction,
    chance_of,
    evidence_text,
    exact_first,
    null_of,
    reason_of,
    strength,
)
from tinclock.core.evidence.calibration_table import line_class
from tinclock.core.evidence.detectors import DETECTORS
from tinclock.core.evidence.exact import EXACT
from tinclock.core.plain import Fields
from tinclock.intake.calibration_file import load_calibration

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.cases.records import AccountReport
    from tinclock.core.evidence.calibration_table import Calibration

MAX_KINDS: Final = 8
SHOTS_A_KIND: Final = 2


def totals_of(dossier: AccountReport) -> list[tuple[str, float]]:
    """Kinds of evidence with their decibans over all matches: exact tests first, then the strongest."""
    total: dict[str, float] = {}
    for play in dossier.plays:
        for kind, decibans in play.course.kinds.items():
            total[kind] = total.get(kind, 0.0) + decibans
    if dossier.case is not None:  # what the case says of a kind is what the page says of it
        total = dossier.case.kinds
    shown = {kind: decibans for kind, decibans in total.items() if decibans >= SHOWN_DECIBANS}
    return exact_first(shown)[:MAX_KINDS]


def kinds_of(dossier: AccountReport, calibration: Calibration) -> list[Fields]:
    """The strongest kinds of evidence over all matches, in words."""
    line, out = line_of(dossier), []
    for kind, decibans in totals_of(dossier):
        words = evidence_text(kind)
        best = max((gain for _, gain in dossier.gains if gain.kind == kind), key=lambda g: g.decibans, default=None)
        out.append(
            {
                "kind": kind, "title": words.title, "benign": words.benign, "decibans": decibans,
                "strength": strength(decibans), "chance": chance_of(decibans), "exact": kind in EXACT,
                "honest": benign_fraction(kind, line, calibration), "null": null_of(kind),
                "count": dossier.counts.get(kind, 0), "best": _told(best) if best is not None else "",
            }
        )  # fmt: skip
    return out


def opening_of(dossier: AccountReport) -> str:
    """The first sentence of a page: what speaks most against the account, or that nothing does."""
    totals, peak = totals_of(dossier), peak_of(dossier)
    if not totals:
        return "Nothing speaks against this account."
    return f"{dossier.account.account} {evidence_text(reason_of(dict(totals))).title}: {strength(peak)} evidence."


def peak_of(dossier: AccountReport) -> float:
    """The most decibans that all evidence on the account came to: what its strength is told by, everywhere."""
    return dossier.account.peak if dossier.case is None else dossier.case.peak


def _told(gain: Any) -> str:
    if not gain.trials:
        quality = gain.connection_quality
        article = "an" if quality[:1] in "aeiou" else "a"
        return f"one incident on {article} {quality} connection" if quality else "one incident"
    count = round(gain.successes)
    if count > gain.trials:  # a count beside so many chances, not a share of them
        return f"strongest stretch: {count} in {gain.trials} chances"
    return f"strongest stretch: {count} of {gain.trials} speak for it"


def line_of(dossier: AccountReport) -> str:
    """The class of the account's line when it was last seen."""
    from tinclock.core.evidence.measured import MeasuredLine

    lines = [line for play in dossier.plays for line in play.course.connections]
    return line_class(MeasuredLine(lines[-1][1], lines[-1][2]) if lines else None)


def telling_shots(dossier: AccountReport, most: int) -> list[tuple[str, str, int]]:
    """(kind, match, ruling) of the shots that show most: those of the first reason first, a few of each kind."""
    rank = {kind: place for place, (kind, _) in enumerate(totals_of(dossier))}
    wanted: list[tuple[int, float, str, str, int]] = []
    for match, gain in dossier.gains:
        for number in gain.rulings[:2]:
            if number and gain.kind in rank:
                wanted.append((rank[gain.kind], -gain.decibans, gain.kind, match, number))
    out: list[tuple[str, str, int]] = []
    taken: dict[str, int] = {}
    for _, _, kind, match, number in sorted(wanted):
        if taken.get(kind, 0) < SHOTS_A_KIND and (match, number) not in [(m, n) for _, m, n in out]:
            taken[kind] = taken.get(kind, 0) + 1
            out.append((kind, match, number))
    return out[:most]


def calibration_of(dossier: AccountReport, given: Calibration | None) -> Calibration:
    """The table that a dossier is told by: the given one, else that of its last weighing, else the shipped one."""
    return given or dossier.calibration or load_calibration()


def charts_of(dossier: AccountReport, calibration: Calibration, limit: float) -> Fields:
    """Data of the page's charts: evidence by kind and the line over minutes of play, and fractions of detectors."""
    minutes, points, lines, ends = 0.0, [], [], []
    for play in dossier.plays:
        points += [(round(minutes + at / 60.0, 3), round(value, 2)) for at, value in play.course.points]
        lines += [(round(minutes + at / 60.0, 3), round(1e3 * trip, 1), round(1e3 * jit, 1))
                  for at, trip, jit in play.course.connections]  # fmt: skip
        minutes += max((at / 60.0 for at, _ in play.course.points), default=play.minutes)
        ends.append((round(minutes, 3), play.match))
    return {
        "points": points, "lines": lines, "ends": ends, "limit": limit, "kinds": _over_time(dossier),
        "aim": _aim(dossier, calibration),
    }  # fmt: skip


def _over_time(dossier: AccountReport) -> list[Fields]:
    """Decibans by kind over time, match after match, of the kinds that matter: a value for each of the points."""
    kinds = {kind for play in dossier.plays for kind in play.course.by_kind}
    out: list[Fields] = []
    for kind in sorted(kinds):
        before, values = 0.0, list[float]()
        for play in dossier.plays:
            course = play.course.by_kind.get(kind, [0.0] * len(play.course.points))
            values += [round(before + value, 2) for value in course]
            before += play.course.kinds.get(kind, 0.0)
        if before >= SHOWN_DECIBANS:
            out.append({"title": evidence_text(kind).title, "values": values, "last": before})
    return sorted(out, key=lambda row: -row["last"])[:4]


def _aim(dossier: AccountReport, calibration: Calibration) -> list[Fields]:
    """The account's shares against the population's, in percent."""
    total: dict[str, tuple[float, float]] = {}
    for play in dossier.plays:
        for name, (k, n) in play.course.aim.items():
            a, b = total.get(name, (0.0, 0.0))
            total[name] = (a + k, b + n)
    line, out = line_of(dossier), []
    for name, detector in DETECTORS.items():
        k, n = total.get(name, (0.0, 0.0))
        rows: Mapping[str, Any] = calibration.ceilings.get(name, {})
        ceiling = rows.get(line if detector.per_line else "all")
        if detector.family == "share" and n and ceiling is not None and ceiling.share < 1.0:
            out.append(
                {
                    "title": detector.title, "own": round(100.0 * k / n, 2), "trials": n,
                    "typical": round(100.0 * ceiling.typical, 2), "best": round(100.0 * ceiling.share, 2),
                }
            )  # fmt: skip
    return out


def facts_of(dossier: AccountReport, calibration: Calibration, limit: float) -> Fields:
    """Everything that the pages' template says of a dossier."""
    return {
        "dossier": dossier, "account": dossier.account, "case": dossier.case, "limit": limit,
        "opening": opening_of(dossier), "peak": peak_of(dossier), "kinds": kinds_of(dossier, calibration),
        "provenance": calibration.provenance,
        "common": [
            (play.match, ", ".join(evidence_text(kind).title for kind in play.course.common))
            for play in dossier.plays
            if play.course.common
        ],
        "muted": [(play.match, ", ".join(play.course.muted)) for play in dossier.plays if play.course.muted],
        "counts": [(code, evidence_text(code).title, count) for code, count in dossier.counts.items()],
        "strength": strength, "chance_of": chance_of,
    }  # fmt: skip
