"""Loading a level file: boxes with surfaces, in TOML."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated

from msgspec import Meta, Struct, field

from tinclock.core.errors import RulesError
from tinclock.core.geometry.level import Level, Surface
from tinclock.intake.toml_tables import convert_table, read_toml

if TYPE_CHECKING:
    from pathlib import Path

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
    boxes: list[BoxTable]
    surfaces: dict[str, SurfaceTable] = field(default_factory=dict)


def load_level(path: str | Path) -> Level:
    """Read a level file. Raises `RulesError` listing every mistake."""
    return parse_level(read_toml(path), str(path))


def parse_level(tables: object, source: str = "level") -> Level:
    """A level from tables that are already read; `source` names them in messages."""
    table = convert_table(LevelTable, tables, source)
    problems = [
        f"boxes[{place}].surface: no surface {box.surface!r}; surfaces are {', '.join(table.surfaces) or 'none'}"
        for place, box in enumerate(table.boxes)
        if box.surface not in table.surfaces
    ]
    if table.schema != 1:
        problems.append(f"schema: got {table.schema}, expected 1")
    if not table.boxes:
        problems.append("boxes: at least one is needed")
    if problems:
        raise RulesError(source, problems)
    names = list(table.surfaces)
    surfaces = [
        Surface(name, s.blocks_sight, math.inf if s.resistance_per_m is None else s.resistance_per_m)
        for name, s in table.surfaces.items()
    ]
    return Level.from_boxes(
        [box.centre for box in table.boxes],
        [[side / 2 for side in box.size] for box in table.boxes],
        [math.radians(box.yaw_deg) for box in table.boxes],
        [names.index(box.surface) for box in table.boxes],
        surfaces,
    )
