"""The level: what doesn't move. Triangles with surface kinds, and the questions a ruling asks of them."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.arrays import check_finite, require_limits, require_rays, require_shape, sound_ray
from tinclock.core.errors import BadNumberError, MeshError
from tinclock.core.kernels.memory import header_of
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import ArrayLike, NDArray


class Surface(NamedTuple):
    """A kind of surface.

    `resistance_per_m` is what a metre of it costs a shot, in the unit of a weapon's penetration; inf stops everything.
    """

    name: str
    blocks_sight: bool = True
    resistance_per_m: float = float("inf")


Tree = tuple["NDArray[Any]", "NDArray[Any]", "NDArray[Any]", "NDArray[Any]"]


class LevelHit(NamedTuple):
    """Hit of a ray on the level. `facing` is negative at a front (outer) face, positive at a back face."""

    distance_m: float
    surface: Surface
    face: int
    facing: float


class LevelHits(NamedTuple):
    """Hits of many rays on the level: face is -1 and distance_m is inf where a ray meets nothing."""

    distance_m: NDArray[np.float64]
    face: NDArray[np.int64]


_BOX_CORNERS = np.array([[x, y, z] for z in (-1.0, 1.0) for y in (-1.0, 1.0) for x in (-1.0, 1.0)], dtype=np.float64)
_BOX_FACES = np.array(
    [
        [0, 2, 3], [0, 3, 1], [4, 5, 7], [4, 7, 6], [0, 1, 5], [0, 5, 4],
        [2, 6, 7], [2, 7, 3], [0, 4, 6], [0, 6, 2], [1, 3, 7], [1, 7, 5],
    ],
    dtype=np.int64,
)  # fmt: skip


class Level:
    """Triangles in a bounding-volume tree.

    vertices : (v, 3) float64, metres, world frame
    faces : (n, 3) int, rows of `vertices`, counter-clockwise seen from outside
    kinds : (n,) int, for each face its place in `surfaces`
    tree : another level's `tree` over the same mesh, so that it needn't be built

    Raises `MeshError` when there is no triangle or an index is out of range, `BadArrayError` for wrong shapes and
    non-finite vertices. Face numbers in results are rows of `faces`.
    """

    def __init__(
        self,
        vertices: ArrayLike,
        faces: ArrayLike,
        kinds: ArrayLike | None = None,
        surfaces: Sequence[Surface] = (Surface("solid"),),
        *,
        tree: Tree | None = None,
    ) -> None:
        points = require_shape("vertices", vertices, (None, 3), np.float64)
        corners = require_shape("faces", faces, (None, 3), np.int64)
        check_finite("vertices", points)
        if len(corners) == 0:
            raise MeshError("the mesh has no triangles; a level needs at least one (use level=None for open ground)")
        if corners.min() < 0 or corners.max() >= len(points):
            row = int(np.flatnonzero(((corners < 0) | (corners >= len(points))).any(axis=1))[0])
            raise MeshError(
                f"face {row} is {corners[row].tolist()}, but vertex numbers run from 0 to {len(points) - 1}"
            )
        self.surfaces = tuple(surfaces)
        self.kinds = (
            np.zeros(len(corners), np.int64)
            if kinds is None
            else require_shape("kinds", kinds, (len(corners),), np.int64)
        )
        if len(self.surfaces) == 0 or self.kinds.min() < 0 or self.kinds.max() >= len(self.surfaces):
            raise MeshError(
                f"surface kinds run from 0 to {len(self.surfaces) - 1}; got {self.kinds.min()}..{self.kinds.max()}"
            )
        self.vertices, self.faces = points, corners
        middle = points[corners].reshape(-1, 3)
        self._centre = (middle.min(axis=0) + middle.max(axis=0)) / 2
        self.tree: Tree = self._plant() if tree is None else _sound_tree(tree, len(corners))
        """The kernels' arrays, see `tree`: boxes, children, triangles, face."""
        self.header = header_of(self.tree)
        self.offset: tuple[float, float, float] = tuple(self._centre.tolist())
        self.packed = (self.header, *self.offset)
        """Arguments for kernels of flights, see `kernels.sweep`."""
        self._face = self.tree[3]
        self._kind_of_row = self.kinds[self._face].tolist()
        passable = np.array([surface.resistance_per_m < float("inf") for surface in self.surfaces], np.int16)
        self.passable_rows = passable[self.kinds[self._face]] if passable.any() else np.zeros(0, np.int16)
        """Flags of the kernels' rows that penetrating shots pass through; empty if there are none."""

    @classmethod
    def from_boxes(
        cls,
        centres: ArrayLike,
        half_sizes: ArrayLike,
        yaws_rad: ArrayLike | None = None,
        kinds: ArrayLike | None = None,
        surfaces: Sequence[Surface] = (Surface("solid"),),
    ) -> Level:
        """A level of upright boxes: centres and half_sizes (n, 3) in metres, turned about z by yaws_rad (n,)."""
        middle = require_shape("centres", centres, (None, 3), np.float64)
        half = require_shape("half_sizes", half_sizes, (len(middle), 3), np.float64)
        yaw = (
            np.zeros(len(middle))
            if yaws_rad is None
            else require_shape("yaws_rad", yaws_rad, (len(middle),), np.float64)
        )
        kind = (
            np.zeros(len(middle), np.int64)
            if kinds is None
            else require_shape("kinds", kinds, (len(middle),), np.int64)
        )
        local = _BOX_CORNERS[None] * half[:, None]
        cos, sin = np.cos(yaw)[:, None], np.sin(yaw)[:, None]
        turned = np.stack(
            [
                local[..., 0] * cos - local[..., 1] * sin,
                local[..., 0] * sin + local[..., 1] * cos,
                local[..., 2],
            ],
            -1,
        )
        points = (turned + middle[:, None]).reshape(-1, 3)
        faces = (_BOX_FACES[None] + 8 * np.arange(len(middle))[:, None, None]).reshape(-1, 3)
        return cls(points, faces, np.repeat(kind, len(_BOX_FACES)), surfaces)

    def _plant(self) -> Tree:
        from tinclock.core.kernels import triangles as tree

        corners = self.vertices[self.faces] - self._centre
        order, *nodes = tree.build_binary(corners.min(axis=1), corners.max(axis=1))
        slack = TOLERANCES.bound_relative * float(np.abs(corners).max()) + TOLERANCES.bound_m
        boxes, children = tree.widen(*nodes, slack)
        a, b, c = corners[order, 0], corners[order, 1], corners[order, 2]
        triangles = np.ascontiguousarray(np.concatenate([a, b, c], axis=1))
        return boxes, children, triangles, np.ascontiguousarray(order)

    def __len__(self) -> int:
        return len(self.faces)

    @property
    def digest(self) -> str:
        """SHA-256 over vertices, faces and surfaces: two levels with one digest rule alike."""
        return level_digest(self.vertices, self.faces, self.kinds, self.surfaces)

    def first(
        self,
        origin: tuple[float, float, float],
        direction: tuple[float, float, float],
        limit_m: float,
        radius_m: float = 0.0,
    ) -> LevelHit | None:
        """The nearest surface along a direction of any length, within `limit_m` metres; None when there is none.

        With a radius, what a ball whose centre starts at `origin` touches first, after how many metres.
        """
        from tinclock.core.kernels.triangles import first_triangle_alone

        (ox, oy, oz), (dx, dy, dz), limit = sound_ray(origin, direction, limit_m)
        if not 0.0 <= radius_m < float("inf"):
            raise BadNumberError("radius_m", "a finite number of at least 0", radius_m)
        cx, cy, cz = self.offset
        row, distance, facing = first_triangle_alone(
            (ox - cx, oy - cy, oz - cz, dx, dy, dz), float(radius_m), limit, self.header
        )
        return self.met(row, distance, facing)

    def surface_of(self, row: int) -> Surface:
        """The surface of a kernel's row."""
        surface: Surface = self.surfaces[self._kind_of_row[row]]
        return surface

    def met(self, row: int, distance_m: float, facing: float) -> LevelHit | None:
        """A kernel's answer in words; None for row -1."""
        if row < 0:
            return None
        return LevelHit(distance_m, self.surfaces[self._kind_of_row[row]], int(self._face[row]), facing)

    def first_many(self, origins: ArrayLike, directions: ArrayLike, limits_m: ArrayLike) -> LevelHits:
        """`first` for many rays: origins and directions (m, 3), limits_m (m,) or one number, float64."""
        from tinclock.core.kernels.parallel import in_chunks
        from tinclock.core.kernels.triangles import first_triangles

        start = require_shape("origins", origins, (None, 3), np.float64)
        along = require_shape("directions", directions, (len(start), 3), np.float64)
        limit = require_limits(limits_m, len(start))
        out = LevelHits(np.empty(len(start)), np.empty(len(start), np.int64))
        refused: list[int] = []

        def work(s: slice) -> None:
            row = first_triangles(
                start[s], along[s], limit[s], self.header, self.offset, out.face[s], out.distance_m[s]
            )
            if row >= 0:
                refused.append(row)

        in_chunks(len(start), work)
        if refused:
            require_rays(start, along)
        return out

    def all_along(
        self, origin: tuple[float, float, float], direction: tuple[float, float, float], limit_m: float
    ) -> list[LevelHit]:
        """Every surface along the ray within `limit_m`, nearest first; equal distances by face number."""
        from tinclock.core.kernels.triangles import every_triangle

        (ox, oy, oz), (dx, dy, dz), limit = sound_ray(origin, direction, limit_m)
        cx, cy, cz = self.offset
        room = 64
        while True:
            rows, distance, facing = np.empty(room, np.int64), np.empty(room), np.empty(room)
            ray = (ox - cx, oy - cy, oz - cz, dx, dy, dz)
            found = every_triangle(ray, limit, self.header, rows, distance, facing)
            if found <= room:
                break
            room = found
        hits = [
            LevelHit(float(d), self.surfaces[self._kind_of_row[r]], int(self._face[r]), float(f))
            for r, d, f in zip(rows[:found].tolist(), distance[:found], facing[:found], strict=True)
        ]
        return sorted(hits, key=lambda hit: (hit.distance_m, hit.face))

    def sees(self, start: tuple[float, float, float], end: tuple[float, float, float]) -> bool:
        """True if nothing that blocks sight lies between two points."""
        return self.blocker(start, end) is None

    def blocker(self, start: tuple[float, float, float], end: tuple[float, float, float]) -> LevelHit | None:
        """The first sight-blocking surface between two points, or None."""
        dx, dy, dz = end[0] - start[0], end[1] - start[1], end[2] - start[2]
        length = (dx * dx + dy * dy + dz * dz) ** 0.5
        if length == 0.0:
            return None
        along = (dx / length, dy / length, dz / length)
        hit = self.first(start, along, length)
        if hit is None or hit.surface.blocks_sight:
            return hit
        return next((h for h in self.all_along(start, along, length) if h.surface.blocks_sight), None)


