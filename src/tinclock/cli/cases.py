"""`tinclock cases`: the queue, one case, decisions, export, forgetting."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.audit import audit
from tinclock.cli.case_options import (
    STATE_STYLES,
    calibration_at,
    calibration_option,
    log_at,
    log_option,
    recordings_option,
    reviewer_option,
    store_at,
    store_option,
    table,
    when,
)
from tinclock.cli.check_log import check_log
from tinclock.cli.notices import notifier, notify_options
from tinclock.cli.reading import console_for, counted, json_option, level_from, level_option, say, told_plainly, written

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.cases.records import AccountReport, Case, Decision

EPILOG = """
\b
Examples:
  tinclock cases list
      what waits for a person, the most pressing first
  tinclock cases show beryl
      one account in the terminal
  tinclock cases page beryl
      the same with charts and replays, as beryl.html
  tinclock cases shot beryl
      its most telling shot, explained and drawn
  tinclock cases decide beryl cleared \\
      --note "plays over a train's hotspot"
  tinclock cases compare beryl fennel
  tinclock cases export --format csv > cases.csv
"""


@click.group(epilog=EPILOG)
def cases() -> None:
    """List accounts with cases, show their evidence, and record decisions."""


@cases.command("list")
@store_option
@click.option(
    "--state",
    "states",
    multiple=True,
    type=click.Choice(["open", "waiting", "cleared", "confirmed"]),
    help="Only cases in this state (default: open).",
)
@click.option("--limit", "rows", default=30, show_default=True, type=click.IntRange(1, 100000), help="Number of cases.")
@json_option
def list_cases(store: str, states: tuple[str, ...], rows: int, as_json: bool) -> None:
    """List cases: by the most evidence there ever was, and a deciban more for each day of waiting."""
    import msgspec

    from tinclock.cases.review import CaseReview

    with told_plainly():
        review = CaseReview(store_at(store, must_exist=True))
        found, counts = review.queue(states or ("open",), rows), review.counts()
    if as_json:
        click.echo(json.dumps({"counts": counts, "cases": msgspec.to_builtins(found)}, indent=2))
        return
    console = console_for(False)
    _print_queue(console, found, counts)


def _print_queue(console: Console, found: list[Case], counts: dict[str, int]) -> None:
    from rich.markup import escape

    from tinclock.cases.kinds import strength

    rows = table("account", "state", "decibans", "now", "opened", "why", right=("decibans", "now"))
    for case in found:
        state = f"[{STATE_STYLES[case.state]}]{case.state}[/]"
        rows.add_row(
            escape(case.account),
            state,
            f"{strength(case.peak)} {case.peak:.0f}",
            f"{case.decibans:.0f}",
            when(case.opened_at),
            escape(case.why),
        )
    console.print(rows)
    told = ", ".join(f"{counts[state]} {state}" for state in STATE_STYLES)
    console.print(f"{told}; {counts['accounts']} accounts in all", highlight=False)


@cases.command()
@click.argument("account")
@store_option
@calibration_option
@json_option
def show(account: str, store: str, calibration_file: Path | None, as_json: bool) -> None:
    """Show one account: its evidence, what else explains it, its matches and what was decided."""
    from tinclock.cases.records import plain
    from tinclock.cases.review import CaseReview
    from tinclock.report.case_view import calibration_of

    with told_plainly():
        dossier = CaseReview(store_at(store, must_exist=True)).dossier(account)
        calibration = calibration_of(dossier, calibration_at(calibration_file) if calibration_file else None)
    if as_json:
        click.echo(json.dumps(plain(dossier._replace(calibration=None)), indent=2))
        return
    _print_dossier(console_for(False), dossier, calibration)


def _print_dossier(console: Console, dossier: AccountReport, calibration: Any) -> None:
    from rich.markup import escape

    from tinclock.report.case_view import kinds_of

    account, case = dossier.account, dossier.case
    state = "no case" if case is None else f"[{STATE_STYLES[case.state]}]{case.state}[/]"
    console.print(f"[bold]{escape(account.account)}[/]  {state}", highlight=False)
    if case is not None:
        console.print(f"  {escape(case.why)}", highlight=False, soft_wrap=True)
    console.print(
        f"  {account.decibans:.1f} decibans now, {account.peak:.1f} at most; "
        f"{counted(account.matches, 'match', 'matches')}, {counted(round(account.minutes), 'minute')}; "
        f"last seen {when(account.last_seen)}", highlight=False,
    )  # fmt: skip
    for kind in kinds_of(dossier, calibration):
        console.print(f"\n  [bold]it {kind['title']}[/]", highlight=False)
        console.print(f"      {kind['strength']} on its own, {kind['decibans']:+.0f} decibans", highlight=False)
        if kind["best"]:
            console.print(f"      {kind['best']}", highlight=False)
        console.print(f"      [green]could also be: {kind['benign']}; {kind['honest']}[/]", highlight=False)
        console.print(f"      by chance alone, {kind['chance']}", highlight=False)
    rows = table("match", "taken", "minutes", "decibans after it", right=("minutes", "decibans after it"))
    for play in dossier.plays:
        rows.add_row(escape(play.match), when(play.taken_at), f"{play.minutes:.1f}", f"{play.decibans:.1f}")
    console.print()
    console.print(rows)
    for decision in dossier.decisions:
        console.print(
            f"{when(decision.at)} {escape(decision.reviewer)}: {decision.verdict}, {escape(decision.note)}",
            highlight=False,
        )


@cases.command()
@click.argument("account")
@click.option("--out", type=click.Path(path_type=Path), help="The file; default ACCOUNT.html.")
@store_option
@calibration_option
@recordings_option
@level_option
def page(
    account: str,
    out: Path | None,
    store: str,
    calibration_file: Path | None,
    recordings: Path | None,
    level_file: Path | None,
) -> None:
    """Write an account's case page: one HTML file that opens anywhere, with charts and replays of its shots."""
    from tinclock.cases.review import CaseReview
    from tinclock.report.case_page import write_case_page

    with told_plainly():
        opened = store_at(store, must_exist=True)
        dossier = CaseReview(opened).dossier(account)
        file = write_case_page(
            out or Path(f"{_file_name(account)}.html"), dossier,
            calibration_at(calibration_file) if calibration_file else None,
            limit=opened.limit if dossier.case is None else dossier.case.limit,
            recordings=recordings, level=level_from(level_file),
        )  # fmt: skip
    click.echo(f"page {file}")


