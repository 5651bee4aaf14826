"""`tinclock demo`: play the garden match, rule it, show it."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeElapsedColumn
from rich.table import Table

from tinclock.cli.reading import STYLES, console_for
from tinclock.cli.summary import print_files, print_sample, print_summary, summarise
from tinclock.core.plain import Fields
from tinclock.core.ruling.records import counted_as

if TYPE_CHECKING:
    from tinclock.core.analysis.miss_explanation import MissExplanation
    from tinclock.core.analysis.shot_scene import ShotScene
    from tinclock.core.ruling.records import Ruling
    from tinclock.garden.played import Played

EPILOG = """
\b
Examples:
  tinclock demo
      the table, the summary, the files in demo-output/
  tinclock demo --seed 3 --out run3
      another match, written elsewhere
  tinclock demo --shot 57
      explain ruling 57, draw it, and the target at five instants
  tinclock demo --json | jq .outcomes
      the summary for a script
  tinclock demo projectiles
      instead: a lobbed clod, one dodge under three compensations, a fast dart
  tinclock explain demo-output/sample --outcome rejected --kind shot
      questions to the sample recording
"""


class _WithProjectiles(click.Group):
    """`demo` by itself plays the match; what else it can show loads when it is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return ["projectiles"]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name != "projectiles":
            return None
        from tinclock.cli.projectiles import projectiles

        return projectiles


@click.group(cls=_WithProjectiles, invoke_without_command=True, subcommand_metavar="[projectiles]", epilog=EPILOG)
@click.option("--seed", default=7, show_default=True, help="Same seed, same match, same rulings.")
@click.option(
    "--seconds",
    default=20.0,
    show_default=True,
    type=click.FloatRange(1.0, 3600.0),
    help="Duration of the match in seconds.",
)
@click.option(
    "--out",
    default="demo-output",
    show_default=True,
    type=click.Path(file_okay=False, path_type=Path),
    help="Folder for rulings, findings and pictures.",
)
@click.option("--limit", "rows", default=40, show_default=True, help="Rulings to list; 0 lists all.")
@click.option("--shot", type=click.IntRange(1), help="Number of the ruling to explain and draw.")
@click.option("--json", "as_json", is_flag=True, help="Print the summary as JSON and nothing else.")
@click.option("--quiet", is_flag=True, help="Print nothing; write the files.")
@click.pass_context
def demo(
    ctx: click.Context, seed: int, seconds: float, out: Path, rows: int, shot: int | None, as_json: bool, quiet: bool
) -> None:
    """Simulate a match of the demo game, rule on its claims, and show the rulings."""
    if ctx.invoked_subcommand is not None:
        return
    talk = not (as_json or quiet)
    console = console_for(not talk)
    _compile(console)
    played, drawable = _play(seed, seconds, console)
    known = {ruling.number: ruling for ruling in played.rulings}
    if shot is not None and shot not in known:
        raise click.UsageError(f"--shot {shot}: this match has rulings 1 to {len(known)}")
    chosen = shot if shot is not None else _telling(played.rulings, drawable)
    files = _write(played, drawable.get(chosen), out)
    sample = _sample(out)
    files |= sample.pop("files", {})
    summary = {**summarise(played, files), "sample": sample}
    if as_json:
        click.echo(json.dumps(summary, indent=2))
        return
    if shot is None:
        _print_table(console, played, rows)
        print_summary(console, summary)
        print_sample(console, sample)
    else:
        names, (_, reason) = played.entities, drawable.get(shot, (None, None))
        text = known[shot].explain(names, reason.because(names) if reason else "")
        console.print(text, markup=False, highlight=False, soft_wrap=True)
        console.print()
    print_files(console, summary)


def _compile(console: Console) -> None:
    """Compile what was never compiled on this machine, and say so: it takes half a minute, once."""
    from tinclock.cli.compiling import warm_up_beside
    from tinclock.core.warming import is_compiled

    if is_compiled():
        return
    columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console, transient=True) as progress:
        task = progress.add_task("compiling, once", total=1.0)

        def show(name: str, done: int, of: int) -> None:
            progress.update(task, completed=done / of, description=f"compiling, once: {name}" if name else "compiled")

        warm_up_beside(show)


