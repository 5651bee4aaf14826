"""`tinclock info`: what a recording holds, and whether it is whole."""

from __future__ import annotations

import json
import sys
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.reading import (
    console_for,
    counted,
    json_option,
    opened,
    recording_argument,
    salvage_option,
    told_plainly,
)
from tinclock.core.errors import RecordingError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.recordings.recording import Recording

MAX_STRAYS = 3
EPILOG = """
\b
Examples:
  tinclock info evening
      what it holds, where it ends
  tinclock info evening --check
      besides, read every byte and hold it against what was noted
  tinclock info torn --recover
      what can still be read of a broken one

\b
Exit status: 0 whole (or ended by a kill, which loses nothing that was
flushed), 1 torn or altered.
"""


@click.command(epilog=EPILOG)
@recording_argument
@click.option("--check", is_flag=True, help="Verify every file against its recorded SHA-256.")
@salvage_option
@json_option
def info(recording: Path, check: bool, recover: bool, as_json: bool) -> None:
    """Show the contents and the end of a recording; --check verifies every file against its SHA-256."""
    with told_plainly():
        found = opened(recording, recover)
        wrong = found.verify() if check else list(found.problems)
    report = _report(found, wrong, check)
    if as_json:
        click.echo(json.dumps(report, indent=2))
    else:
        _print(report)
    if wrong:
        sys.exit(1)


def _report(found: Recording, wrong: list[str], checked: bool) -> Fields:
    from tinclock.recordings.layout import TABLES

    header = found.header
    last = found.flushes[-1] if found.flushes else None
    tables = {
        name: {"rows": found.rows(name), "bytes": sum(f.pieces[name].bytes for f in found.flushes if name in f.pieces)}
        for name in TABLES
    }
    return {
        "recording": str(found.path),
        "format": None if header is None else header.format,
        "written_by": None if header is None else header.written_by,
        "seed": None if header is None else header.seed,
        "level": None if header is None or header.level is None else header.level.digest,
        "begins_at_s": found.begins_at_s,
        "ends_at_s": found.ends_at_s,
        "ticks": found.ticks,
        "closed": found.closed,
        "damaged_tail": found.damaged_tail,
        "rulings_sha256": "" if last is None else last.rulings_sha256,
        "events_sha256": "" if last is None else last.events_sha256,
        "bytes": found.nbytes,
        "tables": tables,
        "missing": [str(one) for one in found.missing],
        "unreferenced_files": found.unreferenced_files,
        "checked": checked,
        "wrong": wrong,
        **_counts(found),
    }


def _counts(found: Recording) -> Fields:
    """Players, outcomes and findings, from the tables alone; what can't be read counts as nothing and is told."""
    players: set[str] = set()
    outcomes, findings = Counter[str](), Counter[str]()
    try:
        table, names = found.table("rulings"), found.shown_names()
    except RecordingError as error:
        found.problems.append(str(error))
        return {"players": [], "names": {}, "outcomes": {}, "findings": {}}
    players.update(name for name in table["account"].to_pylist() if name)
    for outcome, codes in zip(table["outcome"].to_pylist(), table["findings"].to_pylist(), strict=True):
        named = [code for code in codes.split(",") if code]
        outcomes["repeated" if "repeated_sequence" in named else outcome] += 1
        findings.update(named)
    return {
        "players": sorted(players), "names": names, "outcomes": dict(sorted(outcomes.items())),
        "findings": dict(findings.most_common()),
    }  # fmt: skip


def _print(report: Fields) -> None:
    from rich.markup import escape
    from rich.table import Table

    console = console_for(False)
    end = "ended in good order" if report["closed"] else "its writer was stopped; nothing is known of what came after"
    console.print(
        f"[bold]{report['recording']}[/]: {report['begins_at_s']:.3f} to {report['ends_at_s']:.3f} s, "
        f"{report['ticks']} ticks, {report['bytes'] / 1e6:.2f} MB; {end}",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    console.print(
        f"format {report['format']}, {report['written_by']}, seed {report['seed']}, "
        f"level {(report['level'] or 'open ground')[:16]}, digest of the rulings {report['rulings_sha256'][:16]}",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    table = Table(box=None, pad_edge=False, header_style="bold")
    table.add_column("table")
    table.add_column("rows", justify="right")
    table.add_column("kB", justify="right")
    for name, row in report["tables"].items():
        table.add_row(name, f"{row['rows']:,}", f"{row['bytes'] / 1e3:,.1f}")
    console.print(table)
    outcomes = ", ".join(f"{count:,} {outcome}" for outcome, count in report["outcomes"].items()) or "none"
    console.print(
        f"{counted(len(report['players']), 'player')}; "
        f"{counted(sum(report['outcomes'].values()), 'ruling')}: {outcomes}",
        highlight=False,
    )
    if report["players"]:
        other = {account: name for account, name in report["names"].items() if name != account}
        listed = ", ".join(f"{name} ({other[name]})" if name in other else name for name in report["players"])
        console.print(f"accounts: {escape(listed)}", highlight=False)
    if report["findings"]:
        told = ", ".join(f"{code} {count:,}" for code, count in report["findings"].items())
        console.print(f"findings: {told}", highlight=False)
    if report["damaged_tail"]:
        console.print("the last flush was cut off while it was noted; it doesn't count", highlight=False)
    for gap in report["missing"]:
        console.print(f"[yellow]gap[/]: {gap}", highlight=False, soft_wrap=True)
    if strays := report["unreferenced_files"]:
        shown = ", ".join(strays[:MAX_STRAYS]) + (" ..." if len(strays) > MAX_STRAYS else "")
        console.print(
            f"{counted(len(strays), 'file')} that no flush lists: nothing reads them, they can be deleted ({shown}; "
            "--json lists all)",
            highlight=False,
        )
    if report["checked"] and not report["wrong"]:
        console.print("[green]every file is as it was written[/]", highlight=False)
    for line in report["wrong"]:
        console.print(f"[red]x[/] {line}", highlight=False, soft_wrap=True)
