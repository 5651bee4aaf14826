"""`tinclock replay`: rule a recording again, by the same rules or by others."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.reading import (
    STYLES,
    console_for,
    json_option,
    level_from,
    level_option,
    opened,
    progress,
    recording_argument,
    report_problems,
    salvage_option,
    told_plainly,
    written,
)
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.core.analysis.ruling_diff import RulingDiff
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recording import Recording
    from tinclock.recordings.replaying import ReplayResult

    Side = tuple[list[Ruling], list[int]]

COUNTS = ("accepted", "adjusted", "rejected", "repeated", "damage", "kills", "flipped")
"""The columns of a range, value by value."""
EPILOG = """
\b
Examples:
  tinclock replay evening
      the same rules: the digests must be equal
  tinclock replay evening --set view.max_rewind_s=0.2
      what a cap of 200 ms would have changed
  tinclock replay evening --rules strict.toml
      what other rules would have changed
  tinclock replay evening --sweep view.max_rewind_s=0:0.4:0.05 \\
      --image range.png

\b
Players act as they did: what they would have done under other rules isn't
known. A player who dies under other rules stays dead until the recording
lets it spawn, and its claims are rejected; with --no-deaths nobody dies on
either side, so that each claim is judged by itself.
Exit status: 0 done; 1 the same rules gave other rulings, or the recording
can't be read.
"""


@click.command(epilog=EPILOG)
@recording_argument
@click.option(
    "--rules", "rules_file", type=click.Path(path_type=Path), help="Rules file to use instead of the recorded rules."
)
@click.option("--set", "settings", multiple=True, metavar="KEY=VALUE", help="Change one setting; repeatable.")
@click.option("--sweep", "over", metavar="KEY=FROM:TO:STEP", help="Replay with each value of one setting.")
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture of the sweep.")
@click.option("--no-deaths", is_flag=True, help="Disable deaths, so that each claim is judged alone.")
@click.option("--limit", "rows", default=20, show_default=True, help="Flipped rulings to list; 0 lists all.")
@level_option
@salvage_option
@json_option
def replay(
    recording: Path, rules_file: Path | None, settings: tuple[str, ...], over: str | None, picture: Path | None,
    no_deaths: bool, rows: int, level_file: Path | None, recover: bool, as_json: bool,
) -> None:  # fmt: skip
    """Replay a recording. Its own rules give the same rulings, bit for bit; other rules show what they change."""
    if picture is not None and over is None:
        raise click.UsageError("--image draws what --sweep tries; give both")
    with told_plainly():
        source, level = opened(recording, recover), level_from(level_file)
        rules = _rules(source, rules_file, settings)
        if over is not None:
            _sweep(source, rules, level, over, picture, no_deaths, as_json)
            report_problems(source)
            return
        console = console_for(as_json)
        with progress(console, "ruling again") as show:
            started = time.perf_counter()
            same = rules == source.require_header().rules and not no_deaths
            before = None if same else _before(source, level, no_deaths)
            found = _rule(source, _mortal(rules, no_deaths), level, show, keep=not same)
            took = time.perf_counter() - started
        report = {**_summary(found, took), "recording": str(recording)}
        if before is None:
            _same(found, report, source, as_json)
        else:
            _other(before, found, report, rows, as_json)
        report_problems(source)


def _rules(source: Recording, file: Path | None, settings: tuple[str, ...]) -> Rules:
    from tinclock.intake.rules_file import load_rules
    from tinclock.intake.settings import with_setting

    rules = source.require_header().rules if file is None else load_rules(file)
    for key, value in pairs(settings):
        rules = with_setting(rules, key, value)
    return rules


def pairs(settings: tuple[str, ...]) -> tuple[tuple[str, object], ...]:
    """Key paths and values of KEY=VALUE."""
    from tinclock.intake.settings import value_of

    out = []
    for text in settings:
        key, mark, value = text.partition("=")
        if not mark:
            raise click.UsageError(f"--set {text}: expected KEY=VALUE, such as view.max_rewind_s=0.2")
        out.append((key, value_of(value)))
    return tuple(out)


def _rule(source: Recording, rules: Rules, level: Level | None, show: Any = None, *, keep: bool = True) -> ReplayResult:
    from tinclock.recordings.replaying import replay

    return replay(source, rules=rules, level=level, on_progress=show, keep=keep)


def _summary(found: ReplayResult, took: float) -> Fields:
    return {
        "rulings": found.ruling_count, "events": found.event_count, "ticks": found.ticks,
        "rulings_sha256": found.sha256, "events_sha256": found.events_sha256,
        "seconds_played": found.seconds, "took_s": took,
    }  # fmt: skip


def _same(found: ReplayResult, report: Fields, source: Recording, as_json: bool) -> None:
    noted = source.flushes[-1].rulings_sha256 if source.flushes else ""
    report |= {"rulings_sha256_recorded": noted, "as_recorded": found.as_recorded}
    if as_json:
        click.echo(json.dumps(report, indent=2))
    else:
        console = console_for(False)
        console.print(
            f"[bold]{report['rulings']} rulings[/] and {report['events']} events of {report['seconds_played']:.1f} s "
            f"ruled again in {report['took_s']:.1f} s, loading included",
            highlight=False, soft_wrap=True,
        )  # fmt: skip
        console.print(f"digest now      {found.sha256}", highlight=False, soft_wrap=True)
        alike = "the same values, under the names of 0.2" if source.is_old else "the same, bit for bit"
        verdict = f"[green]{alike}[/]" if found.as_recorded else "[red]NOT the same[/]"
        console.print(
            f"digest recorded {noted or 'none: nothing was flushed'}  {verdict}", highlight=False, soft_wrap=True
        )
    if not found.as_recorded and not source.problems:
        raise click.ClickException("the same rules gave other rulings: was it recorded by another version?")


def _other(recorded: Side, found: ReplayResult, report: Fields, rows: int, as_json: bool) -> None:
    from tinclock.core.analysis.ruling_diff import diff_rulings

    change = diff_rulings(*recorded, found.rulings, found.call_numbers)
    report |= {
        "rulings_recorded": change.before,
        "flipped": len(change.flips),
        "outcomes": [{"before": a, "after": b, "count": n} for (a, b), n in change.outcomes.items()],
        "accounts": {name: {"flipped": n, "damage_change": d} for name, (n, d) in change.accounts.items()},
        "findings": change.findings,
        "refused_calls": [refused._asdict() for refused in found.refused],
    }
    if as_json:
        flips = [
            {
                "call_number": flip.call_number,
                "ruling": _number(flip.before),
                "before": _outcome(flip.before),
                "after": _outcome(flip.after),
            }
            for flip in change.flips
        ]
        click.echo(json.dumps({**report, "flips": flips}, indent=2))
        return
    _print_changes(change, report, rows)


def _mortal(rules: Rules, no_deaths: bool) -> Rules:
    from tinclock.intake.settings import without_deaths

    return without_deaths(rules) if no_deaths else rules


def _before(source: Recording, level: Level | None, no_deaths: bool) -> Side:
    """Return the rulings for comparison: the recorded ones, or those of the run without deaths."""
    if no_deaths:
        found = _rule(source, _mortal(source.require_header().rules, True), level)
        return found.rulings, found.call_numbers
    steps = [step for flush in source.flushes for step in source.piece("rulings", flush)["call_number"].to_pylist()]
    return list(source.rulings()), steps


def _number(ruling: Ruling | None) -> int | None:
    return None if ruling is None else ruling.number


def _outcome(ruling: Ruling | None) -> str:
    return "-" if ruling is None else ruling.outcome


def _print_changes(change: RulingDiff, report: Fields, rows: int) -> None:
    from rich.table import Table

    console = console_for(False)
    console.print(f"[bold]{len(change.flips)} of {change.before} rulings[/] change", highlight=False)
    for (a, b), count in change.outcomes.items():
        same = " (other hits or damage)" if a == b else ""
        console.print(f"  {count:>5}  [{STYLES[a]}]{a}[/] -> [{STYLES[b]}]{b}[/]{same}", highlight=False)
    for code, count in change.findings.items():
        console.print(f"  {count:>+5}  {code}", highlight=False)
    for name, (count, damage) in change.accounts.items():
        console.print(f"  {count:>5}  of {name or '(server)'}, damage {round(damage, 1) + 0.0:+.1f}", highlight=False)
    if report["refused_calls"]:
        console.print(f"  {len(report['refused_calls'])} recorded calls are refused by these rules", highlight=False)
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in ("#", "time s", "account", "kind", "before", "after"):
        whole = name in ("#", "time s")
        table.add_column(name, justify="right" if whole else "left", no_wrap=whole, overflow="fold")
    shown = change.flips if rows == 0 else change.flips[:rows]
    for flip in shown:
        one = flip.before or flip.after
        if one is not None:
            number = str(_number(flip.before) or "-")
            table.add_row(
                number, f"{one.received_at:.3f}", one.account, one.kind, _told(flip.before), _told(flip.after)
            )
    console.print(table)
    if len(shown) < len(change.flips):
        console.print(f"... and {len(change.flips) - len(shown)} more (--limit 0 lists all)", highlight=False)


def _told(ruling: Ruling | None) -> str:
    if ruling is None:
        return "-"
    hit = f" {ruling.hits[0].part.replace('_', ' ')} {ruling.damage:.1f}" if ruling.hits else ""
    found = f" ({ruling.findings[0].code})" if ruling.findings else ""
    return f"[{STYLES[ruling.outcome]}]{ruling.outcome}[/]{hit}{found}"


def _sweep(
    source: Recording, rules: Rules, level: Level | None, text: str, picture: Path | None, no_deaths: bool,
    as_json: bool
) -> None:  # fmt: skip
    from tinclock.intake.settings import setting_of, with_setting
    from tinclock.recordings.sweeps import replay_sweep

    key, values = span(text)
    given = setting_of(rules, key)
    console = console_for(as_json)
    tried = [_mortal(with_setting(rules, key, value), no_deaths) for value in values]
    against = _mortal(source.require_header().rules, True) if no_deaths else None
    with progress(console, f"trying {key}") as show:
        found = replay_sweep(source, tried, against=against, level=level, on_progress=show)
    table = [
        {"value": value, **{name: getattr(one, name) for name in COUNTS}}
        for value, one in zip(values, found, strict=True)
    ]
    report: Fields = {"recording": str(source.path), "setting": key, "recorded": given, "rows": table}
    if picture is not None:
        from tinclock.report.sweep_figure import draw_sweep

        file = written(picture, lambda path: draw_sweep(path, key, given, table, source.path.name))
        report["figure"] = None if file is None else str(file)
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    _print_sweep(console, report)


def span(text: str) -> tuple[str, list[float]]:
    """A key and the values of KEY=FROM:TO:STEP, both ends included."""
    key, mark, rest = text.partition("=")
    try:
        low, high, step = (float(number) for number in rest.split(":"))
        count = round((high - low) / step)
        if not mark or count < 0 or step <= 0.0 or count > 1000:
            raise ValueError(text)
    except (ValueError, ZeroDivisionError):
        raise click.UsageError(f"{text}: expected KEY=FROM:TO:STEP, such as view.max_rewind_s=0:0.4:0.05") from None
    return key, [round(low + k * step, 12) for k in range(count + 1)]


def _print_sweep(console: Console, report: Fields) -> None:
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    table.add_column(report["setting"], justify="right")
    for name in COUNTS:
        table.add_column(name, justify="right")
    for row in report["rows"]:
        mark = " *" if row["value"] == report["recorded"] else "  "
        table.add_row(f"{row['value']:g}{mark}", *(f"{row[name]:.0f}" for name in COUNTS))
    console.print(table)
    console.print("* as recorded", highlight=False)
    if report.get("figure"):
        console.print(f"figure {report['figure']}", highlight=False, soft_wrap=True)
