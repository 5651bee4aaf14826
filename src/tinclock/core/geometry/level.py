"""The level: what doesn't move. Triangles with surface kinds, and the questions a ruling asks of them."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.arrays import check_finite, require_rays, require_shape, spread
from tinclock.core.errors import BadNumberError, MeshError
from tinclock.core.memory import header_of

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


class LevelHit(NamedTuple):
    """Where a ray meets the level. `facing` is negative at a front (outer) face, positive at a back face."""

    distance_m: float
    surface: Surface
    face: int
    facing: float


class LevelHits(NamedTuple):
    """Where many rays meet the level: face is -1 and distance_m is inf where a ray meets nothing."""

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

    Raises `MeshError` when there is no triangle or an index is out of range, `BadArrayError` for wrong shapes and
    non-finite vertices. Face numbers in results are rows of `faces`.
    """

    def __init__(
        self,
        vertices: ArrayLike,
        faces: ArrayLike,
        kinds: ArrayLike | None = None,
        surfaces: Sequence[Surface] = (Surface("solid"),),
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
        self._plant()

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

    def _plant(self) -> None:
        from tinclock.core.geometry import tree

        corners = self.vertices[self.faces]
        self._centre = (corners.min(axis=(0, 1)) + corners.max(axis=(0, 1))) / 2
        corners = corners - self._centre
        lo, hi = corners.min(axis=1), corners.max(axis=1)
        order, *nodes = tree.build_binary(lo, hi)
        slack = 1e-6 * float(np.abs(corners).max()) + 1e-6
        self._boxes, self._children = tree.widen(*nodes, slack)
        a, b, c = corners[order, 0], corners[order, 1], corners[order, 2]
        self._triangles = np.ascontiguousarray(np.concatenate([a, b - a, c - a], axis=1))
        self._face = np.ascontiguousarray(order)
        self._arrays = (self._boxes, self._children, self._triangles, self._face)
        self.header = header_of(self._arrays)
        self.offset: tuple[float, float, float] = tuple(self._centre.tolist())
        self._kind_of_row = self.kinds[order].tolist()

    def __len__(self) -> int:
        return len(self.faces)

    @property
    def digest(self) -> str:
        """SHA-256 over vertices, faces and surfaces: two levels with one digest rule alike."""
        sha = hashlib.sha256()
        for array in (self.vertices, self.faces, self.kinds):
            sha.update(np.ascontiguousarray(array).tobytes())
        sha.update(repr(self.surfaces).encode())
        return sha.hexdigest()

    def first(
        self, origin: tuple[float, float, float], direction: tuple[float, float, float], limit_m: float
    ) -> LevelHit | None:
        """The nearest surface along the unit vector `direction`, within `limit_m`; None when there is none."""
        from tinclock.core.geometry.tree import first_triangle_alone

        (ox, oy, oz), (dx, dy, dz), (cx, cy, cz) = origin, direction, self.offset
        if not limit_m >= 0.0:
            raise BadNumberError("limit_m", "a number of at least 0", limit_m)
        row, distance, facing = first_triangle_alone(ox - cx, oy - cy, oz - cz, dx, dy, dz, limit_m, self.header)
        return self.met(row, distance, facing)

    def met(self, row: int, distance: float, facing: float) -> LevelHit | None:
        """A kernel's answer in words; None for row -1."""
        if row < 0:
            return None
        return LevelHit(distance, self.surfaces[self._kind_of_row[row]], int(self._face[row]), facing)

    def first_many(self, origins: ArrayLike, directions: ArrayLike, limits_m: ArrayLike) -> LevelHits:
        """`first` for many rays: origins and directions (m, 3), limits_m (m,) or one number, float64."""
        from tinclock.core.geometry.tree import first_triangles
        from tinclock.core.parallel import in_chunks

        start = require_shape("origins", origins, (None, 3), np.float64)
        along = require_shape("directions", directions, (len(start), 3), np.float64)
        limit = spread("limits_m", limits_m, len(start), np.float64)
        out = LevelHits(np.empty(len(start)), np.empty(len(start), np.int64))
        refused: list[int] = []

        def work(s: slice) -> None:
            row = first_triangles(start[s], along[s], limit[s], self.header, *self.offset, out.face[s], out.distance_m[s])
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
        from tinclock.core.geometry.tree import every_triangle

        (ox, oy, oz), (dx, dy, dz), (cx, cy, cz) = origin, direction, self.offset
        room = 64
        while True:
            rows, distance, facing = np.empty(room, np.int64), np.empty(room), np.empty(room)
            found = every_triangle(
                ox - cx, oy - cy, oz - cz, dx, dy, dz, limit_m, self.header, rows, distance, facing
            )
            if found <= room:
                break
            room = found
        hits = [
            LevelHit(float(d), self.surfaces[self._kind_of_row[r]], int(self._face[r]), float(f))
            for r, d, f in zip(rows[:found].tolist(), distance[:found], facing[:found], strict=True)
        ]
        return sorted(hits, key=lambda hit: (hit.distance_m, hit.face))

    def sees(self, start: tuple[float, float, float], end: tuple[float, float, float]) -> bool:
        """Whether nothing that blocks sight lies between two points."""
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
