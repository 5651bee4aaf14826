"""`tinclock explain`: any claim of a recording, step by step, and drawn."""

from __future__ import annotations

import json
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import click

from tinclock.cli.reading import (
    STYLES,
    console_for,
    json_option,
    level_from,
    level_option,
    opened,
    recording_argument,
    report_problems,
    salvage_option,
    told_plainly,
    written,
)
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Iterable

    from tinclock.core.analysis.miss_explanation import MissExplanation
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recording import Recording

EPILOG = """
\b
Examples:
  tinclock explain evening 58
      ruling 58, every step
  tinclock explain evening 58 --image shot.png
      and drawn
  tinclock explain evening --account beryl --outcome rejected
      the rejected claims of beryl
  tinclock explain evening --finding over_rewind_limit --first
      the first of those, explained
  tinclock explain evening --from 12 --to 15 --kind shot --missed
      shots of those seconds that hit nobody
"""


@click.command(epilog=EPILOG)
@recording_argument
@click.argument("number", metavar="[RULING]", required=False, type=int)
@click.option("--account", help="Only claims of this account.")
@click.option("--weapon", help="Only with this weapon.")
@click.option("--kind", help="Only claims of this type: shot, launch, melee, move, ...")
@click.option(
    "--outcome", type=click.Choice(["accepted", "adjusted", "rejected", "repeated"]), help="Only with this outcome."
)
@click.option("--finding", help="Only rulings with this finding.")
@click.option("--from", "since", type=float, default=float("-inf"), help="Earliest server time in seconds.")
@click.option("--to", "until", type=float, default=float("inf"), help="Latest server time in seconds.")
@click.option("--missed", is_flag=True, help="Only shots, melee attacks and projectiles that hit nobody.")
@click.option("--include-server", "servers_own", is_flag=True, help="Include entities that the server controls.")
@click.option("--first", is_flag=True, help="Explain the first match of the filters instead of listing all.")
@click.option("--limit", "rows", default=40, show_default=True, help="Rulings to list; 0 lists all.")
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture.")
@level_option
@salvage_option
@json_option
def explain(
    recording: Path, number: int | None, rows: int, first: bool, picture: Path | None, level_file: Path | None,
    recover: bool, as_json: bool, **wanted: Any,
) -> None:  # fmt: skip
    """Explain a claim: every check with its value and its limit, and what would have changed the result.

    Without a RULING, list the rulings that match the filters, and explain a single match at once. Server-controlled
    entities are left out unless --include-server is given.
    """
    with told_plainly():
        source = opened(recording, recover)
        if number is not None:
            chosen = [source.ruling(number)]
        else:
            chosen = list(_fitting(source.rulings(wanted["since"], wanted["until"]), **wanted))
        if not chosen:
            raise click.ClickException(_why_none(source, recording, wanted))
        if len(chosen) == 1 or first:
            flew = [ruling for ruling in chosen if ruling.outcome != "rejected"] if picture is not None else []
            _explain(source, (flew or chosen)[0], level_from(level_file), picture, as_json)
        else:
            if picture is not None:
                raise click.UsageError(f"--image: {len(chosen)} rulings fit; name one, or take the --first")
            _list(chosen, source.names(), rows, as_json)
        report_problems(source)


HITTING = ("shot", "melee", "projectile")
"""The rulings that can hit somebody."""


def _fitting(
    rulings: Iterable[Ruling], account: str | None, weapon: str | None, kind: str | None, outcome: str | None,
    finding: str | None, since: float, until: float, missed: bool, servers_own: bool,
) -> Iterable[Ruling]:  # fmt: skip
    from tinclock.core.ruling.records import counted_as

    for ruling in rulings:
        if (
            (account is None or ruling.account == account)
            and (weapon is None or ruling.weapon == weapon)
            and (kind is None or ruling.kind == kind)
            and (outcome is None or counted_as(ruling) == outcome)
            and (finding is None or any(found.code == finding for found in ruling.findings))
            and since <= ruling.received_at <= until
            and not (missed and (ruling.hits or ruling.kind not in HITTING))
            and (servers_own or ruling.account != "")
        ):
            yield ruling


NAMED: Final = ("account", "weapon", "kind", "finding")
"""Filters by a name that the recording has, or hasn't."""


def _why_none(source: Recording, recording: Path, wanted: Fields) -> str:
    """Say which name the recording doesn't know, what there is, and the nearest; or that nothing fits them all."""
    from tinclock.core.findings import FINDINGS

    found: dict[str, set[str]] = {name: set() for name in NAMED}
    for ruling in source.rulings():
        found["account"].add(ruling.account)
        found["weapon"].add(ruling.weapon)
        found["kind"].add(ruling.kind)
        found["finding"].update(one.code for one in ruling.findings)
    for name in NAMED:
        given, there = wanted[name], sorted(found[name] - {""})
        if given is None or given in there:
            continue
        if name == "finding" and given in FINDINGS:
            return f"{recording}: nothing was found of {given!r}; found were: {', '.join(there) or 'none'}"
        near = get_close_matches(given, [*there, *(FINDINGS if name == "finding" else ())], 1, 0.5)
        hint = f" Did you mean {near[0]!r}?" if near else ""
        return f"{recording}: there is no {name} {given!r}.{hint} There are: {', '.join(there) or 'none'}"
    return f"{recording}: no ruling fits all of these; see `tinclock info {recording}`"


