"""Hitboxes and level sections as flat outlines, for drawing: projection along any direction."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.geometry.rig import Shape
from tinclock.core.geometry.section import cut_level
from tinclock.report.style import pale, surface_colour

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.timeline.hitboxes import Hitboxes

Basis = Any
"""(2, 3) float64: the world directions that become right and up on the page."""

ROUND = np.linspace(0.0, 2.0 * np.pi, 33)[:-1]


def outlines(boxes: Hitboxes, basis: Basis, origin: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """One closed polygon (k, 2) a part, in metres right and up of `origin`."""
    flat = (boxes.centres - origin) @ basis.T
    out = []
    for shape, middle, axes, size in zip(boxes.shapes, flat, boxes.axes, boxes.sizes, strict=True):
        if shape == Shape.BOX:
            out.append(middle + _zonogon((axes * size).T @ basis.T))
        else:
            radius = size[1] if shape == Shape.CAPSULE else size[0]
            half = size[0] * (axes[:, 2] @ basis.T) if shape == Shape.CAPSULE else np.zeros(2)
            out.append(middle + _stadium(half, radius))
    return out


def _zonogon(generators: NDArray[np.float64]) -> NDArray[np.float64]:
    """The outline of a box's shadow: its half axes on the page, taken in the order of their angles."""
    up = np.where((generators[:, 1] < 0.0)[:, None], -generators, generators)
    up = up[np.argsort(np.arctan2(up[:, 1], up[:, 0]))]
    rising = np.cumsum(np.vstack([-up.sum(axis=0), 2.0 * up]), axis=0)
    return np.vstack([rising[:-1], -rising[:-1]])


def _stadium(half: NDArray[np.float64], radius: float) -> NDArray[np.float64]:
    """The outline of a capsule's shadow: two half circles around +half and -half."""
    turn = ROUND + np.arctan2(half[1], half[0]) - np.pi / 2
    circle = radius * np.column_stack([np.cos(turn), np.sin(turn)])
    front = np.cos(ROUND - np.pi / 2)[:, None] >= 0.0
    return np.asarray(circle + np.where(front, half, -half))


def draw_boxes(
    axes: Axes, boxes: Hitboxes, basis: Basis, origin: NDArray[np.float64], colour: str, struck: str = "", **style: Any
) -> None:
    """Draw a body; the part called `struck` in its own colour, on top.

    origin : (3,) float64, metres, the middle of the picture.
    """
    from matplotlib.collections import PolyCollection

    from tinclock.report.style import INK, STRUCK

    polygons = outlines(boxes, basis, origin)
    depth = boxes.centres @ np.cross(basis[0], basis[1])
    order = np.argsort(depth)
    fills = [STRUCK if boxes.parts[i] == struck else colour for i in order]
    look = {"edgecolors": INK, "linewidths": 0.5, **style}
    axes.add_collection(PolyCollection([polygons[i] for i in order], facecolors=fills, **look))


def draw_section(
    axes: Axes, level: Level, point: Any, normal: Any, basis: Basis, origin: NDArray[np.float64], width: float = 1.6
) -> None:
    """Draw where a plane cuts the level, coloured by surface.

    point, normal, origin : (3,), metres, and of any length.
    """
    from matplotlib.collections import LineCollection

    cut = cut_level(level, point, normal)
    colours = [surface_colour(level.surfaces[kind].name) for kind in cut.kinds]
    axes.add_collection(LineCollection(list((cut.segments - origin) @ basis.T), colors=colours, linewidths=width))


def draw_plan(axes: Axes, level: Level, lowest_m: float = 0.05) -> None:
    """Fill the level's upward faces, seen from above, coloured by surface; what lies below `lowest_m` is ground."""
    from matplotlib.collections import PolyCollection

    corners = level.vertices[level.faces]
    up = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2] > 1e-9
    chosen = np.flatnonzero(up & (corners[..., 2].min(axis=1) > lowest_m))
    chosen = chosen[np.argsort(corners[chosen][..., 2].max(axis=1), kind="stable")]
    colours = [pale(level.surfaces[kind].name) for kind in level.kinds[chosen]]
    axes.add_collection(
        PolyCollection(list(corners[chosen][..., :2]), facecolors=colours, edgecolors=colours, linewidths=0.8)
    )
