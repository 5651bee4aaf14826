"""`tinclock cases check-log`: whether evidence log and case store are as they were written."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.case_options import log_folder_of, log_option, store_at, store_option
from tinclock.cli.reading import counted, json_option, say, told_plainly

if TYPE_CHECKING:
    from tinclock.cases.evidence_log import LogTip

EPILOG = """
\b
Examples:
  tinclock cases check-log
      prints the head of the chain: keep it elsewhere
  tinclock cases check-log --expect-tip 812:5d0c...
      and later, that this head is still in it
"""


@click.command("check-log", epilog=EPILOG)
@store_option
@log_option
@click.option(
    "--expect-tip",
    "head",
    metavar="NUMBER:DIGEST",
    help="Tip of the log that you saved elsewhere; the log must contain it.",
)
@json_option
def check_log(store: str, log_folder: Path | None, head: str | None, as_json: bool) -> None:
    """Verify that no record of the evidence log was altered and that the log and the store agree on every decision."""
    from tinclock.cases.checking import problems_of
    from tinclock.cases.evidence_log import head_of
    from tinclock.cases.review import CaseReview

    noted = None if head is None else _head(head)
    with told_plainly():
        folder, review = log_folder_of(store, log_folder), CaseReview(store_at(store, must_exist=True))
        problems = problems_of(review, folder, noted)
        decided, last = len(review.decisions()), head_of(folder)
    if as_json:
        report = {"log": str(folder), "problems": problems, "decisions": decided, "head": last._asdict()}
        click.echo(json.dumps(report, indent=2))
    elif problems:
        for problem in problems:
            say(problem)
    else:
        say(f"{folder}: every record is as it was written; {counted(decided, 'decision')} agree with the store")
        say(f"head {last.number}:{last.digest}")
    if problems:
        raise SystemExit(1)


def _head(text: str) -> LogTip:
    from tinclock.cases.evidence_log import LogTip

    number, _, digest = text.partition(":")
    if not number.isdigit() or not re.fullmatch("[0-9a-f]{64}", digest):
        raise click.UsageError(f"--expect-tip {text}: expected NUMBER:DIGEST, as `cases check-log` prints it")
    return LogTip(int(number), digest)
