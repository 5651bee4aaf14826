"""`tinclock detection`: how good detection is, on recordings whose accounts are labelled."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.case_options import calibration_at, calibration_option, table
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
      every kind and strength: share found, time to a case
  tinclock detection matches --image-folder docs
      and drawn: ROC, precision and recall, times
  tinclock detection matches --honest-histories 20000
      and how many honest accounts would ever get a case

\b
Needs the truth beside each recording (`tinclock simulate` writes it). Give
recordings that calibrating never saw.
"""


@click.command(epilog=EPILOG)
@recordings_argument
@click.option(
    "--alpha",
    default=0.001,
    show_default=True,
    type=click.FloatRange(1e-9, 0.5),
    help="Largest fraction of honest accounts that may ever get a case.",
)
@click.option(
    "--honest-histories",
    default=0,
    type=click.IntRange(0),
    help="Number of resampled histories of honest accounts in which to count cases.",
)
@click.option("--seed", default=7, show_default=True, help="Seed of those histories.")
@click.option("--image-folder", "figures", type=click.Path(path_type=Path), help="Folder for detection.png.")
@calibration_option
@json_option
def detection(
    recordings: tuple[Path, ...],
    alpha: float,
    honest_histories: int,
    seed: int,
    figures: Path | None,
    calibration_file: Path | None,
    as_json: bool,
) -> None:
    """Measure the fractions of cheating and of honest accounts that get a case, by minutes of play."""
    import numpy as np

    from tinclock.core.evidence.eprocess import limit_decibans
    from tinclock.core.evidence.quality import curves, detection_rows, false_cases, peaks
    from tinclock.recordings.labelled import labelled_in, labels_beside, shares_of

    console, plays = console_for(as_json), list["Labelled"]()
    with told_plainly():
        calibration = calibration_at(calibration_file)
        with progress(console, "weighing") as show:
            for k, path in enumerate(recordings):
                labels = labels_beside(path).of
                plays += labelled_in(path, labels, calibration, part(show, k, len(recordings)))
    shares, limit = shares_of(calibration), limit_decibans(alpha)
    honest, cheating = [p for p in plays if not p.cheats], [p for p in plays if p.cheats]
    rows = detection_rows(cheating, shares, limit)
    heights = peaks(honest, shares), peaks(cheating, shares)
    report: Fields = {
        "recordings": len(recordings), "alpha": alpha, "limit_decibans": limit,
        "honest_accounts": len(honest),
        "honest_minutes": sum(float(p.times_min[-1]) for p in honest if len(p.times_min)),
        "honest_with_case": int((heights[0] >= limit).sum()), "honest_highest": float(heights[0].max(initial=0.0)),
        "rows": [{**row._asdict(), "median_min": _or_none(row.median_min)} for row in rows],
        "curves": curves(*heights),
    }  # fmt: skip
    if honest_histories:
        with progress(console, "honest histories") as show:
            report["false_cases"] = false_cases(
                honest, shares, limit, honest_histories, np.random.default_rng(seed), show
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
        "cheating",
        "strength",
        "accounts",
        *names,
        "median to case",
        right=("strength", "accounts", *names, "median to case"),
    )
    for row in report["rows"]:
        median = "-" if row["median_min"] is None else f"{row['median_min']:.1f} min"
        shares = [f"[{_colour(share)}]{100.0 * share:.0f} %[/]" for share in row["found"]]
        rows.add_row(row["kind"].replace("_", " "), f"{row['strength']:g}", str(row["accounts"]), *shares, median)
    console.print(rows)
    told = report["curves"]
    console.print(
        f"{counted(report['honest_accounts'], 'honest account')}, "
        f"{counted(round(report['honest_minutes']), 'minute')}: "
        f"{report['honest_with_case']} got a case, the highest reached {report['honest_highest']:.1f} of "
        f"{report['limit_decibans']:.0f} decibans\n"
        f"area under ROC {told['roc_area']:.3f}, under precision and recall {told['pr_area']:.3f}", highlight=False,
    )  # fmt: skip
    if "false_cases" in report:
        found = report["false_cases"]
        console.print(
            f"{counted(found['histories'], 'honest history', 'honest histories')} of "
            f"{counted(found['matches'], 'match', 'matches')}, {found['minutes'] / 60:.0f} h: "
            f"{counted(found['cases'], 'case')}, {100 * found['share']:.3f} % (95 %: {100 * found['low']:.3f} to "
            f"{100 * found['high']:.3f}; allowed {100 * report['alpha']:g})", highlight=False,
        )  # fmt: skip
        for quality, (had, of) in found["by_quality"].items():
            console.print(f"  {quality.replace('_', ' ')}: {had} of {of}", highlight=False)


def _colour(share: float) -> str:
    return "green" if share >= 0.95 else "yellow" if share >= 0.5 else "dim" if share > 0.0 else "red"
