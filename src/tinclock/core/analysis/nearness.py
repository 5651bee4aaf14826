"""Distances between rays and hitboxes: which part a ray passes closest, by how much, and on which side."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from tinclock.core.geometry.rig import Shape
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from collections.abc import Iterable

    from numpy.typing import NDArray

    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.timeline.views import View
    from tinclock.core.vectors import Triple

IN_FRONT_M = 1e-3
"""Near misses lie at least this far ahead of a ray's start and short of its end."""
FARTHEST_M = 10_000.0
"""Distance within which the aim looks for bodies."""
_ROUNDS = 40
_INVERSE_GOLDEN: Final = (5.0**0.5 - 1.0) / 2.0


class Near(NamedTuple):
    """Hitbox that a ray passes closest.

    gap_m : distance from the ray to its surface, negative inside; where : which side of it the ray passes, as the
        shooter sees it ("right of")
    along_m : distance along the ray; ray : number of the ray, for a shot of several pellets
    """

    entity: int
    part: str
    gap_m: float
    where: str
    along_m: float
    ray: int = 0


class Closest(NamedTuple):
    """Nearest part of one body to a ray: its index, the gap and the distance along the ray in metres.

    off : (3,) float64, metres, from the part's nearest point to the ray
    """

    part: int
    gap_m: float
    along_m: float
    off: NDArray[np.float64]


def bodies_at(history: PoseHistory, shooter: int, view: View) -> list[Hitboxes]:
    """Return the hitboxes at a view of everybody but the shooter who can be hit."""
    others = [e for e in history.present(view) if e != shooter and not history.rig_of(e).blocks_only]
    boxes = [history.hitboxes_at(entity, view) for entity in others]
    return [one for one in boxes if one is not None]


def nearest_miss(
    bodies: Iterable[Hitboxes], origin: Triple, direction: Triple, from_m: float, until_m: float, ray: int = 0
) -> Near | None:
    """Return the hitbox that a ray passes closest between two distances along it; None where nobody is beside it.

    origin, direction : metres, and of unit length
    """
    start, along, best = np.array(origin), np.array(direction), None
    for least, boxes in sorted(((min_gap(b, start, along, from_m, until_m), b) for b in bodies), key=_first):
        if best is not None and least > best.gap_m:
            break
        near = closest_part(boxes, start, along, until_m, from_m)
        if near.gap_m > 0.0 and not from_m + IN_FRONT_M < near.along_m < until_m - IN_FRONT_M:
            continue  # it lies behind the start, or beside the end of the way
        if best is None or near.gap_m < best.gap_m:
            best = Near(boxes.entity, boxes.parts[near.part], near.gap_m, side_of(near.off, along), near.along_m, ray)
    return best


def _first(pair: tuple[float, Hitboxes]) -> float:
    return pair[0]


def min_gap(
    boxes: Hitboxes,
    origin: NDArray[np.float64],
    direction: NDArray[np.float64],
    from_m: float = 0.0,
    until_m: float = FARTHEST_M,
) -> float:
    """Return a lower bound of the gap between a ray and a body, metres: that to a ball around all of it.

    origin, direction : (3,) float64, metres, and of unit length
    """
    middle = (boxes.centres.min(0) + boxes.centres.max(0)) / 2.0
    reach = float((np.linalg.norm(boxes.centres - middle, axis=1) + np.linalg.norm(boxes.sizes, axis=1)).max())
    along = min(max(float((middle - origin) @ direction), from_m), until_m)
    return float(np.linalg.norm(middle - origin - along * direction)) - reach


def closest_part(
    boxes: Hitboxes, origin: NDArray[np.float64], direction: NDArray[np.float64], limit_m: float, from_m: float = 0.0
) -> Closest:
    """Return the part of a body that a ray passes closest.

    Spheres and capsules are solved directly (Ericson, Real-Time Collision Detection, 2004, section 5.1.9). The distance
    from a point to a box is convex along a line, so golden section finds its least (Kiefer, Sequential minimax search
    for a maximum, 1953).

    origin, direction : (3,) float64, metres, and of unit length; from_m, limit_m : where on the ray, metres
    """
    along = _along_axes(boxes, origin, direction, from_m, limit_m)
    apart = gaps(boxes, origin + along[:, None] * direction)
    box = boxes.shapes == Shape.BOX
    if box.any():
        middles = np.linalg.norm(boxes.centres - origin - along[:, None] * direction, axis=1)
        least = middles - np.linalg.norm(boxes.sizes, axis=1)
        rows = np.flatnonzero(box & (least < apart[~box].min(initial=np.inf)))  # others can't be the closest
        if len(rows):
            along[rows] = _along_boxes(_only(boxes, rows), origin, direction, from_m, limit_m)
    apart = gaps(boxes, origin + along[:, None] * direction)
    best = int(np.argmin(apart))
    at = origin + along[best] * direction
    return Closest(best, float(apart[best]), float(along[best]), at - nearest_point(boxes, best, at))


