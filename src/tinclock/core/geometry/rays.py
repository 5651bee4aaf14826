"""Kernels: one ray against one shape. Exact, in float64, relative to the ray's origin.

The ray starts at (0, 0, 0) and runs along the unit vector (dx, dy, dz). Each kernel returns `(enter, leave)`,
the interval of distances (metres) over which the infinite line is inside the closed shape, before any clamping:
`enter` is negative when the ray starts inside. A miss is `(inf, -inf)`. Touching counts as a hit, with enter equal
to leave. `clamp` turns the interval into what a ray (not a line) sees.

Sphere and capsule follow from the closest approach of a line to a point or to a line (Ericson, Real-Time Collision
Detection, 2005, sections 5.3.2 and 5.3.7), written with the perpendicular distance instead of b*b - 4ac, so
that a distant shape loses no digits to cancellation. The box is the slab method (Kay and Kajiya, 1986), the triangle
Moeller and Trumbore (1997).
"""

from __future__ import annotations

import math

from numba import njit

from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_PARALLEL = TOLERANCES.parallel_sine_squared

Interval = tuple[float, float]


@njit(cache=True, inline="always", error_model="numpy")
def clamp(enter: float, leave: float) -> Interval:
    """What a ray sees of a line's interval: nothing behind its start; a start inside enters at 0."""
    if leave < 0.0 or enter > leave:
        return INF, -INF
    return max(enter, 0.0), leave


@njit(cache=True, error_model="numpy")
def line_sphere(dx: float, dy: float, dz: float, cx: float, cy: float, cz: float, radius: float) -> Interval:
    """Line against a sphere around (cx, cy, cz)."""
    along = cx * dx + cy * dy + cz * dz
    px, py, pz = cx - along * dx, cy - along * dy, cz - along * dz
    spare = radius * radius - (px * px + py * py + pz * pz)
    if spare < 0.0:
        return INF, -INF
    half = math.sqrt(spare)
    return along - half, along + half


@njit(cache=True, error_model="numpy")
def line_capsule(
    dx: float,
    dy: float,
    dz: float,
    cx: float,
    cy: float,
    cz: float,
    ux: float,
    uy: float,
    uz: float,
    half_length: float,
    radius: float,
) -> Interval:
    """Line against a capsule: centre c, unit axis u, the segment c +- half_length * u swollen by radius.

    A half length of zero is a sphere.
    """
    if half_length <= 0.0:
        return line_sphere(dx, dy, dz, cx, cy, cz, radius)
    slope = dx * ux + dy * uy + dz * uz
    wx, wy, wz = dx - slope * ux, dy - slope * uy, dz - slope * uz
    start = -(cx * ux + cy * uy + cz * uz)  # axial coordinate of the ray's start, 0 at the capsule's centre
    ox, oy, oz = -cx - start * ux, -cy - start * uy, -cz - start * uz
    across = wx * wx + wy * wy + wz * wz
    if across <= _PARALLEL:
        if ox * ox + oy * oy + oz * oz > radius * radius:
            return INF, -INF
        enter_end = -half_length if slope > 0.0 else half_length
        leave_end = -enter_end
    else:
        nearest = -(ox * wx + oy * wy + oz * wz) / across
        qx, qy, qz = ox + nearest * wx, oy + nearest * wy, oz + nearest * wz
        spare = radius * radius - (qx * qx + qy * qy + qz * qz)
        if spare < 0.0:
            return INF, -INF
        half = math.sqrt(spare / across)
        enter, leave = nearest - half, nearest + half
        enter_end, leave_end = start + enter * slope, start + leave * slope
        if -half_length <= enter_end <= half_length and -half_length <= leave_end <= half_length:
            return enter, leave
        # Outside the flat part a capsule is its end sphere, and the line must pass through it.
        enter, _ = _end_sphere(dx, dy, dz, cx, cy, cz, ux, uy, uz, half_length, radius, enter_end, enter, leave)
        _, leave = _end_sphere(dx, dy, dz, cx, cy, cz, ux, uy, uz, half_length, radius, leave_end, enter, leave)
        if enter > leave:
            return INF, -INF
        return enter, leave
    enter, _ = line_sphere(dx, dy, dz, cx + enter_end * ux, cy + enter_end * uy, cz + enter_end * uz, radius)
    _, leave = line_sphere(dx, dy, dz, cx + leave_end * ux, cy + leave_end * uy, cz + leave_end * uz, radius)
    if enter > leave:
        return INF, -INF
    return enter, leave


@njit(cache=True, inline="always", error_model="numpy")
def _end_sphere(
    dx: float,
    dy: float,
    dz: float,
    cx: float,
    cy: float,
    cz: float,
    ux: float,
    uy: float,
    uz: float,
    half_length: float,
    radius: float,
    axial: float,
    enter: float,
    leave: float,
) -> Interval:
    """The interval of the end sphere on whose side `axial` lies, or the given one on the flat part."""
    if axial < -half_length:
        return line_sphere(dx, dy, dz, cx - half_length * ux, cy - half_length * uy, cz - half_length * uz, radius)
    if axial > half_length:
        return line_sphere(dx, dy, dz, cx + half_length * ux, cy + half_length * uy, cz + half_length * uz, radius)
    return enter, leave


@njit(cache=True, inline="always", error_model="numpy")
def _slab(start: float, slope: float, half: float, enter: float, leave: float) -> Interval:
    if slope == 0.0:
        if abs(start) > half:
            return INF, -INF
        return enter, leave
    first, second = (-half - start) / slope, (half - start) / slope
    return max(enter, min(first, second)), min(leave, max(first, second))


@njit(cache=True, error_model="numpy")
def line_box(
    ox: float,
    oy: float,
    oz: float,
    dx: float,
    dy: float,
    dz: float,
    half_x: float,
    half_y: float,
    half_z: float,
) -> Interval:
    """Line through o along d, both in the box's own axes, against the box |x| <= half_x and so on."""
    enter, leave = _slab(ox, dx, half_x, -INF, INF)
    enter, leave = _slab(oy, dy, half_y, enter, leave)
    enter, leave = _slab(oz, dz, half_z, enter, leave)
    if enter > leave:
        return INF, -INF
    return enter, leave


@njit(cache=True, error_model="numpy")
def ray_triangle(
    dx: float,
    dy: float,
    dz: float,
    ax: float,
    ay: float,
    az: float,
    ex: float,
    ey: float,
    ez: float,
    fx: float,
    fy: float,
    fz: float,
) -> tuple[float, float]:
    """Ray against the triangle a, a+e, a+f. Returns (distance, facing), distance inf for a miss.

    Both faces and all edges count. `facing` is negative where the ray meets the front (counter-clockwise) face.
    A triangle without area, or one seen exactly edge-on, is never hit.
    """
    px, py, pz = dy * fz - dz * fy, dz * fx - dx * fz, dx * fy - dy * fx
    det = ex * px + ey * py + ez * pz
    if det == 0.0:
        return INF, 0.0
    inverse = 1.0 / det
    u = -(ax * px + ay * py + az * pz) * inverse
    if not 0.0 <= u <= 1.0:
        return INF, 0.0
    qx, qy, qz = -(ay * ez - az * ey), -(az * ex - ax * ez), -(ax * ey - ay * ex)
    v = (dx * qx + dy * qy + dz * qz) * inverse
    if v < 0.0 or u + v > 1.0:
        return INF, 0.0
    distance = (fx * qx + fy * qy + fz * qz) * inverse
    if distance < 0.0:
        return INF, 0.0
    return distance, -det
