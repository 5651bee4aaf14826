"""Kernels: one ray against one shape. Exact, in float64, relative to the ray's origin.

The ray starts at (0, 0, 0) and runs along the unit vector (dx, dy, dz). Each kernel returns `(enter, leave)`,
the interval of distances (metres) over which the infinite line is inside the closed shape, before any clamping:
`enter` is negative when the ray starts inside. A miss is `(inf, -inf)`. Touching counts as a hit, with enter equal
to leave. `clamp` turns the interval into what a ray (not a line) sees.

Sphere and capsule follow from the closest approach of a line to a point or to a line (Ericson, Real-Time Collision
Detection, 2005, sections 5.3.2 and 5.3.7), written with the perpendicular distance instead of b*b - 4ac, so
that a distant shape loses no digits to cancellation. The box is the slab method (Kay and Kajiya, 1986). The triangle
is another kind: it returns a distance, and leaves no gap to its neighbours.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_PARALLEL = TOLERANCES.parallel_sine_squared
_ROUNDED = TOLERANCES.product_relative
_SPLIT = 134217729.0  # 2**27 + 1 cuts a float64 into halves whose products are exact

Triple = tuple[float, float, float]
Interval = tuple[float, float]


@njit(cache=True, error_model="numpy")
def clamp(enter: float, leave: float) -> Interval:
    """Return the part of a line's interval that a ray sees: nothing behind its start; a start inside enters at 0.

    Metres.
    """
    if leave < 0.0 or enter > leave:
        return INF, -INF
    return max(enter, 0.0), leave


@njit(cache=True, error_model="numpy")
def line_sphere(dx: float, dy: float, dz: float, cx: float, cy: float, cz: float, radius: float) -> Interval:
    """Line against a sphere around (cx, cy, cz).

    Metres; d is a unit vector.
    """
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
        way, centre, axis = (dx, dy, dz), (cx, cy, cz), (ux, uy, uz)
        enter, _ = _end_sphere(way, centre, axis, half_length, radius, enter_end, (enter, leave))
        _, leave = _end_sphere(way, centre, axis, half_length, radius, leave_end, (enter, leave))
        if enter > leave:
            return INF, -INF
        return enter, leave
    enter, _ = line_sphere(dx, dy, dz, cx + enter_end * ux, cy + enter_end * uy, cz + enter_end * uz, radius)
    _, leave = line_sphere(dx, dy, dz, cx + leave_end * ux, cy + leave_end * uy, cz + leave_end * uz, radius)
    if enter > leave:
        return INF, -INF
    return enter, leave


@inner
def _end_sphere(
    way: Triple, centre: Triple, axis: Triple, half_length: float, radius: float, axial: float, given: Interval
) -> Interval:
    """The interval of the end sphere on whose side `axial` lies, or the given one on the flat part; metres.

    way, axis : (x, y, z), unit; centre : (x, y, z), metres
    """
    dx, dy, dz = way
    cx, cy, cz = centre
    ux, uy, uz = axis
    if axial < -half_length:
        return line_sphere(dx, dy, dz, cx - half_length * ux, cy - half_length * uy, cz - half_length * uz, radius)
    if axial > half_length:
        return line_sphere(dx, dy, dz, cx + half_length * ux, cy + half_length * uy, cz + half_length * uz, radius)
    return given


@inner
def _slab(start: float, slope: float, half: float, enter: float, leave: float) -> Interval:
    """An interval along a line, metres, cut by the two faces of a box that lie `half` either side of its middle."""
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
    """Line through o along d, both in the box's own axes, against the box |x| <= half_x and so on.

    Metres; l is a unit vector.
    """
    enter, leave = _slab(ox, dx, half_x, -INF, INF)
    enter, leave = _slab(oy, dy, half_y, enter, leave)
    enter, leave = _slab(oz, dz, half_z, enter, leave)
    if enter > leave:
        return INF, -INF
    return enter, leave


@inner
def exact_product(a: float, b: float) -> tuple[float, float]:
    """A product and what its rounding lost (Dekker, A floating-point technique for extending precision, 1971).

    Of any unit.
    """
    product = a * b
    t, u = _SPLIT * a, _SPLIT * b
    a_high, b_high = t - (t - a), u - (u - b)
    a_low, b_low = a - a_high, b - b_high
    return product, ((a_high * b_high - product) + a_high * b_low + a_low * b_high) + a_low * b_low


@inner
def _edge(px: float, py: float, qx: float, qy: float) -> float:
    """On which side of the edge p..q the ray passes, p and q as seen along it: the exact sign of q x p.

    Swapping p and q gives exactly the negative, so a ray can't pass on the outer side of both triangles at an edge.

    Metres, sheared.
    """
    first, second = qx * py, qy * px
    value = first - second
    if abs(value) <= _ROUNDED * (abs(first) + abs(second)):
        first, lost_first = exact_product(qx, py)
        second, lost_second = exact_product(qy, px)
        value = (first - second) + (lost_first - lost_second)
    return value


@njit(cache=True, error_model="numpy")
def shear_of(dx: float, dy: float, dz: float) -> tuple[int, int, int, float, float, float]:
    """Return the turn of a ray's direction onto one axis: the order of axes, and the shear; see `ray_triangle`.

    d is a unit vector; the shear has no unit.
    """
    x, y, z = abs(dx), abs(dy), abs(dz)
    if x >= y and x >= z:
        along, a, b, c = 0, dx, dy, dz
    elif y >= z:
        along, a, b, c = 1, dy, dz, dx
    else:
        along, a, b, c = 2, dz, dx, dy
    one, other = (along + 1) % 3, (along + 2) % 3
    if a < 0.0:  # keeps the winding
        return other, one, along, c / a, b / a, 1.0 / a
    return one, other, along, b / a, c / a, 1.0 / a


@njit(cache=True, error_model="numpy")
def ray_triangle(kx, ky, kz, sx, sy, sz, ox, oy, oz, corners):
    """Ray against a triangle, without a leak between neighbours. Returns (distance, facing), distance inf for a miss.

    kx, ky, kz, sx, sy, sz : the ray's direction, as `shear_of` gives it
    ox, oy, oz : where it starts, metres
    corners : pointer to the triangle's three corners, x, y, z each, metres

    Both faces, all edges and corners count: corners are sheared so that the ray runs along one axis, and what an edge
    of one triangle says is exactly the negative of what the same edge of its neighbour says (Woop, Benthin and Wald,
    Watertight ray/triangle intersection, 2013). `facing` is negative where the ray meets the front (counter-clockwise)
    face. A triangle without area, or one seen exactly edge-on, is never hit.
    """
    o = (ox, oy, oz)
    p, q, r = o[kx], o[ky], o[kz]
    az, bz, cz = corners[kz] - r, corners[3 + kz] - r, corners[6 + kz] - r
    ax, ay = corners[kx] - p - sx * az, corners[ky] - q - sy * az
    bx, by = corners[3 + kx] - p - sx * bz, corners[3 + ky] - q - sy * bz
    cx, cy = corners[6 + kx] - p - sx * cz, corners[6 + ky] - q - sy * cz
    u, v, w = _edge(bx, by, cx, cy), _edge(cx, cy, ax, ay), _edge(ax, ay, bx, by)
    if (u < 0.0 or v < 0.0 or w < 0.0) and (u > 0.0 or v > 0.0 or w > 0.0):
        return INF, 0.0
    whole = u + v + w
    if whole == 0.0:
        return INF, 0.0
    distance = (u * az + v * bz + w * cz) * sz / whole
    if not distance >= 0.0:
        return INF, 0.0
    return distance, -whole
