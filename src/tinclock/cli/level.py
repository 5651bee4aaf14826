"""`tinclock level`: what a level file holds, and what a modeller would want to mend."""

from __future__ import annotations

import json
from pathlib import Path

import click

from tinclock.cli.case_options import table
from tinclock.cli.reading import console_for, json_option, told_plainly, written
from tinclock.core.plain import Fields

EPILOG = """
\b
Examples:
  tinclock level garden_level.toml
      boxes, or a mesh with its names mapped to surfaces
  tinclock level garden_level.toml --image top.png
      and from above
  tinclock level garden_level.toml --json

\b
A mesh is named in the level file:
  [mesh]
  file = "garden.glb"
  names = { "wall*" = "brick", "Glass" = "glass" }
"""


@click.command(epilog=EPILOG)
@click.argument("file", metavar="LEVEL.toml", type=click.Path(path_type=Path))
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture from above.")
@json_option
def level(file: Path, picture: Path | None, as_json: bool) -> None:
    """Check a level file: size, surfaces, holes, tiny or reversed faces, names without a surface."""
    from tinclock.intake.level_file import level_and_rest
    from tinclock.intake.meshes.mesh_file import look_over
    from tinclock.intake.toml_tables import read_toml

    with told_plainly():
        found, unnamed = level_and_rest(read_toml(file), str(file), file.parent)
        report: Fields = {"level": str(file), **look_over(found)._asdict(), "unnamed": list(unnamed)}
    if picture is not None:
        from tinclock.report.level_figure import draw_level

        drawn = written(picture, lambda path: draw_level(path, found, file.name))
        report["picture"] = None if drawn is None else str(drawn)
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    console = console_for(False)
    rows = table("surface", "triangles", "area m2", right=("triangles", "area m2"))
    for name, count in report["triangles"].items():
        rows.add_row(name, f"{count:,}", f"{report['area_m2'][name]:,.1f}")
    console.print(rows)
    size = " x ".join(f"{b - a:.2f}" for a, b in zip(report["low"], report["high"], strict=True))
    console.print(f"{size} m, from {report['low']} to {report['high']}, z up", highlight=False)
    for key, told in (
        ("holes", "edges with one face only: the surface is open there"),
        ("crowded", "edges with three faces or more"),
        ("turned", "edges whose two faces face opposite ways"),
        ("tiny", "faces without area"),
        ("inside_out", "closed bodies whose faces look inwards: shots stop at their far side"),
    ):
        if report[key]:
            console.print(f"[yellow]{report[key]}[/] {told}", highlight=False)
    for name in unnamed:
        console.print(f"[red]no surface for[/] {name}: left out here, refused where the level is used", highlight=False)
    if report.get("picture"):
        console.print(f"picture {report['picture']}", highlight=False, soft_wrap=True)
