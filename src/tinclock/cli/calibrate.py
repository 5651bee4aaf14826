"""`tinclock calibrate`: a calibration from labelled recordings."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec

import tinclock
from tinclock.cli.case_options import store_at, table
from tinclock.cli.reading import console_for, json_option, opened, part, progress, recordings_argument, told_plainly

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.core.evidence.calibration import MatchStats
    from tinclock.core.evidence.calibration_table import Calibration, Ceiling
    from tinclock.core.evidence.unlabelled import ExcludedAccount

EPILOG = """
\b
Examples:
  tinclock calibrate matches --out calibration.json
      labels beside each recording
  tinclock calibrate matches --store cases --out w.json
      what reviewers decided, everybody else honest
  tinclock calibrate matches --max-cheating-fraction 0.05 \\
      --out w.json
      nobody knows who was honest: who stands out is set
      aside, by name, and the rest are calibrated by
  tinclock weigh evening --calibration calibration.json

\b
Labels of MATCH are MATCH-truth/labels.json, with empty strengths for honest
accounts:
  [{"account": "beryl", "cheats": {}},
   {"account": "clover", "cheats": {"aim": 1}}]
The more honest play the better: nothing is known of what wasn't seen. Codes
that no cheating account shows keep the decibans of the table that ships.
"""


@click.command(epilog=EPILOG)
@recordings_argument
@click.option("--out", required=True, type=click.Path(path_type=Path), help="File for the calibration.")
@click.option(
    "--store",
    help="Case store with labels: confirmed accounts cheat, waiting ones are excluded, all others are honest.",
)
@click.option(
    "--max-cheating-fraction",
    "max_cheating_fraction",
    type=click.FloatRange(0.0, 0.3),
    metavar="SHARE",
    help="Without labels: largest fraction of accounts that cheat, such as 0.05.",
)
@click.option("--note", default="", help="Note that is saved in the calibration.")
@json_option
def calibrate(
    recordings: tuple[Path, ...],
    out: Path,
    store: str | None,
    max_cheating_fraction: float | None,
    note: str,
    as_json: bool,
) -> None:
    """Make a calibration from labelled matches: the findings and the best play of honest accounts."""
    from tinclock.core.evidence.calibration import calibrate as from_plays
    from tinclock.core.evidence.calibration_table import CalibrationSource
    from tinclock.core.evidence.unlabelled import calibrate_unlabelled
    from tinclock.intake.calibration_file import load_calibration, save_calibration

    if store is not None and max_cheating_fraction is not None:
        raise click.UsageError(
            "--store says who was honest, --max-cheating-fraction is for when nobody knows; give one of them"
        )
    console = console_for(as_json)
    with told_plainly():
        honest, cheating = _plays(console, recordings, store, max_cheating_fraction is not None)
        if not honest:
            raise click.ClickException("no honest account is labelled in these recordings; nothing can be calibrated")
        made_by = f"tinclock {tinclock.__version__} calibrate"
        minutes = [sum(sum(play.minutes.values()) for play in plays) for plays in (honest, cheating)]
        provenance = CalibrationSource(
            made_by, len(recordings), len(honest), minutes[0], len(cheating), minutes[1], note, _footing(recordings)
        )
        aside: tuple[ExcludedAccount, ...] = ()
        if max_cheating_fraction is None:
            calibration = from_plays(honest, cheating, provenance, load_calibration())
        else:
            found = calibrate_unlabelled(honest, max_cheating_fraction, provenance, load_calibration())
            aside, named = found.aside, {one.account for one in found.aside}
            kept = [play for play in honest if play.account not in named]
            calibration = msgspec.structs.replace(
                found.calibration,
                provenance=msgspec.structs.replace(
                    provenance, honest_accounts=len(kept), honest_minutes=sum(sum(p.minutes.values()) for p in kept),
                    cheating_accounts=len(honest) - len(kept),
                    note=f"{note} Without labels, at most {max_cheating_fraction:g} taken for cheating.".strip(),
                ),
            )  # fmt: skip
        save_calibration(calibration, out)
    if as_json:
        told = calibration.provenance
        report = {
            "calibration": str(out), "honest_accounts": told.honest_accounts, "honest_minutes": told.honest_minutes,
            "cheating_accounts": told.cheating_accounts, "cheating_minutes": told.cheating_minutes,
            "codes": sorted(calibration.findings), "aside": [one._asdict() for one in aside],
            "not_enough_play": _lacking(calibration),
        }  # fmt: skip
        click.echo(json.dumps(report, indent=2))
        return
    _print(console, calibration, out, aside)


def _plays(
    console: Console, recordings: tuple[Path, ...], store: str | None, unlabelled: bool
) -> tuple[list[MatchStats], list[MatchStats]]:
    from tinclock.cases.figures import labels_of
    from tinclock.cases.review import CaseReview
    from tinclock.recordings.labelled import labels_beside, plays_of, with_fair

    known: Any = None
    if store is not None:
        review = CaseReview(store_at(store, must_exist=True))
        waiting = frozenset(case.account for case in review.queue(("open", "waiting"), 10**9))
        known = _Decided(labels_of(review), waiting)
    both: tuple[list[MatchStats], list[MatchStats]] = ([], [])
    with progress(console, "reading") as show:
        for k, path in enumerate(recordings):
            labels = known if unlabelled or known is not None else with_fair(labels_beside(path).of.values())
            good, bad = plays_of(path, labels, part(show, k, len(recordings)))
            both[0].extend(good)
            both[1].extend(bad)
    return both


def _lacking(calibration: Calibration) -> list[str]:
    """Detectors of which there wasn't enough play to tell a ceiling, with the line where that matters."""
    return [
        name if line == "all" else f"{name} ({line})"
        for name, lines in calibration.ceilings.items()
        for line, row in lines.items()
        if _is_lacking(name, row)
    ]


