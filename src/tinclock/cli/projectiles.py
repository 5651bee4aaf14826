"""`tinclock demo projectiles`: small scenes of what flies in the garden, told and drawn."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Console
from rich.table import Table

from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from tinclock.garden.flights import ThrowScene

EPILOG = """
\b
Examples:
  tinclock demo projectiles
      the table, and three pictures in flights-output/
  tinclock demo projectiles --out pictures
      the pictures elsewhere
  tinclock demo projectiles --explain
      besides, every ruling step by step
  tinclock demo projectiles --json
      the same as JSON, for scripts
"""
PIPE_WIDTH = 120


@click.command(epilog=EPILOG)
@click.option(
    "--out",
    default="flights-output",
    show_default=True,
    type=click.Path(file_okay=False, path_type=Path),
    help="Folder for pictures.",
)
@click.option("--explain", is_flag=True, help="Print each projectile's checks.")
@click.option("--json", "as_json", is_flag=True, help="Print the result as JSON and nothing else.")
def projectiles(out: Path, explain: bool, as_json: bool) -> None:
    """Fly a clod, one dodge under three compensations and a dart; print what they did, and draw them."""
    from tinclock.garden.flights import compensation_scenes, dart_scene, mortar_scene

    clod, dodges, dart = mortar_scene(), compensation_scenes(), dart_scene()
    scenes = [clod, *dodges, dart]
    files = _draw(clod, dodges, dart, out)
    if as_json:
        click.echo(json.dumps({"scenes": [_summary(scene) for scene in scenes], "files": files}, indent=2))
        return
    console = Console(width=None if sys.stdout.isatty() else PIPE_WIDTH)
    console.print(_table(scenes))
    if explain:
        for scene in scenes:
            for ruling in scene.rulings:
                console.print(f"\n[bold]{scene.name}[/] {ruling.explain()}", highlight=False, soft_wrap=True)
    for name, path in files.items():
        console.print(f"{name:<22} {path}", highlight=False, soft_wrap=True)


def _draw(clod: ThrowScene, dodges: list[ThrowScene], dart: ThrowScene, out: Path) -> dict[str, str]:
    from tinclock.core.errors import MissingExtraError

    try:
        from tinclock.report.flight_figures import draw_compensations, draw_dart, draw_mortar

        out.mkdir(parents=True, exist_ok=True)
        return {
            "mortar picture": str(draw_mortar(clod, out / "mortar.png")),
            "compensation picture": str(draw_compensations(dodges, out / "compensation.png")),
            "dart picture": str(draw_dart(dart, out / "dart.png")),
        }
    except MissingExtraError as error:
        click.echo(f"no pictures: {error}", err=True)
        return {}
    except OSError as error:
        raise click.ClickException(f"--out {out}: can't be written: {error.strerror}") from None


def _summary(scene: ThrowScene) -> Fields:
    return {
        "scene": scene.name,
        "flight_time_s": scene.end.server_time - scene.launch.server_time,
        "ended": scene.end.cause,
        "surface": scene.end.surface or None,
        "victim": scene.end.victim or None,
        "bounces": len(scene.bounces),
        "position": scene.end.position,
        "hits": [{"victim": hit.victim, "part": hit.part, "damage": hit.damage} for hit in scene.hits],
    }


def _table(scenes: list[ThrowScene]) -> Table:
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name, side in (
        ("scene", "left"),
        ("flown s", "right"),
        ("bounces", "right"),
        ("ended", "left"),
        ("hit", "left"),
    ):
        table.add_column(name, justify=side)  # type: ignore[arg-type]
    for scene in scenes:
        told = _summary(scene)
        hits = ", ".join(f"entity {hit['victim']} {hit['part']} {hit['damage']:.1f}" for hit in told["hits"])
        hits = hits.replace("_", " ") or "nobody"
        table.add_row(
            told["scene"],
            f"{told['flight_time_s']:.3f}",
            str(told["bounces"]),
            told["ended"],
            hits.replace("_", " ") or "nobody",
        )
    return table
