"""Levels from glTF 2.0 and OBJ: names of nodes, meshes and materials become kinds of surfaces; axes and units convert.

A file is only read: what it holds is taken as triangles, and its instances are put where their nodes are.
"""

from __future__ import annotations

from fnmatch import fnmatchcase
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Annotated, Literal, NamedTuple

import numpy as np
from msgspec import Meta, Struct

from tinclock.core.errors import MissingExtraError, RulesError
from tinclock.core.geometry.level import Level, Surface
from tinclock.intake.meshes.gltf_file import Document

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray


Positive = Annotated[float, Meta(gt=0)]
TINY_M2 = 1e-8
"""A face smaller than a tenth of a millimetre squared."""
SAME_M = 1e-5
"""Corners so close to each other are one, when it is asked where a mesh has holes."""


UPRIGHT = {
    "z": np.eye(3),
    "y": np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]]),
    "x": np.array([[0.0, 0.0, -1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]]),
}
"""Rotations that turn each axis up: no mirror among them."""


class MeshTable(Struct, frozen=True, forbid_unknown_fields=True):
    """The `[mesh]` of a level file.

    file : beside the level file; up : which of its axes points up: by default what the format says, y for glTF
    names : patterns of names, each with the surface that they mean; the first that fits counts
    """

    file: str
    names: dict[str, str]
    up: Literal["x", "y", "z"] | None = None
    metres_per_unit: Positive = 1.0


class MeshPiece(NamedTuple):
    """One mesh of a file, in its place. names : of its node, its geometry and its material, as far as it has them."""

    names: tuple[str, ...]
    vertices: NDArray[np.float64]
    faces: NDArray[np.int64]


MAX_TRIANGLES = 20_000_000


class LevelMesh(NamedTuple):
    """A file's triangles, z up, metres, with the surface of each; unnamed : names that no pattern fits."""

    vertices: NDArray[np.float64]
    faces: NDArray[np.int64]
    kinds: NDArray[np.int64]
    unnamed: tuple[str, ...]


class Findings(NamedTuple):
    """Properties of a level's mesh.

    low, high : corners of its bounds, metres
    triangles, area_m2 : by surface
    holes : edges that only one face has: there a shot can get in without going through a front face
    crowded : edges of three faces or more; turned : edges whose two faces face opposite ways
    tiny : faces without area worth the name; inside_out : closed bodies whose faces look inwards
    """

    low: tuple[float, ...]
    high: tuple[float, ...]
    triangles: dict[str, int]
    area_m2: dict[str, float]
    holes: int
    crowded: int
    turned: int
    tiny: int
    inside_out: int


def read_mesh(table: MeshTable, surfaces: Sequence[str], folder: Path, source: str) -> LevelMesh:
    """The triangles of a level file's mesh.

    surfaces : the level's, in order; folder : of the level file; source : names it in messages

    Raises `RulesError` for what can't be used, `MissingExtraError` without trimesh.
    """
    path = folder / table.file
    up = table.up or {".gltf": "y", ".glb": "y"}.get(path.suffix.lower())
    problems = [
        f"mesh.names.{pattern!r}: no surface {surface!r}; surfaces are {', '.join(surfaces) or 'none'}"
        for pattern, surface in table.names.items()
        if surface not in surfaces
    ]
    if up is None:
        problems.append(f'mesh.up: {path.suffix or "this format"} doesn\'t say which axis points up; give "y" or "z"')
    if problems:
        raise RulesError(source, problems)
    corners, rows, kinds, unnamed, count = [], [], [], list[str](), 0
    for piece in _pieces(path, source):
        surface = next((s for p, s in table.names.items() if any(fnmatchcase(name, p) for name in piece.names)), None)
        if surface is None:
            unnamed.append("/".join(dict.fromkeys(name for name in piece.names if name)) or "(no name)")
            continue
        corners.append(piece.vertices)
        rows.append(piece.faces + count)
        kinds.append(np.full(len(piece.faces), surfaces.index(surface), np.int64))
        count += len(piece.vertices)
    if not corners:
        told = f"; its names are {', '.join(unnamed[:12])}" if unnamed else "; it holds no triangles"
        raise RulesError(source, [f"mesh.names: no pattern fits anything in {table.file}{told}"])
    upright = np.concatenate(corners) @ UPRIGHT[up or "z"].T * table.metres_per_unit
    return LevelMesh(upright, np.concatenate(rows), np.concatenate(kinds), tuple(dict.fromkeys(unnamed)))


