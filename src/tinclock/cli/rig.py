"""`tinclock rig`: hitboxes for a skinned character, fitted to what each bone moves."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import click

from tinclock.cli.case_options import table
from tinclock.cli.reading import console_for, json_option, told_plainly, written
from tinclock.core.plain import Fields

EPILOG = """
\b
Examples:
  tinclock rig hero.glb
      what hitboxes would fit, and how well
  tinclock rig hero.glb --max-hitboxes 16 --out hero.toml
      as a table for the rules file, to edit
  tinclock rig hero.glb --image hero.png
      and drawn, from the front and the side
  tinclock rig hero.glb --names names.toml
      where names are guessed wrong

\b
A mapping names joints as the file has them:
  ["Body L Hand"]
  name = "left_hand"  # also side = "left", zone = "arm"
  part = "none"       # for a joint without a hitbox
"""


@click.command(epilog=EPILOG)
@click.argument("file", metavar="CHARACTER.glb", type=click.Path(path_type=Path))
@click.option("--name", help="Name of the rig (default: the file's name).")
@click.option(
    "--max-hitboxes",
    "parts",
    default=20,
    show_default=True,
    type=click.IntRange(1, 200),
    help="Maximum number of hitboxes.",
)
@click.option("--names", "mapping", type=click.Path(path_type=Path), help="A TOML file that names joints.")
@click.option(
    "--metres-per-unit",
    default=1.0,
    show_default=True,
    type=click.FloatRange(1e-6, 1e6),
    help="Metres in one unit of the file.",
)
@click.option("--out", type=click.Path(path_type=Path), help="File for the rig's table.")
@click.option("--image", "picture", type=click.Path(path_type=Path), help="PNG file for a picture.")
@json_option
def rig(
    file: Path, name: str | None, parts: int, mapping: Path | None, metres_per_unit: float, out: Path | None,
    picture: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Fit a capsule, sphere or box to the vertices that each bone of a glTF character moves."""
    from tinclock.core.geometry.rig import Rig
    from tinclock.intake.meshes.clip_file import read_clips
    from tinclock.intake.meshes.rig_fit import as_toml, fit_rig, unusual_in
    from tinclock.intake.meshes.skin_file import read_skin

    called = name or file.stem
    with told_plainly():
        skin = read_skin(file, metres_per_unit)
        given = _mapping(mapping, skin.names)
        rules, fits = fit_rig(skin, parts, given)
        body, clips = Rig(called, rules), read_clips(file, metres_per_unit)
    report: Fields = {
        "character": str(file), "joints": len(skin.names), "vertices": len(skin.vertices),
        "parts": [{**fit._asdict(), "zone": p.zone, "side": p.side} for fit, p in zip(fits, rules.parts, strict=True)],
        "unusual": unusual_in(skin, rules, given),
        "clips": [{"name": clip.name, "seconds": clip.seconds} for clip in clips],
    }  # fmt: skip
    if out is not None:
        report["out"] = str(written(out, lambda path: path.write_text(as_toml(called, rules), encoding="utf-8")))
    if picture is not None:
        from tinclock.report.rig_figure import draw_rig

        drawn = written(picture, lambda path: draw_rig(path, skin, body, called, fits))
        report["picture"] = None if drawn is None else str(drawn)
    if as_json:
        click.echo(json.dumps(report, indent=2))
        return
    _print(report)


def _mapping(file: Path | None, joints: tuple[str, ...]) -> dict[str, dict[str, str]]:
    if file is None:
        return {}
    try:
        rows = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise click.ClickException(f"{file}: can't be read: {error}") from None
    for joint, row in rows.items():
        if joint not in joints:
            raise click.ClickException(f"{file}: no joint {joint!r}; joints are {', '.join(joints[:40])}")
        if not isinstance(row, dict) or not set(row) <= {"name", "side", "zone", "part"}:
            raise click.ClickException(f"{file}: {joint}: expected name, side, zone or part, got {row!r}")
    return rows


def _print(report: Fields) -> None:
    from rich.markup import escape

    console = console_for(False)
    numbers = ("vertices", "covered", "air")
    rows = table("part", "shape", "zone", "side", *numbers, "joints", right=numbers)
    for part in report["parts"]:
        more = len(part["joints"]) - 3
        joints = ", ".join(part["joints"][:3]) + (f" and {more} more" if more > 0 else "")
        rows.add_row(
            part["part"], part["shape"], part["zone"], part["side"], f"{part['vertices']:,}",
            f"{100 * part['covered']:.0f} %", f"{100 * part['air']:.0f} %", escape(joints),
        )  # fmt: skip
    console.print(rows)
    console.print(
        f"{report['joints']} joints, {report['vertices']:,} vertices; covered: of a part's vertices, by its hitbox; "
        "air: of the hitbox, what the vertices' hull doesn't fill", highlight=False, soft_wrap=True,
    )  # fmt: skip
    for odd in report["unusual"]:
        console.print(f"[yellow]~[/] {escape(odd)}", highlight=False)
    if report["clips"]:
        told = ", ".join(f"{clip['name']} ({clip['seconds']:.2f} s)" for clip in report["clips"])
        console.print(f"clips for tests: {escape(told)}", highlight=False, soft_wrap=True)
    for key in ("out", "picture"):
        if report.get(key):
            console.print(f"{key} {report[key]}", highlight=False, soft_wrap=True)
