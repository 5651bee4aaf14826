"""Line of sight between points: the parts of the level that block sight, and nothing else."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level

MAX_PANES = 6
"""Maximum number of transparent surfaces, one behind another, that sight passes."""
BEYOND_M = 1e-4


class Sight:
    """Lines of sight through a level; None: open ground."""

    def __init__(self, level: Level | None) -> None:
        self._level = level
        surfaces = [] if level is None else level.surfaces
        self._blocks = np.array([surface.blocks_sight for surface in surfaces], bool)

    def clear(self, eyes: NDArray[np.float64], points: NDArray[np.float64]) -> NDArray[np.bool_]:
        """(n,): whether each point (n, 3) can be seen from its eye (n, 3); nan can't."""
        to = points - eyes
        far = np.linalg.norm(to, axis=1)
        out: NDArray[np.bool_] = ~np.isnan(far)
        if self._level is None:
            return out
        way = to / np.maximum(far, 1e-9)[:, None]
        open_, gone = np.flatnonzero(out & (far > 1e-6)), np.zeros(len(far))
        for _ in range(MAX_PANES):
            if not len(open_):
                break
            start = eyes[open_] + gone[open_, None] * way[open_]
            met = self._level.first_many(start, way[open_], np.maximum(far[open_] - gone[open_], 1e-6))
            face = met.face >= 0
            solid = face & self._blocks[np.where(face, self._level.kinds[met.face], 0)]
            out[open_[solid]] = False
            gone[open_] += met.distance_m + BEYOND_M
            open_ = open_[face & ~solid]
            open_ = open_[gone[open_] < far[open_]]
        return out

    def any_of(self, eyes: NDArray[np.float64], points: NDArray[np.float64]) -> NDArray[np.bool_]:
        """(n,): whether any of each row's points (n, k, 3) can be seen from its eye (n, 3)."""
        n, k = points.shape[:2]
        seen = self.clear(np.repeat(eyes, k, 0), points.reshape(-1, 3)).reshape(n, k)
        return np.asarray(seen.any(axis=1))
