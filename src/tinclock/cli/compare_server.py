"""`tinclock compare-server`: the rulings of a recording beside what the game's own server made of the same claims."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.reading import (
    console_for,
    json_option,
    opened,
    recording_argument,
    report_problems,
    salvage_option,
    told_plainly,
)
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.recordings.comparison import ResultComparison

EPILOG = """
\b
Examples:
  tinclock compare-server tuesday
  tinclock compare-server tuesday --limit 0 --json > differences.json

\b
Try Tin Clock out beside a live game: with `mode = "shadow"` under [match] in
its rules it rules on every claim and applies nothing. Your server says with
`report_server_result` what it made of each claim by itself, and this command
compares both. `tinclock explain RECORDING NUMBER` then says why a
ruling came out as it did.
"""


@click.command(epilog=EPILOG)
@recording_argument
@click.option("--limit", "rows", default=20, show_default=True, help="Differing claims to list; 0 lists all.")
@salvage_option
@json_option
def compare_server(recording: Path, rows: int, recover: bool, as_json: bool) -> None:
    """Compare your server's results of claims with the rulings on the same claims."""
    from tinclock.core.analysis.own_results import AGREEMENTS
    from tinclock.recordings.comparison import compare_results

    with told_plainly():
        source = opened(recording, recover)
        found = compare_results(source)
        counts = Counter(one.agreement for one in found)
        differing = [one for one in found if one.agreement != "same"]
        shown = differing if rows == 0 else differing[:rows]
        report: Fields = {
            "recording": str(recording), "compared": len(found),
            "agreement": {name: counts[name] for name in AGREEMENTS}, "differing": [_row(one) for one in shown],
        }  # fmt: skip
        if as_json:
            click.echo(json.dumps(report, indent=2))
        else:
            _print(report, len(differing))
        report_problems(source)


def _row(one: ResultComparison) -> Fields:
    ruling = one.ruling
    return {
        "ruling": ruling.number, "server_time": ruling.received_at, "account": ruling.account, "kind": ruling.kind,
        "weapon": ruling.weapon, "agreement": one.agreement, "outcome": ruling.outcome,
        "finding": ruling.findings[0].code if ruling.findings else None,
        "ruled": [[hit.victim, hit.damage] for hit in ruling.hits], "server": [list(hit) for hit in one.hits],
    }  # fmt: skip


def _print(report: Fields, differing: int) -> None:
    from rich.table import Table

    console = console_for(False)
    if not report["compared"]:
        console.print(
            "the recording holds no results of the game's own server; it tells them with `report_server_result`"
        )
        return
    same = report["agreement"]["same"]
    console.print(
        f"[bold]{same:,} of {report['compared']:,} claims[/] came out as your server has them "
        f"({same / report['compared']:.1%})", highlight=False,
    )  # fmt: skip
    for name, count in report["agreement"].items():
        if name != "same" and count:
            console.print(f"  {count:>6,}  {name}", highlight=False)
    if not report["differing"]:
        return
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name, right in (("#", True), ("time s", True), ("account", False), ("ruled", False), ("your server", False)):
        table.add_column(name, justify="right" if right else "left", no_wrap=right, overflow="fold")
    for row in report["differing"]:
        finding = f" ({row['finding']})" if row["finding"] else ""
        table.add_row(
            str(row["ruling"]), f"{row['server_time']:.3f}", row["account"],
            f"{row['outcome']}: {_hits(row['ruled'])}{finding}", _hits(row["server"]),
        )  # fmt: skip
    console.print(table)
    if len(report["differing"]) < differing:
        console.print(f"... and {differing - len(report['differing'])} more (--limit 0 lists all)", highlight=False)


def _hits(hits: list[Any]) -> str:
    return ", ".join(f"{damage:g} to {victim}" for victim, damage in hits) or "nobody"