def _play(seed: int, seconds: float, console: Console) -> tuple[Played, dict[int, tuple[ShotScene, MissExplanation]]]:
    from tinclock.core.analysis.miss_explanation import explain_miss
    from tinclock.core.analysis.shot_scene import HistorySlice, shot_scene_of
    from tinclock.core.ruling.claims import ShotClaim
    from tinclock.garden.match import simulate_match

    drawable: dict[int, tuple[ShotScene, MissExplanation]] = {}

    def keep(referee: Any, ruling: Ruling, claim: object) -> None:
        past = HistorySlice(referee.history, referee.rules, referee.level)
        surroundings = shot_scene_of(past, ruling, claim) if isinstance(claim, ShotClaim) else None
        if surroundings is not None:
            drawable[ruling.number] = surroundings, explain_miss(past, ruling, getattr(claim, "view", None))

    columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console, transient=True) as progress:
        task = progress.add_task("preparing", total=1.0)

        def show(share: float) -> None:
            progress.update(task, completed=share, description=f"playing {seconds:g} s, seed {seed}")

        played = simulate_match(seed=seed, seconds=seconds, on_ruling=keep, on_progress=show)
    return played, drawable


def _sample(out: Path) -> Fields:
    """Copy the recording that ships with the package, and rule it again; empty without pyarrow."""
    import shutil

    from tinclock.core.errors import MissingExtraError
    from tinclock.garden.scenario import data_file

    files = {"sample recording": out / "sample", "its truth": out / "sample-truth"}
    for path in files.values():
        shutil.copytree(str(data_file(path.name)), path, dirs_exist_ok=True)
    try:
        from tinclock.recordings.recording import Recording
        from tinclock.recordings.replaying import replay

        found = replay(Recording(out / "sample"))
    except MissingExtraError as error:
        click.echo(f"no recordings: {error}", err=True)
        return {}
    return {
        "seconds": found.seconds, "rulings": len(found.rulings), "rulings_sha256": found.sha256,
        "as_recorded": found.as_recorded, "files": {kind: str(path) for kind, path in files.items()},
    }  # fmt: skip


def _telling(rulings: list[Ruling], drawable: dict[int, tuple[ShotScene, MissExplanation]]) -> int:
    """The accepted hit whose victim has moved furthest since the shooter's view: it shows best what rewinding does."""
    best, number = -1.0, 0
    for ruling in rulings:
        surroundings, _ = drawable.get(ruling.number, (None, None))
        if surroundings is None or not ruling.hits or ruling.outcome != "accepted":
            continue
        if surroundings.moved_m > best and ruling.hits[0].distance_m < 16.0:
            best, number = surroundings.moved_m, ruling.number
    return number


def _write(played: Played, shown: tuple[ShotScene, MissExplanation] | None, out: Path) -> dict[str, str]:
    import msgspec

    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise click.ClickException(f"--out {out}: can't be created: {error.strerror}") from None
    files = {"rulings": out / "rulings.jsonl", "findings": out / "findings.jsonl"}
    encode = msgspec.json.Encoder().encode
    files["rulings"].write_bytes(b"".join(encode(ruling) + b"\n" for ruling in played.rulings))
    found = (finding for ruling in played.rulings for finding in ruling.findings)
    files["findings"].write_bytes(b"".join(encode(finding) + b"\n" for finding in found))
    from tinclock.core.errors import MissingExtraError

    try:
        files |= _draw(played, shown, out)
    except MissingExtraError as error:
        click.echo(f"no pictures: {error}", err=True)
    return {kind: str(path) for kind, path in files.items()}


def _draw(played: Played, shown: tuple[ShotScene, MissExplanation] | None, out: Path) -> dict[str, Path]:
    from tinclock.report.match_figure import draw_match
    from tinclock.report.shot_figure import draw_shot
    from tinclock.report.time_figures import draw_bounds, draw_clock
    from tinclock.report.views_figure import draw_views

    fired = [ruling for ruling in played.rulings if ruling.kind in FIRED]
    files = {
        "match picture": draw_match(
            out / "match.png",
            title=f"Garden match, seed {played.seed}, {played.seconds:g} s: {len(fired)} shots and attacks",
            level=played.garden.level,
            rulings=fired,
            paths=played.paths,
            accounts=[seat.account for seat in played.seats],
            teams={seat.account: seat.team for seat in played.seats},
        )
    }
    unlucky = max(played.seats, key=lambda seat: seat.line.jitter_s)
    ends = f"The clock of {unlucky.account}, the connection with the most jitter"
    files["clock picture"] = draw_clock(played.clocks[unlucky.connection], out / "clock.png", ends)
    moved = max(played.seats, key=lambda seat: (_ruled_elsewhere(played, seat.connection), seat.line.jitter_s))
    ends = f"The views of {moved.account}, which has the most that were ruled at another age"
    files["bounds picture"] = draw_bounds(played.bounds[moved.connection], out / "bounds.png", ends)
    if shown is not None:
        surroundings, reason = shown
        files["shot picture"] = draw_shot(surroundings, out / "shot.png", played.entities, reason)
        files["views picture"] = draw_views(surroundings, out / "views.png", played.entities)
    return files


