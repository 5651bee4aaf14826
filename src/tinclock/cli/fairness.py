"""`tinclock fairness`: how fair a match was, to those who shot and to those who were shot at."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.reading import (
    console_for,
    json_option,
    level_from,
    level_option,
    opened,
    part,
    progress,
    recording_argument,
    told_plainly,
    written,
)
from tinclock.cli.replay import span
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console


EPILOG = """
\b
Examples:
  tinclock fairness evening
      by the recorded rules, quality by quality
  tinclock fairness evening --sweep 0:0.4:0.05
      and against max_rewind_s, in seconds
  tinclock fairness evening --sweep 0:0.4:0.05 --image fairness.png
  tinclock fairness matches/2026-11-26
      your own: what became of the hits that clients claimed

\b
What screens showed is in the folder that `tinclock simulate` wrote beside the
recording. Without it, it is estimated: hits on screen are those that
clients claimed, the cheating ones' too, and cover goes by each connection's
round trip and interpolation delay. In a sweep nobody dies, so that each shot
is judged by itself.
"""


@click.command(epilog=EPILOG)
@recording_argument
@click.option(
    "--truth",
    "truth_folder",
    type=click.Path(path_type=Path),
    help="Folder with the simulated truth (default: RECORDING-truth).",
)
@click.option("--sweep", "over", metavar="FROM:TO:STEP", help="Replay with each rewind limit of a span, in seconds.")
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture of the sweep.")
@level_option
@json_option
def fairness(
    recording: Path, truth_folder: Path | None, over: str | None, picture: Path | None, level_file: Path | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Measure what a match cost both sides: honest hits that counted, and victims hit after reaching cover.

    Without RECORDING-truth, both are estimated from the claims of clients.
    """
    from tinclock.garden.estimated import estimated_truth
    from tinclock.garden.judged import judge
    from tinclock.garden.truth import read_truth
    from tinclock.recordings.claimed import claimed_hits
    from tinclock.recordings.listing import BESIDE

    if picture is not None and over is None:
        raise click.UsageError("--image draws what --sweep tries; give both")
    console = console_for(as_json)
    with told_plainly():
        source, level = opened(recording, False), level_from(level_file)
        beside = truth_folder or recording.with_name(recording.name + BESIDE)
        estimated = truth_folder is None and not beside.exists()
        values = [] if over is None else span(f"view.max_rewind_s={over}")[1]
        if estimated:
            with progress(console, "reading") as show:
                claimed = claimed_hits(source, show)
        truth = estimated_truth(source) if estimated else read_truth(beside)
        with progress(console, "ruling again") as show:
            caps = [None, *values]
            recorded, *rows = [
                judge(source, truth, level, cap, part(show, place, len(caps))) for place, cap in enumerate(caps)
            ]
    report: Fields = {"recording": str(recording), "estimated": estimated, "recorded": recorded, "over": rows}
    if estimated:
        adds = {line: row.get("choice_adds") for line, row in recorded["shooters"].items()}
        report["claimed"] = {
            line: {**one.as_dict(), "lost": one.lost, "choice_adds": adds.get(line)} for line, one in claimed.items()
        }
    if picture is not None:
        from tinclock.report.fairness_figure import draw_fairness

        cap = source.require_header().rules.view.max_rewind_s
        file = written(picture, lambda path: draw_fairness(path, rows, cap, recording.name))
        report["figure"] = None if file is None else str(file)
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    _print(console, report)