def _file_name(account: str) -> str:
    """A name that a file may have: accounts are whatever the game calls them."""
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in account)[:80] or "account"


@cases.command()
@click.argument("account")
@click.option("--ruling", type=int, help="Number of the ruling (default: the strongest evidence).")
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture.")
@store_option
@recordings_option
@click.pass_context
def shot(
    ctx: click.Context, account: str, ruling: int | None, picture: Path | None, store: str, recordings: Path | None
) -> None:
    """Explain and draw one of the key shots of a case."""
    from tinclock.cases.review import CaseReview
    from tinclock.cli.explain import explain

    with told_plainly():
        dossier = CaseReview(store_at(store, must_exist=True)).dossier(account)
    where = {play.match: Path(play.recording) for play in dossier.plays if play.recording}
    telling = [(match, number) for match, gain in dossier.gains for number in gain.rulings if number and match in where]
    chosen = next((item for item in telling if ruling in (None, item[1])), None)
    if chosen is None:
        raise click.ClickException(
            f"{account}: no such shot" if ruling else f"{account}: no single shot shows it; see `tinclock cases show`"
        )
    path = where[chosen[0]]
    if recordings is not None and not path.is_dir():
        path = recordings / path.name
    ctx.invoke(
        explain,
        recording=path,
        number=chosen[1],
        rows=1,
        first=False,
        picture=picture,
        level_file=None,
        recover=False,
        as_json=False,
    )


def _deciding(command: Any) -> Any:
    for option in (json_option, notify_options, reviewer_option, log_option, store_option):
        command = option(command)
    return click.option("--note", required=True, help="Reason (saved with your name).")(command)


@cases.command()
@click.argument("account")
@click.argument("verdict", type=click.Choice(["cleared", "waiting", "confirmed"]))
@_deciding
def decide(
    account: str,
    verdict: str,
    store: str,
    log_folder: Path | None,
    reviewer: str,
    note: str,
    as_json: bool,
    **notices: object,
) -> None:
    """Decide a case. The decision is saved in the evidence log; your game decides what to do."""
    with told_plainly(), notifier(notices) as tell:
        review = _review(store, log_folder, tell)
        _told(review.decide(account, verdict, reviewer=reviewer, note=note), as_json)


@cases.command("note")
@click.argument("account")
@_deciding
def note_case(
    account: str, store: str, log_folder: Path | None, reviewer: str, note: str, as_json: bool, **notices: object
) -> None:
    """Write a note to a case. It decides nothing, and is kept like a decision."""
    with told_plainly(), notifier(notices) as tell:
        _told(_review(store, log_folder, tell).note(account, reviewer=reviewer, note=note), as_json)


@cases.command()
@click.argument("account")
@_deciding
def reopen(
    account: str, store: str, log_folder: Path | None, reviewer: str, note: str, as_json: bool, **notices: object
) -> None:
    """Put a decided case back into the queue."""
    with told_plainly(), notifier(notices) as tell:
        review = _review(store, log_folder, tell)
        _told(review.reopen(account, reviewer=reviewer, note=note), as_json)


def _review(store: str, log_folder: Path | None, tell: Any = None) -> Any:
    from tinclock.cases.review import CaseReview

    return CaseReview(store_at(store, tell, must_exist=True), log_at(store, log_folder))


