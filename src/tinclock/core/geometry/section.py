"""Cutting the level with a plane, for pictures: what a plan or a side view shows of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level


class Section(NamedTuple):
    """Return the section of the level by a plane.

    segments : (n, 2, 3) float64, metres, world frame
    kinds : (n,) int64, places in the level's `surfaces`
    """

    segments: NDArray[np.float64]
    kinds: NDArray[np.int64]


def cut_level(
    level: Level, point: NDArray[np.float64] | tuple[float, float, float], normal: tuple[float, float, float]
) -> Section:
    """The line segments in which a plane through `point` with normal `normal` meets the level's triangles.

    A triangle that lies in the plane gives nothing: its neighbours draw its outline.

    point, normal : (3,), metres, and of any length. Coordinates are metres.
    """
    corners = level.vertices[level.faces]
    height = (corners - np.asarray(point, np.float64)) @ np.asarray(normal, np.float64)
    above = height > 0.0
    crossed = np.flatnonzero(above.any(axis=1) & ~above.all(axis=1))
    corners, height, above = corners[crossed], height[crossed], above[crossed]
    lonely = np.where(above.sum(axis=1) == 1, above.argmax(axis=1), (~above).argmax(axis=1))
    rows = np.arange(len(crossed))
    ends = []
    for other in ((lonely + 1) % 3, (lonely + 2) % 3):
        a, b = height[rows, lonely], height[rows, other]
        share = (a / (a - b))[:, None]
        ends.append(corners[rows, lonely] + share * (corners[rows, other] - corners[rows, lonely]))
    return Section(np.stack(ends, axis=1).reshape(-1, 2, 3), level.kinds[crossed])
