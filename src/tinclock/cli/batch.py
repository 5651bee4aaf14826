"""`tinclock batch`: the same question put to many recordings."""

from __future__ import annotations

import json
import logging
import os
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.case_options import calibration_at, calibration_option, store_at
from tinclock.cli.reading import console_for, json_option, progress, recordings_argument, say, told_plainly
from tinclock.core.errors import AlreadyImportedError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from tinclock.batch.jobs import Outcome, Task
    from tinclock.batch.pools import Pool
    from tinclock.batch.run import BatchResult

EPILOG = """
\b
Examples:
  tinclock batch replay matches --out results/again
      every ruling of every recording once more
  tinclock batch replay matches --out results/cap \\
      --set view.max_rewind_s=0.15 --no-deaths
  tinclock batch replay matches --out results/caps \\
      --sweep view.max_rewind_s=0:0.4:0.1
  tinclock batch fairness matches --out fair --rewind-limit 0.2
  tinclock batch weigh matches --out results/weigh \\
      --store postgresql+psycopg://review@db/cases
  tinclock batch weigh matches --out results/weigh \\
      --scheduler tcp://desk:8786

\b
RECORDINGS are recordings, or folders that hold them. What comes out are
Parquet tables in --out. The same command goes on where it was stopped; a
broken recording is reported and tried again the next time.
Exit status: 0 done; 1 it can't go on; 3 done, but some recordings are
broken; 130 stopped by hand.
"""