def _along_axes(
    boxes: Hitboxes, origin: NDArray[np.float64], direction: NDArray[np.float64], from_m: float, limit_m: float
) -> NDArray[np.float64]:
    """Return how far along the ray it is closest to each part's axis (a point, for spheres): (parts,) metres."""
    half = np.where(boxes.shapes == Shape.CAPSULE, boxes.sizes[:, 0], 0.0)
    axis, to = boxes.axes[:, :, 2], boxes.centres - origin
    shared, on_ray, on_axis = axis @ direction, to @ direction, np.einsum("pi,pi->p", to, axis)
    apart = 1.0 - shared * shared
    skew = apart > TOLERANCES.parallel_sine_squared
    along = np.where(skew, on_ray - shared * on_axis, 0.0) / np.where(skew, apart, 1.0)
    along = np.clip(np.where(skew, along, on_ray), from_m, limit_m)
    on = np.clip(shared * along - on_axis, -half, half)
    return np.asarray(np.clip(shared * on + on_ray, from_m, limit_m))


def _along_boxes(
    boxes: Hitboxes, origin: NDArray[np.float64], direction: NDArray[np.float64], from_m: float, limit_m: float
) -> NDArray[np.float64]:
    """Return how far along the ray it is closest to each box: (parts,) metres."""
    middle, reach = (boxes.centres - origin) @ direction, np.linalg.norm(boxes.sizes, axis=1)
    low, high = np.clip(middle - reach, from_m, limit_m), np.clip(middle + reach, from_m, limit_m)
    for _ in range(_ROUNDS):
        step = _INVERSE_GOLDEN * (high - low)
        a, b = high - step, low + step
        nearer = gaps(boxes, origin + a[:, None] * direction) < gaps(boxes, origin + b[:, None] * direction)
        low, high = np.where(nearer, low, a), np.where(nearer, b, high)
    return np.asarray((low + high) / 2.0)


def _only(boxes: Hitboxes, rows: NDArray[np.int64]) -> Hitboxes:
    """Return some parts of a body; only what distances need."""
    return boxes._replace(
        shapes=boxes.shapes[rows], centres=boxes.centres[rows], axes=boxes.axes[rows], sizes=boxes.sizes[rows]
    )


def gaps(boxes: Hitboxes, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the signed distance of one point to each part, metres. points : (parts, 3) float64, metres"""
    local = np.einsum("pij,pi->pj", boxes.axes, points - boxes.centres)
    capsule, box = boxes.shapes == Shape.CAPSULE, boxes.shapes == Shape.BOX
    long = np.where(capsule, boxes.sizes[:, 0], 0.0)
    local[:, 2] -= np.where(capsule, np.clip(local[:, 2], -long, long), 0.0)
    round_ = np.linalg.norm(local, axis=1) - np.where(capsule, boxes.sizes[:, 1], boxes.sizes[:, 0])
    over = np.abs(local) - boxes.sizes
    square = np.linalg.norm(np.maximum(over, 0.0), axis=1) + np.minimum(over.max(axis=1), 0.0)
    return np.asarray(np.where(box, square, round_))


def nearest_point(boxes: Hitboxes, part: int, at: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the point on or in a part that is nearest to a point outside: (3,) float64, metres."""
    axes, size, shape = boxes.axes[part], boxes.sizes[part], int(boxes.shapes[part])
    local = axes.T @ (at - boxes.centres[part])
    if shape == Shape.BOX:
        return np.asarray(boxes.centres[part] + axes @ np.clip(local, -size, size))
    capsule = shape == Shape.CAPSULE
    core = np.array([0.0, 0.0, np.clip(local[2], -size[0], size[0])]) if capsule else np.zeros(3)
    radius = size[1] if capsule else size[0]
    off = local - core
    length = max(float(np.linalg.norm(off)), 1e-9)
    return np.asarray(boxes.centres[part] + axes @ (core + off / length * min(radius, length)))


def side_of(off: NDArray[np.float64], along: NDArray[np.float64]) -> str:
    """Return which side of a body a ray passes, as its shooter sees it.

    off : (3,) float64, metres, from the body to the ray; along : (3,) float64, the ray's direction
    """
    right = np.array([along[1], -along[0], 0.0])
    right = right / np.linalg.norm(right) if np.linalg.norm(right) > 1e-9 else np.array([1.0, 0.0, 0.0])
    up = np.cross(right, along)
    aside, above = float(off @ right), float(off @ up)
    if abs(above) >= abs(aside):
        return "above" if above >= 0.0 else "below"
    return "right of" if aside >= 0.0 else "left of"