def _told(decision: Decision, as_json: bool) -> None:
    import msgspec

    if as_json:
        click.echo(json.dumps(msgspec.to_builtins(decision), indent=2))
        return
    kept = f"record {decision.log_number} of the evidence log"
    say(f"{decision.account}: {decision.verdict} by {decision.reviewer}; {kept}")


@cases.command()
@click.argument("first")
@click.argument("second")
@store_option
@json_option
def compare(first: str, second: str, store: str, as_json: bool) -> None:
    """Compare two accounts: their evidence and how often each behaved so."""
    from rich.markup import escape

    from tinclock.cases.figures import compared
    from tinclock.cases.kinds import evidence_text
    from tinclock.cases.review import CaseReview

    with told_plainly():
        review = CaseReview(store_at(store, must_exist=True))
        rows = compared(review.dossier(first), review.dossier(second))
    if as_json:
        click.echo(json.dumps({"accounts": [first, second], "rows": rows}, indent=2))
        return
    console = console_for(False)
    shown = table("", escape(first), escape(second), right=(escape(first), escape(second)))
    for row in rows:
        name = evidence_text(row["name"]).title if row["of"] in ("decibans", "share") else row["name"]
        shown.add_row(
            f"{name}{', %' if row['of'] == 'share' else ''}",
            *(f"{value:.1f}" if value is not None else "-" for value in row["values"]),
        )
    console.print(shown)


@cases.command()
@click.option("--format", "form", type=click.Choice(["json", "csv", "parquet"]), default="json", show_default=True)
@click.option("--out", type=click.Path(path_type=Path), help="The file; default: standard output (not for Parquet).")
@click.option(
    "--table", "what", type=click.Choice(["cases", "decisions", "findings"]), default="cases", show_default=True
)
@click.option("--account", help="Account, required with --table findings.")
@store_option
def export(form: str, out: Path | None, what: str, account: str | None, store: str) -> None:
    """Export cases, decisions or an account's findings as JSON, CSV or Parquet."""
    from tinclock.cases.figures import exported
    from tinclock.cases.review import CaseReview

    if what == "findings" and account is None:
        raise click.UsageError("--table findings needs --account")
    if form == "parquet" and out is None:
        raise click.UsageError("--format parquet needs --out")
    with told_plainly():
        data = exported(CaseReview(store_at(store, must_exist=True)), what, form, account)
    if out is None:
        click.echo(data.decode(), nl=False)
        return
    if written(out, lambda path: path.write_bytes(data)) is not None:
        click.echo(f"{what} {out}")


@cases.command()
@click.argument("account", required=False)
@click.option(
    "--inactive-days",
    "unseen_days",
    type=click.FloatRange(0.0),
    help="All accounts without an open case that were inactive for so many days.",
)
@click.option("--reason", default="", help="Reason (saved without the account's name).")
@click.option("--yes", is_flag=True, help="Skip the confirmation.")
@store_option
@log_option
@reviewer_option
def forget(
    account: str | None,
    unseen_days: float | None,
    reason: str,
    yes: bool,
    store: str,
    log_folder: Path | None,
    reviewer: str,
) -> None:
    """Delete an account's stored data and the key that links it to the log. The deletion itself is logged."""
    if (account is None) == (unseen_days is None):
        raise click.UsageError("name an account, or give --inactive-days")
    who = account or f"everybody who hasn't played for {unseen_days:g} days and has no open case"
    if not yes:
        click.confirm(f"Forget {who}? It can't be undone.", abort=True)
    with told_plainly():
        review = _review(store, log_folder)
        if account is not None:
            done = review.forget(account, reviewer=reviewer, reason=reason or "asked for")
            click.echo(f"forgotten: {done['findings']} findings of {done['matches']} matches")
        else:
            click.echo(f"forgotten: {review.retain(unseen_days or 0.0, reviewer=reviewer)} accounts")


@cases.command()
@store_option
@json_option
def summary(store: str, as_json: bool) -> None:
    """Compare decisions with evidence: how often each type of evidence was confirmed or cleared."""
    from tinclock.cases.figures import summed_up
    from tinclock.cases.kinds import evidence_text
    from tinclock.cases.review import CaseReview

    with told_plainly():
        report = summed_up(CaseReview(store_at(store, must_exist=True)))
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    console = console_for(False)
    rows = table(
        "what spoke most",
        "confirmed",
        "cleared",
        "watched",
        "share confirmed",
        right=("confirmed", "cleared", "watched", "share confirmed"),
    )
    for row in report["kinds"]:
        rows.add_row(
            evidence_text(row["kind"]).title,
            str(row["confirmed"]),
            str(row["cleared"]),
            str(row["waiting"]),
            "-" if row["share"] is None else f"{100 * row['share']:.0f} %",
        )
    console.print(rows)
    for row in report["decibans"]:
        console.print(
            f"{row['from']:.0f} to {row['to']:.0f} decibans: {row['confirmed']} confirmed, {row['cleared']} cleared",
            highlight=False,
        )


cases.add_command(audit)
cases.add_command(check_log)