def common(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of every kind of batch."""
    options = (
        recordings_argument,
        click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the results."),
        click.option("--jobs", type=click.IntRange(1, 512), help="Number of processes (default: one per core)."),
        click.option("--scheduler", metavar="ADDRESS", help="Address of a Dask cluster, tcp://host:port."),
        click.option("--level", "level_file", type=click.Path(path_type=Path, exists=True, dir_okay=False),
                     help="Level file, for recordings without their level."),
        json_option,
    )  # fmt: skip
    for option in reversed(options):
        command = option(command)
    return command


@click.group(epilog=EPILOG)
def batch() -> None:
    """Replay many recordings, measure their fairness or weigh their evidence, on all cores or on a cluster."""


@batch.command(short_help="Replay by the same rules or by others.")
@common
@click.option(
    "--rules", "rules_file", type=click.Path(path_type=Path), help="Rules file to use instead of the recorded rules."
)
@click.option("--set", "settings", multiple=True, metavar="KEY=VALUE", help="Change one setting; repeatable.")
@click.option("--sweep", "over", metavar="KEY=FROM:TO:STEP", help="Replay with each value of one setting, in one pass.")
@click.option("--no-deaths", is_flag=True, help="Disable deaths, so that each claim is judged alone.")
def replay(
    rules_file: Path | None, settings: tuple[str, ...], over: str | None, no_deaths: bool, **shared: Any
) -> None:  # fmt: skip
    """Replay recordings, by their own rules or by others, and list every ruling that changes.

    With --sweep, compare the values of one setting over all recordings.
    """
    from tinclock.cli.replay import pairs, span
    from tinclock.intake.rules_file import load_rules

    with told_plainly():
        rules = None if rules_file is None else load_rules(rules_file)
        given = {"rules": rules, "settings": pairs(settings), "no_deaths": no_deaths}
        if over is None:
            _batch("replay", shared, given)
        else:
            key, values = span(over)
            _batch("sweep", shared, {**given, "over": (key, tuple(values))})


@batch.command(short_help="Measure fairness of matches with a known truth.")
@common
@click.option("--rewind-limit", "caps", multiple=True, type=click.FloatRange(0.0, 10.0), metavar="SECONDS",
              help="Replay with this rewind limit too, without deaths; repeatable.")  # fmt: skip
def fairness(caps: tuple[float, ...], **shared: object) -> None:
    """Measure the fairness of matches with a known truth: recordings of `tinclock simulate`."""
    with told_plainly():
        _batch("fairness", shared, {"caps_s": caps})


@batch.command(short_help="Weigh evidence by account and match.")
@common
@calibration_option
@click.option("--alpha", default=0.001, show_default=True, type=click.FloatRange(1e-9, 0.5),
              help="Largest fraction of honest accounts that may ever get a case.")  # fmt: skip
@click.option("--store", help="Case store to import the matches into, in the order in which they finish.")
@click.option("--server-name", "server", default="", help="Name of the server that recorded the matches.")
def weigh(calibration_file: Path | None, alpha: float, store: str | None, server: str, **shared: object) -> None:
    """Weigh the evidence of recordings by account and match; --store also opens cases."""
    from tinclock.core.evidence.eprocess import limit_decibans

    with told_plainly():
        calibration = calibration_at(calibration_file)
        cases = None if store is None else store_at(store, None, alpha)

        def take(outcome: Outcome) -> None:
            if cases is None or outcome.weighed is None:
                return
            timeline, findings = outcome.weighed
            with suppress(AlreadyImportedError):
                cases.import_match(
                    outcome.match, timeline, calibration, findings, recording=outcome.recording, server=server,
                    identity=outcome.identity, rulings=outcome.rulings,
                )  # fmt: skip

        given = {"calibration": calibration, "limit": limit_decibans(alpha), "keep_course": cases is not None}
        try:
            _batch("weigh", shared, given, take)
        finally:
            if cases is not None:
                cases.close()


def _batch(job: Any, shared: Fields, given: Fields, on_outcome: Callable[[Outcome], None] | None = None) -> None:
    from tinclock.batch.jobs import Task
    from tinclock.batch.run import run_batch

    console, out = console_for(shared["as_json"]), shared["out"]
    recordings = [path.resolve() for path in shared["recordings"]]
    level = shared["level_file"]
    task: Task = Task(job=job, level=None if level is None else str(level.resolve()), **given)
    pool = _pool(shared["scheduler"], shared["jobs"])
    try:
        with progress(console, f"{job}: {len(recordings)} recordings, {pool.workers} cores") as show:
            result = run_batch(
                out, task, recordings, pool, on_outcome=on_outcome,
                on_progress=lambda done, of: show(done / max(of, 1)),
            )  # fmt: skip
    finally:
        pool.close()
    _report(console, out, job, result, len(recordings), shared["as_json"])


def _pool(scheduler: str | None, jobs: int | None) -> Pool:
    from tinclock.batch.pools import ClusterPool, LocalPool

    if scheduler is None:
        return LocalPool(jobs)
    if jobs is not None:
        raise click.UsageError("--jobs is for this machine; a cluster has as many as its workers offer")
    logging.getLogger("distributed").setLevel(logging.CRITICAL)  # a lost worker is no news here: its work is done again
    return ClusterPool(scheduler)


def _report(console: Console, out: Path, job: str, result: BatchResult, asked: int, as_json: bool) -> None:
    from tinclock.batch.summary import summary_of, told

    summary: Fields = {
        "batch": job, "into": str(out), "recordings": asked, "done": result.done, "done_before": result.before,
        "broken": [{"recording": path, "problem": problem} for path, problem in result.broken],
        "took_s": round(result.took_s, 3), "worked_s": round(result.worked_s, 3),
        "tables": [str(path) for path in result.tables], "stopped": result.stopped, "result": summary_of(job, out),
    }  # fmt: skip
    if as_json:
        click.echo(json.dumps(summary, indent=2))
    else:
        before = f", {result.before} had been done before" if result.before else ""
        broken = f"; [red]{len(result.broken)} can't be read[/]" if result.broken else ""
        console.print(
            f"[bold]{result.done - len(result.broken)} of {asked} recordings[/] in {result.took_s:.1f} s "
            f"({result.worked_s:.1f} s of work){before}{broken}",
            highlight=False, soft_wrap=True,
        )  # fmt: skip
        for line in told(job, summary["result"]):
            console.print(line, highlight=False, soft_wrap=True)
        for path in result.tables:
            console.print(f"table {path}", highlight=False, soft_wrap=True)
        for _, problem in result.broken:
            say(f"broken: {problem.replace(f'{Path.cwd()}{os.sep}', '')}", err=True)
        if result.stopped:
            click.echo("stopped; the same command goes on from here", err=True)
    if result.stopped:
        raise click.exceptions.Exit(130)
    if result.broken:
        raise click.exceptions.Exit(3)
