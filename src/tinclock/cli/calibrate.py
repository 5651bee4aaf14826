"""`tinclock calibrate`: a table of weights from labelled recordings."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import tinclock
from tinclock.cli.case_options import store_at, table
from tinclock.cli.reading import console_for, json_option, opened, part, progress, recordings_argument, told_plainly

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.core.evidence.calibration import Play
    from tinclock.core.evidence.weights import Weights

EPILOG = """
\b
Examples:
  tinclock calibrate matches --out weights.json
      labels beside each recording
  tinclock calibrate matches --store cases --out w.json
      what reviewers decided, everybody else fair
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
@click.option("--note", default="", help="What the table should say of itself.")
@json_option
def calibrate(recordings: tuple[Path, ...], out: Path, store: str | None, note: str, as_json: bool) -> None:
    """Find out how often findings come to fair accounts, and what the best of them reach."""
    from tinclock.cases.figures import labels_of
    from tinclock.cases.review import CaseReview
    from tinclock.core.evidence.calibration import calibrate as from_plays
    from tinclock.core.evidence.weights import Provenance
    from tinclock.intake.weights_file import load_weights, save_weights
    from tinclock.recordings.labelled import labels_beside, plays_of, with_fair

    console = console_for(as_json)
    fair: list[Play] = []
    unfair: list[Play] = []
    with told_plainly():
        review = None if store is None else CaseReview(store_at(store))
        decided = None if review is None else labels_of(review)
        waiting = (
            frozenset() if review is None else frozenset(c.account for c in review.queue(("open", "waiting"), 10**9))
        )
        with progress(console, "reading") as show:
            for k, path in enumerate(recordings):
                known: Any = (
                    with_fair(labels_beside(path).of.values()) if decided is None else _Decided(decided, waiting)
                )
                good, bad = plays_of(path, known, part(show, k, len(recordings)))
                fair += good
                unfair += bad
        if not fair:
            raise click.ClickException("no fair account is labelled in these recordings; nothing can be calibrated")
        made_by = f"tinclock {tinclock.__version__} calibrate"
        minutes = [sum(sum(play.minutes.values()) for play in plays) for plays in (fair, unfair)]
        provenance = Provenance(
            made_by, len(recordings), len(fair), minutes[0], len(unfair), minutes[1], note, _footing(recordings)
        )
        weights = from_plays(fair, unfair, provenance, load_weights())
        save_weights(weights, out)
    if as_json:
        click.echo(
            json.dumps(
                {
                    "weights": str(out),
                    "fair_accounts": len(fair),
                    "fair_minutes": minutes[0],
                    "unfair_accounts": len(unfair),
                    "unfair_minutes": minutes[1],
                    "codes": sorted(weights.findings),
                },
                indent=2,
            )
        )
        return
    _print(console, weights, out)


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


def _print(console: Console, weights: Weights, out: Path) -> None:
    from tinclock.cases.kinds import words_of

    rows = table(
        "detector", "line", "average", "best of fair", "clumping", right=("average", "best of fair", "clumping")
    )
    for name, lines in weights.ceilings.items():
        unit = 1.0 if name == "claim_rate" else 100.0
        for line, row in lines.items():
            rows.add_row(
                words_of(name).title,
                line,
                f"{unit * row.typical:.2f}",
                f"{unit * row.share:.2f}",
                f"{row.clumping:.3f}",
            )
    console.print(rows)
    codes = table("finding", "means", "steady: a minute", "decibans", right=("steady: a minute", "decibans"))
    for code, lines_ in weights.findings.items():
        rate = lines_["steady"]["clear"]
        codes.add_row(code, words_of(code).title, f"{rate.fair_per_min:.3g}", f"{rate.decibans:.1f}")
    console.print(codes)
    told = weights.provenance
    console.print(
        f"weights {out}: {told.fair_accounts} fair accounts, {told.fair_minutes:.0f} minutes; "
        f"{told.unfair_accounts} unfair, {told.unfair_minutes:.0f} minutes",
        highlight=False,
        soft_wrap=True,
    )
