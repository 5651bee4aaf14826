"""Kernels: a ball that sweeps along a line, against one shape. Exact, in float64, relative to where its centre starts.

A ball of radius r meets a shape where its centre's line meets the shape swollen by r (the Minkowski sum with a ball;
Ericson, Real-Time Collision Detection, 2005, section 5.5). Sphere and capsule just grow. A swollen box is the union of
three boxes, each grown along one axis, and of capsules around its twelve edges; a swollen triangle is the union of the
prism between its two shifted copies and of capsules around its three edges. All are convex, so the interval of the
union runs from the first entry to the last exit. As in `rays`, a miss is `(inf, -inf)` and touching counts.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.ray_shapes import INF, line_box, line_capsule


@njit(cache=True, error_model="numpy")
def _join(enter, leave, other_enter, other_leave):
    """Two intervals along a line, metres, taken together."""
    return min(enter, other_enter), max(leave, other_leave)


@inner
def line_segment(dx, dy, dz, ax, ay, az, bx, by, bz, radius):
    """Line against the segment a..b swollen by a radius.

    Metres; d is a unit vector.
    """
    ux, uy, uz = bx - ax, by - ay, bz - az
    length = math.sqrt(ux * ux + uy * uy + uz * uz)
    if length > 0.0:
        ux, uy, uz = ux / length, uy / length, uz / length
    cx, cy, cz = 0.5 * (ax + bx), 0.5 * (ay + by), 0.5 * (az + bz)
    return line_capsule(dx, dy, dz, cx, cy, cz, ux, uy, uz, 0.5 * length, radius)


@njit(cache=True, error_model="numpy")
def line_round_box(ox, oy, oz, dx, dy, dz, half_x, half_y, half_z, radius):
    """Line against a box swollen by a radius, in the box's own frame: the line starts at o and runs along d.

    Metres; l is a unit vector.
    """
    enter, leave = line_box(ox, oy, oz, dx, dy, dz, half_x + radius, half_y + radius, half_z + radius)
    if enter > leave:
        return INF, -INF
    enter, leave = line_box(ox, oy, oz, dx, dy, dz, half_x + radius, half_y, half_z)
    near, far = line_box(ox, oy, oz, dx, dy, dz, half_x, half_y + radius, half_z)
    enter, leave = _join(enter, leave, near, far)
    near, far = line_box(ox, oy, oz, dx, dy, dz, half_x, half_y, half_z + radius)
    enter, leave = _join(enter, leave, near, far)
    for corner in range(4):
        s, t = (1.0 if corner & 1 else -1.0), (1.0 if corner & 2 else -1.0)
        x, y, z = s * half_x - ox, t * half_y - oy, -oz
        near, far = line_capsule(dx, dy, dz, x, y, z, 0.0, 0.0, 1.0, half_z, radius)
        enter, leave = _join(enter, leave, near, far)
        x, y, z = s * half_x - ox, -oy, t * half_z - oz
        near, far = line_capsule(dx, dy, dz, x, y, z, 0.0, 1.0, 0.0, half_y, radius)
        enter, leave = _join(enter, leave, near, far)
        x, y, z = -ox, s * half_y - oy, t * half_z - oz
        near, far = line_capsule(dx, dy, dz, x, y, z, 1.0, 0.0, 0.0, half_x, radius)
        enter, leave = _join(enter, leave, near, far)
    return enter, leave


@inner
def _behind_plane(dx, dy, dz, nx, ny, nz, offset, enter, leave):
    """Cut an interval by the half-space n . x <= offset.

    Metres; d and n are unit vectors.
    """
    slope = dx * nx + dy * ny + dz * nz
    if slope == 0.0:
        return (enter, leave) if offset >= 0.0 else (INF, -INF)
    at = offset / slope
    if slope > 0.0:
        return enter, min(leave, at)
    return max(enter, at), leave


@njit(cache=True, error_model="numpy")
def line_round_triangle(way, corner, edge, other, radius):
    """Line through the origin against a triangle swollen by a radius: (enter, leave), metres.

    way : (x, y, z), unit; corner : (x, y, z), metres; edge, other : from there to the other corners, metres.
    A triangle without area is its edges.
    """
    dx, dy, dz = way
    ax, ay, az = corner
    ex, ey, ez = edge
    fx, fy, fz = other
    bx, by, bz, cx, cy, cz = ax + ex, ay + ey, az + ez, ax + fx, ay + fy, az + fz
    enter, leave = line_segment(dx, dy, dz, ax, ay, az, bx, by, bz, radius)
    near, far = line_segment(dx, dy, dz, bx, by, bz, cx, cy, cz, radius)
    enter, leave = _join(enter, leave, near, far)
    near, far = line_segment(dx, dy, dz, cx, cy, cz, ax, ay, az, radius)
    enter, leave = _join(enter, leave, near, far)
    nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length <= 0.0:
        return enter, leave
    nx, ny, nz = nx / length, ny / length, nz / length
    normal = (nx, ny, nz)
    height = ax * nx + ay * ny + az * nz
    low, high = _behind_plane(dx, dy, dz, nx, ny, nz, height + radius, -INF, INF)
    low, high = _behind_plane(dx, dy, dz, -nx, -ny, -nz, radius - height, low, high)
    low, high = _beside_edge(way, corner, edge, normal, low, high)
    low, high = _beside_edge(way, (bx, by, bz), (cx - bx, cy - by, cz - bz), normal, low, high)
    low, high = _beside_edge(way, (cx, cy, cz), (-fx, -fy, -fz), normal, low, high)
    if low <= high:
        enter, leave = _join(enter, leave, low, high)
    return enter, leave


@inner
def _beside_edge(way, corner, edge, normal, enter, leave):
    """Cut an interval, metres, by the side plane of a prism along an edge, counter-clockwise about the normal.

    way, corner, edge, normal : (x, y, z); a unit vector, metres, metres, a unit vector
    """
    dx, dy, dz = way
    px, py, pz = corner
    ex, ey, ez = edge
    nx, ny, nz = normal
    ox, oy, oz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
    return _behind_plane(dx, dy, dz, ox, oy, oz, ox * px + oy * py + oz * pz, enter, leave)
