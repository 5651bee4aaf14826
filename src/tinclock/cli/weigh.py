"""`tinclock weigh`: the evidence of recordings, into the case store."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.case_options import (
    calibration_at,
    calibration_option,
    log_at,
    log_option,
    store_at,
    store_option,
    table,
)
from tinclock.cli.notices import notifier, notify_options
from tinclock.cli.reading import (
    console_for,
    json_option,
    level_from,
    level_option,
    opened,
    progress,
    recordings_argument,
    told_plainly,
)
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.cases.records import Case
    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
    from tinclock.core.findings import Finding

EPILOG = """
\b
Examples:
  tinclock weigh evening
      evidence by account, and cases into ./cases
  tinclock weigh matches --server-name eu-3
      many recordings, in the order of their names
  tinclock weigh evening --dry-run
      only look
  tinclock weigh evening --store postgresql+psycopg://review@db/cases \\
      --webhook https://chat.example/hook

\b
A match counts once, however its recording is named or copied. One that had
not ended is weighed again when there is more of it. Nothing is done to
anybody: cases wait for a person (`tinclock cases list`).
"""


mute_option = click.option(
    "--exclude",
    "mute",
    multiple=True,
    metavar="KIND",
    help="Exclude an evidence type, such as exact_aim in a game with aim assist.",
)


@click.command(epilog=EPILOG)
@recordings_argument
@store_option
@log_option
@calibration_option
@click.option("--server-name", "server", default="", help="Name of the server that recorded the matches.")
@click.option(
    "--alpha",
    type=click.FloatRange(1e-9, 0.5),
    help="Largest fraction of honest accounts that may ever get a case (default 0.001).",
)
@mute_option
@click.option("--dry-run", is_flag=True, help="Save nothing.")
@level_option
@notify_options
@json_option
def weigh(
    recordings: tuple[Path, ...], store: str, log_folder: Path | None, calibration_file: Path | None, server: str,
    alpha: float | None, mute: tuple[str, ...], dry_run: bool, level_file: Path | None, as_json: bool,
    **notices: object,
) -> None:  # fmt: skip
    """Weigh the evidence of recorded matches for and against each account, and open cases."""
    console, reports = console_for(as_json), []
    with told_plainly(), notifier(notices) as tell:
        calibration, level = calibration_at(calibration_file), level_from(level_file)
        cases = None if dry_run else store_at(store, tell, alpha)
        log = None if dry_run else log_at(store, log_folder, "soon")
        for path in recordings:
            reports.append(weigh_one(path, calibration, mute, cases, log, level, server, console))
    if as_json:
        click.echo(json.dumps(reports, indent=2))
        return
    for report in reports:
        _print(console, report)


def weigh_one(
    path: Path,
    calibration: Calibration,
    mute: tuple[str, ...],
    cases: Any,
    log: Any,
    level: Any,
    server: str,
    console: Console,
) -> Fields:
    from tinclock.cases.weighed import account_row, match_identity, match_name, rulings_in
    from tinclock.core.errors import AlreadyImportedError
    from tinclock.core.evidence.evidence_timeline import MatchEvaluator
    from tinclock.recordings.observed import observed_in

    recording = opened(path, False)
    match, identity, rulings = match_name(recording), match_identity(recording), rulings_in(recording)
    report: Fields = {
        "recording": str(path), "match": match, "ended": recording.closed, "until_s": recording.ends_at_s,
        "taken_before": False, "accounts": {}, "common": [], "muted": [], "opened": [],
    }  # fmt: skip
    if cases is not None and cases.has_match(match, identity, rulings):
        return {**report, "taken_before": True}
    weighing, findings = MatchEvaluator(calibration, recording.require_header().rules, mute), []
    with progress(console, f"weighing {path.name}") as show:
        for seen in observed_in(recording, level, show):
            weighing.add(seen)
            findings += seen.findings
    timeline = weighing.finished()
    if log is not None:  # before the store
        again = cases is not None and cases.has_match(match, identity)
        _log(log, match, rulings, again, findings, timeline)
    fresh: list[Case] = []
    if cases is not None:
        known = {"recording": str(path.resolve()), "server": server, "identity": identity, "rulings": rulings}
        try:
            fresh = cases.import_match(match, timeline, calibration, findings, **known)
        except AlreadyImportedError:  # by another process, meanwhile
            return {**report, "taken_before": True}
    return {
        **report, "accounts": {account: account_row(timeline, account,
        calibration) for account in sorted(timeline.stages)},
        "common": [one._asdict() for one in timeline.common], "muted": list(timeline.muted),
        "opened": [{"account": case.account, "decibans": case.peak, "why": case.why} for case in fresh],
    }  # fmt: skip


def _log(
    log: Any, match: str, rulings: int, again: bool, findings: list[tuple[int, Finding]], timeline: EvidenceTimeline
) -> None:
    """Append what was found, but for what a run that failed has appended already."""
    from tinclock.cases.evidence_log import records_of

    done = records_of(log.folder, match)
    if again and done.get("rulings") != rulings:  # it was weighed before it was over: that no longer counts
        log.append("weighed_again", [{"match": match, "rulings": rulings}])
        done = {}
    told = [("finding", {"match": match, "ruling": n, "finding": f}) for n, f in findings]
    told += [("gain", {"match": match, "gain": gain}) for gain in timeline.gains if gain.decibans >= 1.0]
    for kind in ("finding", "gain"):
        log.append(kind, [body for one, body in told if one == kind][done.get(kind, 0) :])
    log.flush()


def _print(console: Console, report: Fields) -> None:
    from rich.markup import escape

    console.print(f"[bold]{escape(report['match'])}[/]", highlight=False)
    if report["taken_before"]:
        console.print("  was weighed before; nothing changed", highlight=False)
        return
    if not report["ended"]:
        console.print(
            f"  [yellow]has not ended[/]: weighed up to {report['until_s']:.0f} s; weighed again later, it counts once",
            highlight=False,
        )
    rows = table("account", "connection", "minutes", "decibans", "peak", "what speaks most against it",
                 right=("minutes", "decibans", "at most"))  # fmt: skip
    for account, row in sorted(report["accounts"].items(), key=lambda item: -item[1]["peak"]):
        first = row["kinds"][0] if row["kinds"] else None
        told = first["means"] if first else "[dim]nothing[/]"
        style = "bold" if any(case["account"] == account for case in report["opened"]) else ""
        rows.add_row(
            escape(account), row["connection_quality"], f"{row['minutes']:.1f}", f"{row['decibans']:.1f}",
            f"{row['peak']:.1f}", told,
            style=style,
        )  # fmt: skip
    console.print(rows)
    if report["muted"]:
        from tinclock.core.evidence.calibrated_rules import MUTES

        some = all(name in MUTES for name in report["muted"])
        left = "what hangs on that doesn't count" if some else "only exact tests count"
        console.print(
            f"other rules than the calibration are from ([cyan]{', '.join(report['muted'])}[/]): {left} here. "
            "`tinclock calibrate` makes a table of your own.", highlight=False,
        )  # fmt: skip
    for one in report["common"]:
        console.print(
            f"[cyan]{one['kind']}[/]: {one['accounts']} of {one['of']} accounts show it; that is the game or its "
            "integration, and counts against nobody", highlight=False,
        )  # fmt: skip
    for case in report["opened"]:
        console.print(f"[yellow]case opened[/]: {escape(case['account'])}: {escape(case['why'])}", highlight=False)
