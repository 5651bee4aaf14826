"""The level's mesh inside a recording: `level/vertices.parquet` and `level/faces.parquet`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.errors import RecordingError
from tinclock.core.geometry.level import Level, level_digest

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.recordings.layout import LevelNote


def write_level(folder: Path, level: Level) -> None:
    """Put a level's mesh down: vertices with x, y, z in metres; faces with a, b, c, rows of those, and their kind."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    try:
        folder.mkdir(parents=True)
    except OSError as error:
        raise RecordingError(folder, f"can't be written: {error.strerror}") from None
    vertices = {axis: np.ascontiguousarray(level.vertices[:, k]) for k, axis in enumerate("xyz")}
    faces = {corner: np.ascontiguousarray(level.faces[:, k]) for k, corner in enumerate("abc")}
    parquet.write_table(pa.table(vertices), folder / "vertices.parquet", compression="zstd", store_schema=False)
    parquet.write_table(
        pa.table({**faces, "kind": level.kinds}), folder / "faces.parquet", compression="zstd", store_schema=False
    )


def read_level(folder: Path, note: LevelNote) -> Level:
    """The level that was put down. Raises `RecordingError` when it isn't the one whose digest the header holds."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    try:
        vertices = parquet.read_table(folder / "vertices.parquet")
        faces = parquet.read_table(folder / "faces.parquet")
        points = np.column_stack([vertices[axis].to_numpy() for axis in "xyz"])
        corners = np.column_stack([faces[corner].to_numpy() for corner in "abc"])
        kinds = faces["kind"].to_numpy()
    except (OSError, KeyError, pa.ArrowException) as error:
        raise RecordingError(folder, f"the level can't be read: {str(error).splitlines()[0]}") from None
    surfaces = [surface.surface() for surface in note.surfaces]
    found = level_digest(points, corners, kinds, surfaces)
    if found != note.digest:
        raise RecordingError(folder, f"the level was altered: its digest is {found[:16]}, noted is {note.digest[:16]}")
    return Level(points, corners, kinds, surfaces)


def require_level(level: Level | None, note: LevelNote | None, source: object) -> None:
    """Raise `RecordingError` unless a level that was handed in is the recorded one."""
    if level is None and note is None:
        return
    given = "none" if level is None else level_digest(level.vertices, level.faces, level.kinds, level.surfaces)[:16]
    noted = "none" if note is None else note.digest[:16]
    if given != noted:
        raise RecordingError(source, f"was played in a level with digest {noted}; the one given has {given}")
