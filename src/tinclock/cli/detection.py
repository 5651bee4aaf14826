"""`tinclock detection`: how good detection is, on recordings whose accounts are labelled."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.case_options import table, weights_at, weights_option
from tinclock.cli.reading import (
    console_for,
    counted,
    json_option,
    part,
    progress,
    recordings_argument,
    told_plainly,
    written,
)
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.core.evidence.quality import Labelled

EPILOG = """
\b
Examples:
  tinclock detection matches
      every kind and dial: share found, time to a case
  tinclock detection matches --figures docs
      and drawn: ROC, precision and recall, times
  tinclock detection matches --fair-histories 20000
      and how many fair accounts would ever get a case

\b
Needs the truth beside each recording (`tinclock play` writes it). Give
recordings that calibrating never saw.
"""


@click.command(epilog=EPILOG)
@recordings_argument
@click.option(
    "--alpha",
    default=0.001,
    show_default=True,
    type=click.FloatRange(1e-9, 0.5),
    help="The share of fair accounts that may ever get a case.",
)
@click.option(
    "--fair-histories",
    default=0,
    type=click.IntRange(0),
    help="Also put together so many histories of fair accounts, and count cases.",
)
@click.option("--seed", default=7, show_default=True, help="Of those histories.")
@click.option("--figures", type=click.Path(path_type=Path), help="Draw detection.png into this folder.")
@weights_option
@json_option
def detection(
    recordings: tuple[Path, ...],
    alpha: float,
    fair_histories: int,
    seed: int,
    figures: Path | None,
    weights_file: Path | None,
    as_json: bool,
) -> None:
    """Say what share of unfair accounts gets a case after how much play, and what share of fair ones."""
    import numpy as np

    from tinclock.core.evidence.eprocess import limit_decibans
    from tinclock.core.evidence.quality import curves, detection_rows, false_cases, peaks
    from tinclock.recordings.labelled import labelled_in, labels_beside, shares_of

    console, plays = console_for(as_json), list["Labelled"]()
    with told_plainly():
        weights = weights_at(weights_file)
        with progress(console, "weighing") as show:
            for k, path in enumerate(recordings):
                labels = labels_beside(path).of
                plays += labelled_in(path, labels, weights, part(show, k, len(recordings)))
    shares, limit = shares_of(weights), limit_decibans(alpha)
    fair, unfair = [p for p in plays if not p.dials], [p for p in plays if p.dials]
    rows = detection_rows(unfair, shares, limit)
    heights = peaks(fair, shares), peaks(unfair, shares)
    report: Fields = {
        "recordings": len(recordings), "alpha": alpha, "limit_decibans": limit,
        "fair_accounts": len(fair), "fair_minutes": sum(float(p.times_min[-1]) for p in fair if len(p.times_min)),
        "fair_with_case": int((heights[0] >= limit).sum()), "fair_highest": float(heights[0].max(initial=0.0)),
        "rows": [{**row._asdict(), "median_min": _or_none(row.median_min)} for row in rows],
        "curves": curves(*heights),
    }  # fmt: skip
    if fair_histories:
        with progress(console, "fair histories") as show:
            report["false_cases"] = false_cases(
                fair, shares, limit, fair_histories, np.random.default_rng(seed), show
            )._asdict()
    if figures is not None:
        from tinclock.report.detection_figure import draw_detection

        file = written(figures / "detection.png", lambda path: draw_detection(path, report, heights))
        report["figure"] = None if file is None else str(file)
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    _print(console, report)


def _or_none(value: float) -> float | None:
    return None if math.isnan(value) else value


def _print(console: Console, report: Fields) -> None:
    from tinclock.core.evidence.quality import MARKS_MIN

    names = [f"{mark:g} min" for mark in MARKS_MIN]
    rows = table(
        "unfair", "dial", "accounts", *names, "median to case", right=("dial", "accounts", *names, "median to case")
    )
    for row in report["rows"]:
        median = "-" if row["median_min"] is None else f"{row['median_min']:.1f} min"
        shares = [f"[{_colour(share)}]{100.0 * share:.0f} %[/]" for share in row["found"]]
        rows.add_row(row["kind"].replace("_", " "), f"{row['dial']:g}", str(row["accounts"]), *shares, median)
    console.print(rows)
    told = report["curves"]
    console.print(
        f"{counted(report['fair_accounts'], 'fair account')}, {counted(round(report['fair_minutes']), 'minute')}: "
        f"{report['fair_with_case']} got a case, the highest reached {report['fair_highest']:.1f} of "
        f"{report['limit_decibans']:.0f} decibans\n"
        f"area under ROC {told['roc_area']:.3f}, under precision and recall {told['pr_area']:.3f}", highlight=False,
    )  # fmt: skip
    if "false_cases" in report:
        found = report["false_cases"]
        console.print(
            f"{counted(found['histories'], 'fair history', 'fair histories')} of "
            f"{counted(found['matches'], 'match', 'matches')}, {found['minutes'] / 60:.0f} h: "
            f"{counted(found['cases'], 'case')}, {100 * found['share']:.3f} % (95 %: {100 * found['low']:.3f} to "
            f"{100 * found['high']:.3f}; allowed {100 * report['alpha']:g})", highlight=False,
        )  # fmt: skip
        for quality, (had, of) in found["by_quality"].items():
            console.print(f"  {quality.replace('_', ' ')}: {had} of {of}", highlight=False)


def _colour(share: float) -> str:
    return "green" if share >= 0.95 else "yellow" if share >= 0.5 else "dim" if share > 0.0 else "red"