def _explain(source: Recording, ruling: Ruling, level: Level | None, picture: Path | None, as_json: bool) -> None:
    import msgspec

    from tinclock.core.analysis.miss_explanation import explain_miss
    from tinclock.core.errors import RecordingError
    from tinclock.recordings.history_slice import claim_of, history_around

    names, said, file, because = source.names(), [], None, ""
    try:
        past = history_around(source, ruling, level)
    except RecordingError as error:
        if picture is not None or not source.recover:
            raise
        source.problems.append(str(error))
    else:
        found = explain_miss(past, ruling, getattr(claim_of(source, ruling), "view", None))
        said, because = found.describe(names), found.because(names)
        if picture is not None:
            file = written(picture, lambda path: _draw(source, past, ruling, names, found, path))
    if as_json:
        told = {
            "ruling": msgspec.to_builtins(ruling),
            "trace": ruling.explain(names, because).splitlines(),
            "why": said,
        }
        click.echo(json.dumps({**told, "picture": None if file is None else str(file)}, indent=2))
        return
    console = console_for(False)
    console.print(ruling.explain(names, because), markup=False, highlight=False, soft_wrap=True)
    for line in said:
        console.print(f"  -> {line}", markup=False, highlight=False, soft_wrap=True)
    if file is not None:
        console.print(f"picture {file}", markup=False, highlight=False, soft_wrap=True)


def _draw(
    source: Recording, past: Any, ruling: Ruling, names: dict[int, str], found: MissExplanation, path: Path
) -> None:
    from tinclock.core.analysis.shot_scene import shot_scene_of
    from tinclock.core.ruling.claims import ShotClaim
    from tinclock.recordings.history_slice import claim_of
    from tinclock.report.projectile_figure import draw_flown, flights_of
    from tinclock.report.shot_figure import draw_shot

    if ruling.kind in ("launch", "projectile"):
        flights = flights_of(source.events(), ruling)
        if not flights:
            raise click.ClickException(
                f"ruling {ruling.number} is a {ruling.kind} that was {ruling.outcome}, so nothing flew; "
                "--outcome accepted finds one that did"
            )
        draw_flown(path, past, ruling, flights, names)
        return
    claim = claim_of(source, ruling)
    surroundings = shot_scene_of(past, ruling, claim if isinstance(claim, ShotClaim) else None)
    if surroundings is None:
        raise click.ClickException(
            f"ruling {ruling.number}: {ruling.kind}, {ruling.outcome} before anything was cast; nothing to draw"
        )
    draw_shot(surroundings, path, names, found)


def _list(chosen: list[Ruling], names: dict[int, str], rows: int, as_json: bool) -> None:
    from rich.markup import escape
    from rich.table import Table

    from tinclock.core.ruling.records import counted_as

    shown = chosen if rows == 0 else chosen[:rows]
    if as_json:
        import msgspec

        click.echo(json.dumps({"rulings": len(chosen), "listed": msgspec.to_builtins(shown)}, indent=2))
        return
    console = console_for(False)
    table = Table(box=None, pad_edge=False, header_style="bold")
    whole = ("#", "time s", "damage", "outcome")  # what may not be cut: numbers that are typed, and what came of it
    for name, side in (("#", "right"), ("time s", "right"), ("account", "left"), ("kind", "left"), ("weapon", "left"),
                       ("hit", "left"), ("damage", "right"), ("outcome", "left"), ("findings", "left")):  # fmt: skip
        least = 7 if name == "outcome" else None
        table.add_column(name, justify=side, no_wrap=name in whole, min_width=least)  # type: ignore[arg-type]
    for ruling in shown:
        hit = "-"
        if ruling.hits:
            first = ruling.hits[0]
            hit = f"{names.get(first.victim) or f'entity {first.victim}'}, {first.part.replace('_', ' ')}"
        table.add_row(
            str(ruling.number), f"{ruling.received_at:.3f}", escape(ruling.account) or "(server)", ruling.kind,
            ruling.weapon, escape(hit), f"{ruling.damage:.1f}" if ruling.damage else "-",
            f"[{STYLES[counted_as(ruling)]}]{counted_as(ruling)}[/]", ", ".join(f.code for f in ruling.findings),
        )  # fmt: skip
    console.print(table)
    if len(shown) < len(chosen):
        console.print(f"... and {len(chosen) - len(shown)} more (--limit 0 lists all)", highlight=False)
