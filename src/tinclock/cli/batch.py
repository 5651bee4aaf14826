"""`tinclock batch`: the same question put to many recordings."""

from __future__ import annotations

import json
import logging
import os
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.case_options import store_at, weights_at, weights_option
from tinclock.cli.reading import console_for, json_option, progress, recordings_argument, say, told_plainly
from tinclock.core.errors import TakenBeforeError
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
  tinclock batch rerule matches --out results/again
      every ruling of every recording once more
  tinclock batch rerule matches --out results/cap \\
      --set view.max_rewind_s=0.15 --undying
  tinclock batch rerule matches --out results/caps \\
      --over view.max_rewind_s=0:0.4:0.1
  tinclock batch fairness matches --out results/fair --cap 0.1 --cap 0.2
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
        click.option("--jobs", type=click.IntRange(1, 512), help="Processes on this machine; default: one a core."),
        click.option("--scheduler", metavar="ADDRESS", help="Work on a Dask cluster instead, tcp://host:port."),
        click.option("--level", "level_file", type=click.Path(path_type=Path, exists=True, dir_okay=False),
                     help="The level file, for recordings that don't hold theirs."),
        json_option,
    )  # fmt: skip
    for option in reversed(options):
        command = option(command)
    return command


@click.group(epilog=EPILOG)
def batch() -> None:
    """Rule again, check fairness, or weigh evidence over many recordings: on this machine's cores, or a cluster."""


@batch.command(short_help="Rule everything again, by the same rules or by others.")
@common
@click.option("--rules", "rules_file", type=click.Path(path_type=Path), help="Rule by this rules file instead.")
@click.option("--set", "settings", multiple=True, metavar="KEY=VALUE", help="Change one setting; may be repeated.")
@click.option("--over", metavar="KEY=FROM:TO:STEP", help="Rule once for each value of one setting, in one pass.")
@click.option("--undying", is_flag=True, help="Give everybody so much health that nobody dies.")
def rerule(
    rules_file: Path | None, settings: tuple[str, ...], over: str | None, undying: bool, **shared: Any
) -> None:  # fmt: skip
    """Rule everything again: by the same rules bit for bit, or by others, with every ruling that flips.

    With --over, what each value of one setting would come to, over all recordings.
    """
    from tinclock.cli.rerule import pairs, span
    from tinclock.intake.rules_file import load_rules

    with told_plainly():
        rules = None if rules_file is None else load_rules(rules_file)
        given = {"rules": rules, "settings": pairs(settings), "undying": undying}
        if over is None:
            _batch("rerule", shared, given)
        else:
            key, values = span(over)
            _batch("range", shared, {**given, "over": (key, tuple(values))})


@batch.command(short_help="How fair matches were whose truth is known.")
@common
@click.option("--cap", "caps", multiple=True, type=click.FloatRange(0.0, 10.0), metavar="SECONDS",
              help="Ask with this max_rewind_s too, nobody dying; may be repeated.")  # fmt: skip
def fairness(caps: tuple[float, ...], **shared: object) -> None:
    """Fairness of matches whose truth is known: recordings that `tinclock play` wrote."""
    with told_plainly():
        _batch("fairness", shared, {"caps_s": caps})


@batch.command(short_help="Score evidence by account, match by match.")
@common
@weights_option
@click.option("--alpha", default=0.001, show_default=True, type=click.FloatRange(1e-9, 0.5),
              help="The share of fair accounts that may ever get a case.")  # fmt: skip
@click.option("--store", help="Take the matches into this case store too, in the order in which they are done.")
@click.option("--server", default="", help="The name of the server that recorded them.")
def weigh(weights_file: Path | None, alpha: float, store: str | None, server: str, **shared: object) -> None:
    """Score the evidence of recordings by account and match; with --store also into cases."""
    from tinclock.core.evidence.eprocess import limit_decibans

    with told_plainly():
        weights = weights_at(weights_file)
        cases = None if store is None else store_at(store, None, alpha)

        def take(outcome: Outcome) -> None:
            if cases is None or outcome.weighed is None:
                return
            course, findings = outcome.weighed
            with suppress(TakenBeforeError):
                cases.take_match(
                    outcome.match, course, weights, findings, recording=outcome.recording, server=server,
                    identity=outcome.identity, rulings=outcome.rulings,
                )  # fmt: skip

        given = {"weights": weights, "limit": limit_decibans(alpha), "keep_course": cases is not None}
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
