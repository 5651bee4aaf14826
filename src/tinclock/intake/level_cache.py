"""Levels kept ready on disk, by the digest of what they were made from."""

from __future__ import annotations

import hashlib
import os
import tempfile
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.errors import MeshError
from tinclock.core.geometry.level import Level, Surface, Tree, level_digest

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import ArrayLike

FORMAT = 2
TREE = ("boxes", "children", "triangles", "face")


def cached_level(
    directory: str | Path,
    vertices: ArrayLike,
    faces: ArrayLike,
    kinds: ArrayLike | None = None,
    surfaces: Sequence[Surface] = (Surface("solid"),),
) -> Level:
    """`Level(vertices, faces, kinds, surfaces)`, whose tree is built once and kept in `directory`.

    The file's name is the digest of the mesh and its surfaces, so another level is another file. A file that is torn or
    of another format is built again. Raises what `Level` raises, and `OSError` when the directory can't be written.

    vertices : (v, 3) float64, metres; faces : (n, 3) int; kinds : (n,) int.
    """
    digest = level_digest(vertices, faces, kinds, surfaces)
    file = Path(directory) / f"level-{digest[:32]}-{FORMAT}.npz"
    tree = _read(file)
    if tree is not None:
        try:
            return Level(vertices, faces, kinds, surfaces, tree=tree)
        except MeshError:
            pass  # either the mesh is at fault, which building shows, or the file, which building mends
    level = Level(vertices, faces, kinds, surfaces)
    _write(file, level.tree)
    return level


def _read(file: Path) -> Tree | None:
    try:
        with file.open("rb") as handle, np.load(handle, allow_pickle=False) as held:
            boxes, children, triangles, face = (held[name] for name in TREE)
            sound = str(held["checksum"]) == _checksum((boxes, children, triangles, face))
    except (OSError, KeyError, ValueError, EOFError, zipfile.BadZipFile):
        return None
    return (boxes, children, triangles, face) if sound else None


def _checksum(tree: Tree) -> str:
    sha = hashlib.sha256()
    for array in tree:
        sha.update(np.ascontiguousarray(array).tobytes())
    return sha.hexdigest()


def _write(file: Path, tree: Tree) -> None:
    """All or nothing: a reader never sees half a file."""
    file.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=file.parent, suffix=".part")
    try:
        with os.fdopen(handle, "wb") as out:
            boxes, children, triangles, face = tree
            np.savez(out, checksum=_checksum(tree), boxes=boxes, children=children, triangles=triangles, face=face)
        os.replace(name, file)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
