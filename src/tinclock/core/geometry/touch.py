"""Where a ball touches a triangle of a level, and which way is straight off it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.geometry.level import Level

    Triple = tuple[float, float, float]

CLOSE_M = 1e-6
"""A middle nearer to the surface than this has no direction of its own: the triangle's is taken."""


def _dot(a: Triple, b: Triple) -> float:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


def _minus(a: Triple, b: Triple) -> Triple:
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


def _unit(a: Triple) -> Triple:
    length = math.sqrt(_dot(a, a))
    return (a[0] / length, a[1] / length, a[2] / length) if length > 0.0 else (0.0, 0.0, 1.0)


def nearest_on_triangle(point: Triple, a: Triple, b: Triple, c: Triple) -> Triple:
    """The point of a triangle nearest to a point (Ericson, Real-Time Collision Detection, 2005, section 5.1.5)."""
    ab, ac, ap = _minus(b, a), _minus(c, a), _minus(point, a)
    d1, d2 = _dot(ab, ap), _dot(ac, ap)
    if d1 <= 0.0 and d2 <= 0.0:
        return a
    bp = _minus(point, b)
    d3, d4 = _dot(ab, bp), _dot(ac, bp)
    if d3 >= 0.0 and d4 <= d3:
        return b
    cp = _minus(point, c)
    d5, d6 = _dot(ab, cp), _dot(ac, cp)
    if d6 >= 0.0 and d5 <= d6:
        return c
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        return _along(a, ab, d1 / (d1 - d3))
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        return _along(a, ac, d2 / (d2 - d6))
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        return _along(b, _minus(c, b), (d4 - d3) / ((d4 - d3) + (d5 - d6)))
    whole = va + vb + vc
    return _along(_along(a, ab, vb / whole), ac, vc / whole)


def _along(start: Triple, way: Triple, share: float) -> Triple:
    return start[0] + share * way[0], start[1] + share * way[1], start[2] + share * way[2]


def normal_at(level: Level, row: int, place: Triple, velocity: Triple) -> Triple:
    """The unit direction from what is touched to the ball's middle.

    row : of the level, from a kernel; place, velocity : of the ball's middle as it touches
    """
    a, b, c = ((float(x), float(y), float(z)) for x, y, z in level.vertices[level.faces[level.face_of(row)]])
    off = _minus(place, nearest_on_triangle(place, a, b, c))
    if math.sqrt(_dot(off, off)) > CLOSE_M:
        return _unit(off)
    u, v = _minus(b, a), _minus(c, a)
    flat = _unit((u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]))
    side = -1.0 if _dot(flat, velocity) > 0.0 else 1.0
    return side * flat[0], side * flat[1], side * flat[2]
