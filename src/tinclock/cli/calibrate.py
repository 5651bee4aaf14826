"""`tinclock calibrate`: a table of weights from labelled recordings."""

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

    from tinclock.core.evidence.calibration import Play
    from tinclock.core.evidence.unlabelled import SetAside
    from tinclock.core.evidence.weights import Ceiling, Weights

EPILOG = """
\b
Examples:
  tinclock calibrate matches --out weights.json
      labels beside each recording
  tinclock calibrate matches --store cases --out w.json
      what reviewers decided, everybody else fair
  tinclock calibrate matches --at-most-unfair 0.05 \\
      --out w.json
      nobody knows who was fair: who stands out is set
      aside, by name, and the rest are calibrated by
  tinclock weigh evening --weights weights.json

\b
Labels of MATCH are MATCH-truth/labels.json, with empty dials for fair
accounts:
  [{"account": "beryl", "dials": {}},
   {"account": "clover", "dials": {"aim": 1}}]
The more fair play the better: nothing is known of what wasn't seen. Codes
that no unfair account shows keep the decibans of the table that ships.
"""


@click.command(epilog=EPILOG)
@recordings_argument
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The table to write.")
@click.option(
    "--store",
    help="A case store: confirmed accounts are unfair, those whose case waits are left out, all others are fair.",
)
@click.option(
    "--at-most-unfair",
    type=click.FloatRange(0.0, 0.3),
    metavar="SHARE",
    help="Without labels: at most this share of accounts is unfair, say 0.05.",
)
@click.option("--note", default="", help="What the table should say of itself.")
@json_option
def calibrate(
    recordings: tuple[Path, ...], out: Path, store: str | None, at_most_unfair: float | None, note: str, as_json: bool
) -> None:
    """Find out how often findings come to fair accounts, and what the best of them reach."""
    from tinclock.core.evidence.calibration import calibrate as from_plays
    from tinclock.core.evidence.unlabelled import calibrate_unlabelled
    from tinclock.core.evidence.weights import Provenance
    from tinclock.intake.weights_file import load_weights, save_weights

    if store is not None and at_most_unfair is not None:
        raise click.UsageError("--store says who was fair, --at-most-unfair is for when nobody knows; give one of them")
    console = console_for(as_json)
    with told_plainly():
        fair, unfair = _plays(console, recordings, store, at_most_unfair is not None)
        if not fair:
            raise click.ClickException("no fair account is labelled in these recordings; nothing can be calibrated")
        made_by = f"tinclock {tinclock.__version__} calibrate"
        minutes = [sum(sum(play.minutes.values()) for play in plays) for plays in (fair, unfair)]
        provenance = Provenance(
            made_by, len(recordings), len(fair), minutes[0], len(unfair), minutes[1], note, _footing(recordings)
        )
        aside: tuple[SetAside, ...] = ()
        if at_most_unfair is None:
            weights = from_plays(fair, unfair, provenance, load_weights())
        else:
            found = calibrate_unlabelled(fair, at_most_unfair, provenance, load_weights())
            aside, named = found.aside, {one.account for one in found.aside}
            kept = [play for play in fair if play.account not in named]
            weights = msgspec.structs.replace(
                found.weights,
                provenance=msgspec.structs.replace(
                    provenance, fair_accounts=len(kept), fair_minutes=sum(sum(p.minutes.values()) for p in kept),
                    unfair_accounts=len(fair) - len(kept),
                    note=f"{note} Without labels, at most {at_most_unfair:g} taken for unfair.".strip(),
                ),
            )  # fmt: skip
        save_weights(weights, out)
    if as_json:
        told = weights.provenance
        report = {
            "weights": str(out), "fair_accounts": told.fair_accounts, "fair_minutes": told.fair_minutes,
            "unfair_accounts": told.unfair_accounts, "unfair_minutes": told.unfair_minutes,
            "codes": sorted(weights.findings), "aside": [one._asdict() for one in aside],
            "not_enough_play": _lacking(weights),
        }  # fmt: skip
        click.echo(json.dumps(report, indent=2))
        return
    _print(console, weights, out, aside)


