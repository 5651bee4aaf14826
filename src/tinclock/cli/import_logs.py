"""`tinclock import-logs`: what another server logged, ruled and recorded."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.case_options import table
from tinclock.cli.doctor import examined, print_complaints
from tinclock.cli.reading import STYLES, console_for, json_option, progress, told_plainly
from tinclock.core.plain import Fields
from tinclock.core.ruling.records import counted_as

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.intake.logs.reading import Logs
    from tinclock.recordings.from_logs import FromLogs

EPILOG = """
\b
Examples:
  tinclock import-logs logs/mapping.toml evening
      rule on every claim in the logs, and record the match
  tinclock import-logs logs/mapping.toml evening --no-deaths
      where the logs don't say when lives began and ended
  tinclock import-logs logs/mapping.toml --check
      only read: every cell that can't be used, with its row
  tinclock explain evening 58
      then why ruling 58 went as it did
  tinclock weigh evening
      and evidence by account

\b
MAPPING.toml says which columns of which files hold what, in which units
and axes: see docs/logs.md.
Exit status: 0 done; 1 the mapping or a row can't be used.
"""


@click.command(epilog=EPILOG)
@click.argument("mapping", metavar="MAPPING.toml", type=click.Path(path_type=Path))
@click.argument("recording", metavar="[RECORDING]", required=False, type=click.Path(path_type=Path))
@click.option("--check", is_flag=True, help="Read the logs without ruling on them.")
@click.option("--no-deaths", is_flag=True, help="Disable deaths, so that each claim is judged alone.")
@click.option(
    "--limit", "rows", default=10, show_default=True, help="Rejected and adjusted claims to list; 0 lists all."
)
@json_option
def import_logs(mapping: Path, recording: Path | None, check: bool, no_deaths: bool, rows: int, as_json: bool) -> None:
    """Import another server's logs (CSV, JSON Lines, Parquet), rule on their claims and record the match."""
    from tinclock.intake.level_file import load_level
    from tinclock.intake.logs.mapping import load_log_map
    from tinclock.intake.logs.reading import read_logs
    from tinclock.intake.rules_file import load_rules
    from tinclock.recordings.from_logs import record_logs

    if check and recording is not None:
        raise click.UsageError("--check writes no RECORDING; leave one of the two out")
    if not check and recording is None:
        raise click.UsageError("name a RECORDING to write, or give --check")
    console, folder = console_for(as_json), mapping.parent
    with told_plainly():
        said = load_log_map(mapping)
        rules = load_rules(folder / said.rules)
        with progress(console, "reading the logs") as show:
            logs = read_logs(said, folder, rules, show)
        report, mend = _read(mapping, logs), []
        if recording is not None:
            level = None if said.level is None else load_level(folder / said.level)
            with progress(console, "ruling") as show:
                found = record_logs(
                    logs, rules, recording, level=level, seed=said.seed, no_deaths=no_deaths, on_progress=show
                )
            with progress(console, "looking for mistakes of the mapping") as show:
                asked = bool(logs.pings)
                mend = examined([recording], None, level, show, expect_pings=asked, from_logs=True).complaints()
            report |= {"recording": str(recording), **_ruled(found), "mend": [one._asdict() for one in mend]}
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    _print(console, report, rows)
    print_complaints(console, mend)


def _read(mapping: Path, logs: Logs) -> Fields:
    times = logs.poses.times
    return {
        "mapping": str(mapping), "rows": logs.rows, "players": len(logs.players), "ticks": len(times),
        "seconds": float(times[-1] - times[0]) if len(times) else 0.0,
        "claims": dict(Counter(claim.kind for claim in logs.claims)), "spawns": len(logs.spawns),
        "pings": len(logs.pings),
    }  # fmt: skip


def _ruled(found: FromLogs) -> Fields:
    return {
        "entities": found.entities,
        "outcomes": dict(Counter(counted_as(ruling) for _, ruling in found.rulings)),
        "findings": dict(Counter(f.code for _, ruling in found.rulings for f in ruling.findings).most_common()),
        "refused": [
            {
                "ruling": ruling.number, "where": where, "player": ruling.connection, "kind": ruling.kind,
                "outcome": ruling.outcome, "findings": [finding.code for finding in ruling.findings],
            }
            for where, ruling in found.rulings
            if ruling.outcome != "accepted"
        ],
    }  # fmt: skip


def _print(console: Console, report: Fields, rows: int) -> None:
    from rich.markup import escape

    told = ", ".join(f"{count:,} of {name}" for name, count in report["rows"].items())
    console.print(f"rows: {escape(told)}", highlight=False, soft_wrap=True)
    claims = ", ".join(f"{count} x {kind}" for kind, count in report["claims"].items()) or "no claims"
    console.print(
        f"[bold]{report['players']} players, {report['ticks']:,} ticks over {report['seconds']:.1f} s[/]; {claims}; "
        f"{report['spawns']} spawns, {report['pings']} round trips",
        highlight=False, soft_wrap=True,
    )  # fmt: skip
    if "recording" not in report:
        console.print("all of it can be used; nothing was ruled", highlight=False)
        return
    outcomes = ", ".join(f"[{STYLES[o]}]{count} {o}[/]" for o, count in sorted(report["outcomes"].items()))
    console.print(f"ruled: {outcomes or 'nothing'}", highlight=False)
    for code, count in report["findings"].items():
        console.print(f"  {count:>5} x {code}", highlight=False)
    shown = report["refused"] if rows == 0 else report["refused"][:rows]
    listed = table("#", "row", "player", "kind", "outcome", "why", right=("#",))
    for one in shown:
        outcome = f"[{STYLES[one['outcome']]}]{one['outcome']}[/]"
        who, where, why = escape(one["player"]), escape(one["where"]), ", ".join(one["findings"]) or "-"
        listed.add_row(str(one["ruling"]), where, who, one["kind"], outcome, why)
    if shown:
        console.print(listed)
    if len(shown) < len(report["refused"]):
        console.print(f"... and {len(report['refused']) - len(shown)} more (--limit 0 lists all)", highlight=False)
    console.print(f"recording {report['recording']}; next: explain, weigh, replay", highlight=False, soft_wrap=True)
