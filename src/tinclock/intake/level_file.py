"""Loading a level file: boxes with surfaces, and a mesh, in TOML."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated

import numpy as np
from msgspec import Meta, Struct, field

from tinclock.core.errors import RulesError
from tinclock.core.geometry.level import Level, Surface
from tinclock.intake.meshes.mesh_file import MeshTable, read_mesh
from tinclock.intake.toml_tables import convert_table, read_toml

Positive = Annotated[float, Meta(gt=0)]


class SurfaceTable(Struct, frozen=True, forbid_unknown_fields=True):
    """A kind of surface; without a resistance it stops everything."""

    blocks_sight: bool = True
    resistance_per_m: Annotated[float, Meta(ge=0)] | None = None


class BoxTable(Struct, frozen=True, forbid_unknown_fields=True):
    """An upright box, turned about z."""

    centre: tuple[float, float, float]
    size: tuple[Positive, Positive, Positive]
    surface: str
    yaw_deg: float = 0.0
    name: str = ""


class LevelTable(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A whole level file."""

    schema: int
    boxes: list[BoxTable] = field(default_factory=list)
    mesh: MeshTable | None = None
    surfaces: dict[str, SurfaceTable] = field(default_factory=dict)


def load_level(path: str | Path) -> Level:
    """Read a level file. Raises `RulesError` listing every mistake, `MissingExtraError` for a mesh without trimesh."""
    return parse_level(read_toml(path), str(path), Path(path).parent)


def parse_level(tables: object, source: str = "level", folder: Path | None = None) -> Level:
    """A level from tables that are already read.

    source : names them in messages; folder : where the files lie that they name; None: they may name none
    """
    level, unnamed = level_and_rest(tables, source, folder)
    if unnamed:
        told = f"{', '.join(unnamed[:12])}{' ...' if len(unnamed) > 12 else ''}"
        raise RulesError(source, [f"mesh.names: no pattern fits {told}; give them a surface"])
    return level


def level_and_rest(tables: object, source: str, folder: Path | None) -> tuple[Level, tuple[str, ...]]:
    """The level, and the names in its mesh that no pattern fits: what those stand for is not in it."""
    table = convert_table(LevelTable, tables, source)
    problems = [
        f"boxes[{place}].surface: no surface {box.surface!r}; surfaces are {', '.join(table.surfaces) or 'none'}"
        for place, box in enumerate(table.boxes)
        if box.surface not in table.surfaces
    ]
    if table.schema != 1:
        problems.append(f"schema: got {table.schema}, expected 1")
    if not table.boxes and table.mesh is None:
        problems.append("boxes: at least one is needed, or a [mesh]")
    if table.mesh is not None and folder is None:
        problems.append("mesh: a level that doesn't come from a file can't name one")
    if problems:
        raise RulesError(source, problems)
    names = list(table.surfaces)
    surfaces = [
        Surface(name, s.blocks_sight, math.inf if s.resistance_per_m is None else s.resistance_per_m)
        for name, s in table.surfaces.items()
    ]
    if table.mesh is None or folder is None:
        return _boxes(table.boxes, names, surfaces), ()
    mesh = read_mesh(table.mesh, names, folder, source)
    if not table.boxes:
        return Level(mesh.vertices, mesh.faces, mesh.kinds, surfaces), mesh.unnamed
    boxes = _boxes(table.boxes, names, surfaces)
    vertices = np.concatenate([boxes.vertices, mesh.vertices])
    faces = np.concatenate([boxes.faces, mesh.faces + len(boxes.vertices)])
    return Level(vertices, faces, np.concatenate([boxes.kinds, mesh.kinds]), surfaces), mesh.unnamed


def _boxes(boxes: list[BoxTable], names: list[str], surfaces: list[Surface]) -> Level:
    return Level.from_boxes(
        [box.centre for box in boxes],
        [[side / 2 for side in box.size] for box in boxes],
        [math.radians(box.yaw_deg) for box in boxes],
        [names.index(box.surface) for box in boxes],
        surfaces,
    )