def _ruled_elsewhere(played: Played, connection: str) -> int:
    """Count reasons to rule a connection's view at another time: kinds of reasons, then views."""
    reasons = Counter(
        finding.code
        for ruling in played.rulings
        if ruling.connection == connection
        for finding in ruling.findings
        if finding.code in ("over_rewind_limit", "view_inconsistent")
    )
    return 1000 * len(reasons) + reasons.total()


COLUMNS = (
    ("#", "right", 0),
    ("time s", "right", 0),
    ("shooter", "left", 0),
    ("weapon", "left", 112),
    ("hit", "left", 0),
    ("at m", "right", 90),
    ("rewound ms", "right", 90),
    ("damage", "right", 0),
    ("outcome", "left", 0),
    ("first finding", "left", 0),
)
"""Name, side, and the least terminal width at which the column is shown."""
SHORTEST = {"#": 4, "time s": 7, "damage": 6, "outcome": 8}
"""Characters that a column keeps on a narrow terminal."""
TELLING = ("rejected", "adjusted", "accepted")
FIRED = frozenset({"shot", "launch", "melee", "projectile"})
"""Kinds that are listed."""


def _print_table(console: Console, played: Played, rows: int) -> None:
    table = Table(box=None, pad_edge=False, header_style="bold")
    keep = [least <= console.width for _, _, least in COLUMNS]
    for (name, side, _), kept in zip(COLUMNS, keep, strict=True):
        if kept:
            table.add_column(  # numbers and outcomes stay whole; names give way
                name, justify=side, no_wrap=True, min_width=SHORTEST.get(name),  # type: ignore[arg-type]
            )  # fmt: skip
    fired = [ruling for ruling in played.rulings if ruling.kind in FIRED]
    shown = fired if rows == 0 else telling_first(fired, rows)
    for ruling in shown:
        cells = _cells(ruling, played)
        table.add_row(*(cell for cell, kept in zip(cells, keep, strict=True) if kept))
    console.print(table)
    others = len(played.rulings) - len(fired)
    more = f"... and {len(fired) - len(shown)} more (--limit 0 lists all), " if len(shown) < len(fired) else ""
    console.print(f"{more}besides {others} moves and other claims that fire nothing\n", highlight=False)


def telling_first(fired: list[Ruling], rows: int) -> list[Ruling]:
    """Return some rulings in order of time: rejected and adjusted ones first, one of each reason."""
    kinds: dict[tuple[int, str], list[Ruling]] = {}
    for ruling in fired:
        code = ruling.findings[0].code if ruling.findings else str(bool(ruling.hits))
        kinds.setdefault((TELLING.index(ruling.outcome), code), []).append(ruling)
    share = {place: max(1, rows // 3) for place in range(2)}  # the others have at least a third of the rows
    chosen: list[Ruling] = []
    for place in range(len(TELLING)):
        room = rows - len(chosen) if place not in share else min(share[place], rows - len(chosen))
        groups = [list(group) for (own, _), group in sorted(kinds.items()) if own == place]
        picked: list[Ruling] = []
        while groups and len(picked) < room:
            picked += [group.pop(0) for group in groups][: room - len(picked)]
            groups = [group for group in groups if group]
        chosen += sorted(picked, key=lambda ruling: ruling.number)
    return chosen


def _cells(ruling: Ruling, played: Played) -> tuple[str, ...]:
    hit = ruling.hits[0] if ruling.hits else None
    met = (
        f"{played.entities[hit.victim]}, {hit.part}"
        if hit
        else f"({ruling.stopped_by.explain() if ruling.stopped_by else 'nothing'})"
    )
    if ruling.reached_m is None:
        met = "-"
    return (
        str(ruling.number),
        f"{ruling.received_at:.3f}",
        ruling.account or "(server)",
        ruling.weapon.replace("_", " "),
        met.replace("_", " "),
        "-" if ruling.reached_m is None else f"{ruling.reached_m:.1f}",
        "-" if ruling.rewound_s is None else f"{max(0.0, ruling.rewound_s) * 1000:.0f}",
        f"{ruling.damage:.1f}" if ruling.damage else "-",
        f"[{STYLES[counted_as(ruling)]}]{counted_as(ruling)}[/]",
        ruling.findings[0].code if ruling.findings else "",
    )