def _is_lacking(name: str, row: Ceiling) -> bool:
    from tinclock.core.evidence.detectors import DETECTORS

    return DETECTORS[name].family == "share" and row.share >= 1.0


def _footing(recordings: tuple[Path, ...]) -> dict[str, str]:
    """The rules of all recordings; those of another game than the first are refused."""
    from tinclock.core.errors import EvidenceError
    from tinclock.core.evidence.calibrated_rules import calibrated_rules_of, differences

    calibrated_rules: dict[str, str] = {}
    for path in recordings:
        rules = opened(path, False).require_header().rules
        other = differences(calibrated_rules, rules)
        if other:
            raise EvidenceError(
                path, f"is of another game than {recordings[0]}: {', '.join(other)} differ; one at a time"
            )
        calibrated_rules = calibrated_rules or calibrated_rules_of(rules)
    return calibrated_rules


class _Decided(dict[str, bool]):
    """Reviewers' decisions as labels: confirmed is cheating, a case that waits is neither, all else is honest."""

    def __init__(self, decided: dict[str, bool], waiting: frozenset[str]) -> None:
        super().__init__({account: not confirmed for account, confirmed in decided.items()})
        self._waiting = waiting

    def __contains__(self, account: object) -> bool:
        return account not in self._waiting

    def __missing__(self, account: str) -> bool:
        return True


def _print(console: Console, calibration: Calibration, out: Path, aside: tuple[ExcludedAccount, ...]) -> None:
    from rich.markup import escape

    from tinclock.cases.kinds import evidence_text

    rows = table(
        "detector", "connection", "average", "best of honest", "95 %", right=("average", "best of honest", "95 %")
    )
    for name, lines in calibration.ceilings.items():
        unit, digits = (1.0, 1) if name == "claim_rate" else (100.0, 2)
        for line, row in lines.items():
            if _is_lacking(name, row):
                rows.add_row(name, line, "-", "not enough play", "")
                continue
            best, low, high = (f"{unit * value:.{digits}f}" for value in (row.share, row.low, row.high))
            rows.add_row(name, line, f"{unit * row.typical:.{digits}f}", best, f"{low} to {high}" if row.low else "")
    console.print(rows)
    codes = table("finding", "steady: a minute", "decibans", right=("steady: a minute", "decibans"))
    for code, lines_ in calibration.findings.items():
        rate = lines_["steady"]["clear"]
        codes.add_row(code, f"{rate.honest_per_min:.3g}", f"{rate.decibans:.1f}")
    console.print(codes)
    for one in aside:
        console.print(
            f"[yellow]set aside[/]: {escape(one.account)}, {one.decibans:.0f} decibans: "
            f"{evidence_text(one.kind).title}",
            highlight=False,
        )
    told = calibration.provenance
    console.print(
        f"calibration {out}: {told.honest_accounts} honest accounts, {told.honest_minutes:.0f} minutes; "
        f"{told.cheating_accounts} cheating, {told.cheating_minutes:.0f} minutes",
        highlight=False,
        soft_wrap=True,
    )