def mesh_level(
    source: bytes | str | Path, *, names: Mapping[str, str] | None = None, surfaces: Sequence[Surface] | None = None,
    up: Literal["x", "y", "z"] | None = None, metres_per_unit: float = 1.0, form: Literal["glb", "obj"] = "glb",
) -> Level:  # fmt: skip
    """A level from a mesh alone: a file, or bytes of one as they came from anywhere.

    names : patterns of names in it, each with the surface that they mean; by default all of it is the first surface
    surfaces : by default one, "solid"; up, metres_per_unit : as in a level file; form : what the bytes are

    Raises `RulesError` for what can't be used, `MissingExtraError` without trimesh.
    """
    kinds = tuple(surfaces or (Surface("solid"),))
    if isinstance(source, bytes):
        with TemporaryDirectory() as folder:  # the reader wants a file beside which others may lie
            path = Path(folder) / f"level.{form}"
            path.write_bytes(source)
            return mesh_level(path, names=names, surfaces=kinds, up=up, metres_per_unit=metres_per_unit)
    path = Path(source)
    table = MeshTable(path.name, dict(names or {"*": kinds[0].name}), up, metres_per_unit)
    mesh = read_mesh(table, [kind.name for kind in kinds], path.parent, path.name)
    return Level(mesh.vertices, mesh.faces, mesh.kinds, kinds)


def _pieces(path: Path, source: str) -> list[MeshPiece]:
    try:
        import trimesh
    except ImportError:
        raise MissingExtraError("load_level", "trimesh", "meshes") from None
    if not path.is_file():
        raise RulesError(source, [f"mesh.file: {path.name} is not there, beside the level file"])
    try:
        if path.suffix.lower() in (".gltf", ".glb"):
            Document(path)
        scene = trimesh.load_scene(path, process=False)
    except RulesError as error:
        raise RulesError(source, [f"mesh.file: {path.name}: {problem}" for problem in error.problems]) from None
    except Exception as error:  # whatever a broken file makes the reader raise
        raise RulesError(source, [f"mesh.file: {path.name} can't be read: {type(error).__name__}: {error}"]) from None
    out, triangles = [], 0
    for node in sorted(scene.graph.nodes_geometry):
        transform, name = scene.graph[node]
        mesh = scene.geometry[name]
        if not len(getattr(mesh, "faces", ())):
            continue
        triangles += len(mesh.faces)
        if triangles > MAX_TRIANGLES:
            raise RulesError(source, [f"mesh.file: {path.name} holds more than {MAX_TRIANGLES:,} triangles"])
        material = getattr(getattr(mesh.visual, "material", None), "name", None) or ""
        vertices = np.asarray(mesh.vertices, np.float64) @ transform[:3, :3].T + transform[:3, 3]
        faces = np.asarray(mesh.faces, np.int64)
        if np.linalg.det(transform[:3, :3]) < 0.0:  # mirrored: its faces would look inwards
            faces = faces[:, ::-1]
        out.append(MeshPiece((str(node), str(name), str(material)), vertices, faces))
    return out


def look_over(level: Level) -> Findings:
    """Properties of a level's mesh: sizes, and problems for its modeller to fix."""
    vertices, faces = level.vertices, level.faces
    corners = vertices[faces]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2.0
    _, same = np.unique(np.round(vertices / SAME_M).astype(np.int64), axis=0, return_inverse=True)
    welded = same.reshape(-1)[faces]
    edges = np.concatenate([welded[:, [0, 1]], welded[:, [1, 2]], welded[:, [2, 0]]])
    owner = np.tile(np.arange(len(faces)), 3)
    real = edges[:, 0] != edges[:, 1]
    edges, owner = edges[real], owner[real]
    _, which, count = np.unique(np.sort(edges, axis=1), axis=0, return_inverse=True, return_counts=True)
    which = which.reshape(-1)
    along = np.bincount(which, weights=np.where(edges[:, 0] < edges[:, 1], 1.0, -1.0))
    return Findings(
        tuple(vertices.min(0).round(3).tolist()), tuple(vertices.max(0).round(3).tolist()),
        {s.name: int((level.kinds == k).sum()) for k, s in enumerate(level.surfaces)},
        {s.name: float(area[level.kinds == k].sum().round(2)) for k, s in enumerate(level.surfaces)},
        int((count == 1).sum()), int((count > 2).sum()), int(((count == 2) & (along != 0.0)).sum()),
        int((area < TINY_M2).sum()), _inside_out(corners, owner, which, count),
    )  # fmt: skip


def _inside_out(
    corners: NDArray[np.float64], owner: NDArray[np.int64], which: NDArray[np.int64], count: NDArray[np.int64]
) -> int:
    """Return the number of closed bodies with a negative volume (by the divergence theorem, triangle by triangle)."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    faces = len(corners)
    graph = coo_array((np.ones(len(owner)), (owner, which)), shape=(faces, len(count)))
    _, body = connected_components((graph @ graph.T) > 0, directed=False)
    shared = np.bincount(body[owner], weights=(count[which] != 2).astype(float), minlength=body.max() + 1)
    volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) / 6.0
    total = np.bincount(body, weights=volume, minlength=len(shared))
    return int(((shared == 0.0) & (total < 0.0)).sum())
