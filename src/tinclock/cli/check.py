"""`tinclock check`: everything that is wrong or odd in a rules file, and what its weapons come to."""

from __future__ import annotations

import json
import sys
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.markup import escape
from rich.table import Table

from tinclock.cli.reading import console_for, counted, told_plainly
from tinclock.core.analysis.lethality import lethality, mortal_rigs
from tinclock.core.errors import RulesError
from tinclock.core.plain import Fields
from tinclock.core.rules.contradictions import carried_by_all, unusual_rules
from tinclock.core.rules.strictness import overridden
from tinclock.intake.old_names import SCHEMA, renamed_rules, renamed_text
from tinclock.intake.rules_file import load_rules
from tinclock.intake.toml_tables import read_toml

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.core.rules.ruleset import Rules

EPILOG = """
\b
Examples:
  tinclock check garden.toml
      mistakes, unusual settings, and how many hits each weapon needs
  tinclock check garden.toml --distance 20
      the same at 20 m, with falloff
  tinclock check old.toml --fix
      a file of version 0.2, rewritten with the new names of its keys
  tinclock check rules/*.toml --strict --quiet
      for a build: unusual settings fail it too

\b
Exit status: 0 nothing wrong, 1 mistakes (with --strict also what is unusual),
2 wrong options.
"""


@click.command(epilog=EPILOG)
@click.argument("files", nargs=-1, required=True, metavar="RULES...", type=click.Path(path_type=Path))
@click.option(
    "--target-rig",
    "against",
    metavar="RIG",
    help="Rig to count hits against (default: the first that takes damage).",
)
@click.option(
    "--distance", "distance_m", default=0.0, type=click.FloatRange(0.0), help="Distance in metres, for falloff."
)
@click.option("--fix", is_flag=True, help="Rewrite files of version 0.2 with the new names of their keys.")
@click.option("--strict", is_flag=True, help="Fail on unusual settings too.")
@click.option("--json", "as_json", is_flag=True, help="Print the result as JSON and nothing else.")
@click.option("--quiet", is_flag=True, help="Print mistakes and unusual settings only.")
def check(
    files: tuple[Path, ...], against: str | None, distance_m: float, fix: bool, strict: bool, as_json: bool, quiet: bool
) -> None:
    """Check rules files for mistakes and unusual settings, and show how many hits each weapon needs."""
    if fix:
        with told_plainly():
            for file in files:
                _fix(file, quiet=quiet or as_json)
    reports = [_look(file, against, distance_m) for file in files]
    if as_json:
        click.echo(json.dumps(reports, indent=2))
    else:
        console = console_for(False)
        for place, report in enumerate(reports):
            if place and not quiet:
                console.print()
            _print(console, report, quiet)
    if any(report["mistakes"] or (strict and report["unusual"]) for report in reports):
        sys.exit(1)


def _fix(file: Path, *, quiet: bool) -> None:
    """Rewrite a rules file of version 0.2 in place, and list what was renamed."""
    tables = read_toml(file)
    if tables.get("schema") != SCHEMA:
        return
    text = renamed_text(file.read_bytes().decode(), str(file))
    new = file.with_name(f".{file.name}.new")
    new.write_bytes(text.encode())
    new.replace(file)
    for one in () if quiet else renamed_rules(tables)[1]:
        click.echo(f"{file}: {one}")


def _look(file: Path, against: str | None, distance_m: float) -> Fields:
    report: Fields = {
        "file": str(file), "mistakes": [], "unusual": [], "overrides": [], "strictness": None, "weapons": [],
        "carried_by_all": {"weapons": [], "items": []},
    }  # fmt: skip
    try:
        rules = load_rules(file)
    except RulesError as error:
        report["mistakes"] = list(error.problems)
        return report
    report["strictness"] = rules.strictness
    report["unusual"] = unusual_rules(rules)
    report["carried_by_all"] = carried_by_all(rules)
    report["overrides"] = overridden(tomllib.loads(file.read_text("utf-8")))
    rigs = mortal_rigs(rules)
    if against is not None and against not in rigs:
        known = ", ".join(rigs) or "none"
        raise click.UsageError(f"--target-rig {against}: {file} has no such rig that can be hurt; there are: {known}")
    if rigs:
        report["weapons"] = _weapons(rules, against or rigs[0], distance_m)
    return report


def _weapons(rules: Rules, rig: str, distance_m: float) -> list[Fields]:
    return [
        {**row._asdict(), "kind": rules.weapons[row.weapon].kind, "interval_s": rules.weapons[row.weapon].interval_s}
        for row in lethality(rules, rig, distance_m)
    ]


def _print(console: Console, report: Fields, quiet: bool) -> None:
    mistakes, odd = report["mistakes"], report["unusual"]
    if quiet and not mistakes and not odd:
        return
    colour = "red" if mistakes else "yellow" if odd else "green"
    verdict = counted(len(mistakes), "mistake") if mistakes else "no mistakes"
    if not mistakes:  # looked for only in sound rules
        verdict += f", {counted(len(odd), 'unusual setting', 'unusual settings')}" if odd else ", nothing unusual"
    console.print(f"[bold]{escape(report['file'])}[/]: [{colour}]{verdict}[/]", highlight=False, soft_wrap=True)
    grid = Table.grid(padding=(0, 1, 0, 0))
    overrides = [f"{line}: this key overrides the profile" for line in report["overrides"]]
    carried = [
        f"every player without a loadout carries {', '.join(names)}"
        for names in report["carried_by_all"].values()
        if names and not quiet
    ]
    for mark, style, lines in (("x", "red", mistakes), ("~", "yellow", odd), ("i", "cyan", [*overrides, *carried])):
        for line in lines:
            grid.add_row(f"  [{style}]{mark}[/]", escape(line))
    if grid.row_count:
        console.print(grid, highlight=False)
    if report["weapons"] and not quiet:
        _print_weapons(console, report)


def _print_weapons(console: Console, report: Fields) -> None:
    rows = report["weapons"]
    zones = list(dict.fromkeys(row["zone"] for row in rows))
    distance = f"{rows[0]['distance_m']:g} m"
    console.print(
        f"\n  strictness {report['strictness']}; hits to kill a {escape(rows[0]['rig'])} at {distance}, and seconds\n"
        "  from the first to the last; -: no damage there",
        highlight=False,
    )
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name, side in (("weapon", "left"), ("kind", "left"), ("every s", "right")):
        table.add_column(name, justify=side, no_wrap=True)  # type: ignore[arg-type]
    for zone in zones:
        table.add_column(zone, justify="right", no_wrap=True)
    for name in dict.fromkeys(row["weapon"] for row in rows):
        mine = {row["zone"]: row for row in rows if row["weapon"] == name}
        first = next(iter(mine.values()))
        table.add_row(escape(name), first["kind"], f"{first['interval_s']:g}", *(_cell(mine[zone]) for zone in zones))
    console.print(table)


def _cell(row: Fields) -> str:
    if row["damage"] == 0.0:
        return "-"
    return "never" if row["hits"] is None else f"{row['hits']} {row['seconds']:.2f}"