def _print_claimed(console: Console, report: Fields) -> None:
    """Results of the hits that clients claimed, where the truth about screens is not known."""
    found = report["claimed"]
    console.print(
        f"[bold]{report['recording']}[/]: attacks whose clients named a victim, and their results",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    rows = _table("connection", "claimed", "counted", "another", "nobody", "rejected", "capped", "rewound", "choice")
    for line, one in found.items():
        rows.add_row(
            line, str(one["claimed"]), _share(one["counted"] / one["claimed"] if one["claimed"] else None),
            str(one["elsewhere"]), str(one["missed"]), str(one["rejected"]), str(one["capped"]),
            _ms(one["median_rewound_s"]), _more(one["choice_adds"]),
        )  # fmt: skip
    console.print(rows)
    console.print(
        "  another, nobody: victims of those that didn't count. rewound: by half of them, or less.\n"
        "  choice: hits that shots would have had besides, at the best view without a finding.",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    for code, count in found["all"]["lost"].items() if "all" in found else ():
        console.print(f"  not counted: {count} x {code}", highlight=False)
    if not found:
        console.print("no client named a victim; claims may name one", highlight=False)


def _print(console: Console, report: Fields) -> None:
    recorded = report["recorded"]
    if report["estimated"]:
        _print_claimed(console, report)
    else:
        _print_shooters(console, report)
    by = " (by each connection's round trip and interpolation delay)" if report["estimated"] else ""
    console.print(
        f"\nhits, and how long after reaching cover on their own screen{by} their victims got them", highlight=False
    )
    console.print(_victims_table(recorded["victims"]))
    if report["over"]:
        console.print("\nagainst max_rewind_s, nobody dying", highlight=False)
        console.print(_sweep_table(report["over"], recorded["max_rewind_s"]))
    if report.get("figure"):
        console.print(f"figure {report['figure']}", highlight=False, soft_wrap=True)


def _print_shooters(console: Console, report: Fields) -> None:
    recorded = report["recorded"]
    console.print(
        f"[bold]{report['recording']}[/], max_rewind_s {recorded['max_rewind_s']:g}: honest shots that were hits on "
        "their shooter's screen",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    console.print(_shooters_table(recorded["shooters"]))
    console.print(
        "  more by choice: hits that honest shots would have had besides, at the best view without a finding",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    console.print("\ndisplay lag: age of the view when the fastest message arrives")
    console.print(_lags_table(recorded["shooters"]))
    lost = recorded["shooters"].get("all", {}).get("lost", {})
    for code, count in lost.items():
        console.print(f"  not accepted: {count} x {code}", highlight=False)


def _table(*names: str) -> Any:
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    for place, name in enumerate(names):
        table.add_column(name, justify="left" if place == 0 else "right")
    return table


def _share(value: float | None) -> str:
    return "-" if value is None else f"{100.0 * value:.1f} %"


def _more(value: float | None) -> str:
    return "-" if value is None else f"{100.0 * value:.0f} %"


def _ms(value: float | None) -> str:
    return "-" if value is None else f"{1000.0 * value:.0f} ms"


def _shooters_table(rows: Fields) -> Any:
    names = ("hits", "counted", "accepted", "view in the cap", "accepted of those", "on another", "misses", "that hit")
    table = _table("connection", *names, "more by choice")
    for name, row in rows.items():
        table.add_row(
            name.replace("_", " "), str(row["hits"]), _share(row["fraction_counted"]), _share(row["fraction_accepted"]),
            str(row["inside"]), _share(row["fraction_accepted_inside"]), str(row["elsewhere"]), str(row["misses"]),
            str(row["misses_hit"]), _more(row.get("choice_adds")),
        )  # fmt: skip
    return table


def _lags_table(rows: Fields) -> Any:
    table = _table("connection", "shots", "told", "explained", "tracked")
    for name, row in rows.items():
        choice = row.get("choice", {"lagged": 0})
        count = choice["lagged"]
        means = (_ms(choice[key] / count if count else None) for key in ("reported_s", "explained_s", "estimated_s"))
        if "choice" in row:
            table.add_row(name.replace("_", " "), str(count), *means)
    return table


def _victims_table(rows: Fields) -> Any:
    table = _table("line of the victim", "hits", "after cover", "median", "95th", "worst", "never in sight")
    for name, row in rows.items():
        table.add_row(
            name.replace("_", " "), str(row["hits"]), str(row["after_cover"]), _ms(row["median_s"]),
            _ms(row["p95_s"]), _ms(row["worst_s"]), str(row["unseen"]),
        )  # fmt: skip
    return table


def _sweep_table(rows: list[Fields], cap: float) -> Any:
    names = (
        "honest hits counted",
        "accepted as claimed",
        "of those in the cap",
        "victims after cover",
        "95th",
        "worst",
    )
    table = _table("max_rewind_s", *names, "flipped")
    for row in rows:
        shot, hurt = row["shooters"].get("all", {}), row["victims"]["all"]
        mark = " *" if row["max_rewind_s"] == cap else ""
        after = hurt["after_cover"] / hurt["hits"] if hurt["hits"] else None
        shares = (shot.get(key) for key in ("fraction_counted", "fraction_accepted", "fraction_accepted_inside"))
        table.add_row(
            f"{row['max_rewind_s']:g}{mark}", *map(_share, shares), _share(after), _ms(hurt["p95_s"]),
            _ms(hurt["worst_s"]), str(row["flipped"]),
        )  # fmt: skip
    return table