def _plays(
    console: Console, recordings: tuple[Path, ...], store: str | None, unlabelled: bool
) -> tuple[list[Play], list[Play]]:
    from tinclock.cases.figures import labels_of
    from tinclock.cases.review import CaseReview
    from tinclock.recordings.labelled import labels_beside, plays_of, with_fair

    known: Any = None
    if store is not None:
        review = CaseReview(store_at(store, must_exist=True))
        waiting = frozenset(case.account for case in review.queue(("open", "waiting"), 10**9))
        known = _Decided(labels_of(review), waiting)
    both: tuple[list[Play], list[Play]] = ([], [])
    with progress(console, "reading") as show:
        for k, path in enumerate(recordings):
            labels = known if unlabelled or known is not None else with_fair(labels_beside(path).of.values())
            good, bad = plays_of(path, labels, part(show, k, len(recordings)))
            both[0].extend(good)
            both[1].extend(bad)
    return both


def _lacking(weights: Weights) -> list[str]:
    """Detectors of which there wasn't enough play to tell a ceiling, with the line where that matters."""
    return [
        name if line == "all" else f"{name} ({line})"
        for name, lines in weights.ceilings.items()
        for line, row in lines.items()
        if _is_lacking(name, row)
    ]


def _is_lacking(name: str, row: Ceiling) -> bool:
    from tinclock.core.evidence.detectors import DETECTORS

    return DETECTORS[name].family == "share" and row.share >= 1.0


def _footing(recordings: tuple[Path, ...]) -> dict[str, str]:
    """The rules of all recordings; those of another game than the first are refused."""
    from tinclock.core.errors import EvidenceError
    from tinclock.core.evidence.footing import differences, footing_of

    footing: dict[str, str] = {}
    for path in recordings:
        rules = opened(path, False).require_header().rules
        other = differences(footing, rules)
        if other:
            raise EvidenceError(
                path, f"is of another game than {recordings[0]}: {', '.join(other)} differ; one at a time"
            )
        footing = footing or footing_of(rules)
    return footing


class _Decided(dict[str, bool]):
    """Reviewers' decisions as labels: confirmed is unfair, a case that waits is neither, all else is fair."""

    def __init__(self, decided: dict[str, bool], waiting: frozenset[str]) -> None:
        super().__init__({account: not confirmed for account, confirmed in decided.items()})
        self._waiting = waiting

    def __contains__(self, account: object) -> bool:
        return account not in self._waiting

    def __missing__(self, account: str) -> bool:
        return True


def _print(console: Console, weights: Weights, out: Path, aside: tuple[SetAside, ...]) -> None:
    from rich.markup import escape

    from tinclock.cases.kinds import words_of

    rows = table("detector", "line", "average", "best of fair", "95 %", right=("average", "best of fair", "95 %"))
    for name, lines in weights.ceilings.items():
        unit, digits = (1.0, 1) if name == "claim_rate" else (100.0, 2)
        for line, row in lines.items():
            if _is_lacking(name, row):
                rows.add_row(name, line, "-", "not enough play", "")
                continue
            best, low, high = (f"{unit * value:.{digits}f}" for value in (row.share, row.low, row.high))
            rows.add_row(name, line, f"{unit * row.typical:.{digits}f}", best, f"{low} to {high}" if row.low else "")
    console.print(rows)
    codes = table("finding", "steady: a minute", "decibans", right=("steady: a minute", "decibans"))
    for code, lines_ in weights.findings.items():
        rate = lines_["steady"]["clear"]
        codes.add_row(code, f"{rate.fair_per_min:.3g}", f"{rate.decibans:.1f}")
    console.print(codes)
    for one in aside:
        console.print(
            f"[yellow]set aside[/]: {escape(one.account)}, {one.decibans:.0f} decibans: it {words_of(one.kind).title}",
            highlight=False,
        )
    told = weights.provenance
    console.print(
        f"weights {out}: {told.fair_accounts} fair accounts, {told.fair_minutes:.0f} minutes; "
        f"{told.unfair_accounts} unfair, {told.unfair_minutes:.0f} minutes",
        highlight=False,
        soft_wrap=True,
    )