def level_digest(vertices: ArrayLike, faces: ArrayLike, kinds: ArrayLike | None, surfaces: Sequence[Surface]) -> str:
    """SHA-256 over what a level is made from, in hexadecimal.

    vertices : (v, 3) float64, metres; faces : (n, 3) int64, rows of vertices; kinds : (n,) int64.
    """
    corners = np.ascontiguousarray(faces, np.int64)
    kind = np.zeros(len(corners), np.int64) if kinds is None else np.ascontiguousarray(kinds, np.int64)
    sha = hashlib.sha256()
    for array in (np.ascontiguousarray(vertices, np.float64), corners, kind):
        sha.update(repr(array.shape).encode())
        sha.update(array.tobytes())
    sha.update(repr([tuple(surface) for surface in surfaces]).encode())
    return sha.hexdigest()


def _sound_tree(tree: Tree, count: int) -> Tree:
    """A tree that was kept, once it is sure that kernels can follow it; raises `MeshError` when they can't."""
    if len(tree) != 4:
        raise MeshError(f"a tree has 4 arrays; got {len(tree)}")
    boxes, children, triangles, face = (np.ascontiguousarray(array) for array in tree)
    nodes = len(boxes)
    fits = (
        (boxes.shape, boxes.dtype.str) == ((nodes, 2, 3, 8), "<f4")
        and (children.shape, children.dtype.str) == ((nodes, 2, 8), "<i4")
        and (triangles.shape, triangles.dtype.str) == ((count, 9), "<f8")
        and (face.shape, face.dtype.str) == ((count,), "<i8")
        and nodes > 0
    )
    if fits:
        first, held = children[:, 0].astype(np.int64), children[:, 1].astype(np.int64)
        inner = held == 0
        later = np.broadcast_to(np.arange(nodes)[:, None], first.shape)  # a child follows its parent: no way round
        fits = (
            bool(((first > later) & (first < nodes))[inner].all())
            and bool(((first >= 0) & (first + held <= count))[held > 0].all())
            and bool((held >= -1).all())
            and np.array_equal(np.sort(face), np.arange(count))
        )
    if not fits:
        raise MeshError(f"the tree doesn't belong to a level of {count} triangles, or is damaged; build it again")
    return boxes, children, triangles, face
