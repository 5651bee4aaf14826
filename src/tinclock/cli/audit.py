"""`tinclock cases audit`: who looked at and decided what at the review desk."""

from __future__ import annotations

import json

import click

from tinclock.cli.case_options import store_at, store_option, table, when
from tinclock.cli.reading import console_for, json_option, told_plainly

EPILOG = """
\b
Examples:
  tinclock cases audit
      the newest entries
  tinclock cases audit clover
      everyone who opened this account's pages
  tinclock cases audit --reviewer ada --json
"""


@click.command(epilog=EPILOG)
@click.argument("account", default="")
@click.option("--reviewer", default="", metavar="NAME", help="Only this reviewer's entries.")
@click.option(
    "--limit", "rows", default=50, show_default=True, type=click.IntRange(1, 100000), help="Number of entries."
)
@store_option
@json_option
def audit(account: str, reviewer: str, rows: int, store: str, as_json: bool) -> None:
    """List what reviewers opened and decided on the review site, newest first.

    After `cases forget`, an entry keeps its reviewer and time without the account.
    """
    import msgspec

    from tinclock.cases.looks import accesses

    with told_plainly():
        found = accesses(store_at(store, must_exist=True), account=account, reviewer=reviewer, most=rows)
    if as_json:
        click.echo(json.dumps(msgspec.to_builtins(found), indent=2))
        return
    console = console_for(False)
    if not found:
        console.print("No entries.")
        return
    shown = table("time", "reviewer", "page", "account or match", "decision")
    for one in found:
        shown.add_row(when(one.at), one.reviewer, one.page, one.account or one.match, one.verdict)
    console.print(shown)
