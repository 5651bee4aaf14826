"""Kernels: which hitboxes a blow reaches at a view, swept or within a cone. Exact, in float64, relative to the striker.

`stored` and `view` are explained in `poses`, a `ray` in `cast`.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.cast import ray_part, vehicle_of
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    AXES,
    BOX,
    CAPSULE,
    CENTRE,
    FIRST_BONE,
    PART_BONE,
    PART_BYTES,
    PARTS_AT,
    SHAPE,
    SIZE,
)
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.poses import (
    blend_of,
    blended,
    body_of,
    bone_between,
    epochs_at,
    rotate,
    sphere_of,
    turn_between,
)
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m


@inner
def nearest_on_part(x, y, z, bone, part):
    """The point of a part's surface (of its inside: the point itself) nearest to a point: (distance, x, y, z), metres.

    bone : (x, y, z, qx, qy, qz, qw), where the part's bone is and its unit quaternion; part : pointer to its row
    """
    bx, by, bz, qx, qy, qz, qw = bone
    cx, cy, cz = rotate(qx, qy, qz, qw, part[CENTRE], part[CENTRE + 1], part[CENTRE + 2])
    cx, cy, cz = cx + bx, cy + by, cz + bz
    if part[SHAPE] == BOX:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[AXES], part[AXES + 3], part[AXES + 6])
        vx, vy, vz = rotate(qx, qy, qz, qw, part[AXES + 1], part[AXES + 4], part[AXES + 7])
        wx, wy, wz = rotate(qx, qy, qz, qw, part[AXES + 2], part[AXES + 5], part[AXES + 8])
        px, py, pz = x - cx, y - cy, z - cz
        a = min(max(px * ux + py * uy + pz * uz, -part[SIZE]), part[SIZE])
        b = min(max(px * vx + py * vy + pz * vz, -part[SIZE + 1]), part[SIZE + 1])
        c = min(max(px * wx + py * wy + pz * wz, -part[SIZE + 2]), part[SIZE + 2])
        nx, ny, nz = cx + a * ux + b * vx + c * wx, cy + a * uy + b * vy + c * wy, cz + a * uz + b * vz + c * wz
        return math.sqrt((nx - x) ** 2 + (ny - y) ** 2 + (nz - z) ** 2), nx, ny, nz
    radius = part[SIZE]
    if part[SHAPE] == CAPSULE:  # the nearest point of its axis stands for the centre
        radius = part[SIZE + 1]
        ux, uy, uz = rotate(qx, qy, qz, qw, part[AXES + 2], part[AXES + 5], part[AXES + 8])
        along = min(max((x - cx) * ux + (y - cy) * uy + (z - cz) * uz, -part[SIZE]), part[SIZE])
        cx, cy, cz = cx + along * ux, cy + along * uy, cz + along * uz
    dx, dy, dz = x - cx, y - cy, z - cz
    apart = math.sqrt(dx * dx + dy * dy + dz * dz)
    if apart <= radius:
        return 0.0, x, y, z
    share = radius / apart
    return apart - radius, cx + share * dx, cy + share * dy, cz + share * dz


@njit(cache=True, error_model="numpy")
def melee_targets(ray, reach, radius, cosine, view, ignore, stored, rows, out):
    """For each column the part that a blow along a ray reaches, into `rows` (-1: none), and where into `out`; metres.

    A ball of `radius` is swept as far as `reach`, its front included; besides, a part whose nearest point lies within
    the angle of `cosine` of the ray and no further than `reach` is reached. What the ball meets counts before what only
    lies in the cone, and nearer before further.

    rows : (columns,) int64; out : (columns, 4) float64, distance from the start to the part's nearest point, and that
    """
    ox, oy, oz, dx, dy, dz = ray
    header = stored[0]
    vehicle = vehicle_of(header, ignore)
    for column in range(rows.shape[0]):
        rows[column] = -1
        if (column == ignore) | (column == vehicle):
            continue
        there, f, ka, kb, cx, cy, cz = blended(stored, view, column)
        if not there:
            continue
        cx, cy, cz = cx - ox, cy - oy, cz - oz
        ar, br = sphere_of(header, view[0], column)[3], sphere_of(header, view[1], column)[3]
        slack = _RELATIVE * (abs(cx) + abs(cy) + abs(cz)) + _ABSOLUTE_M
        bound = abs(1.0 - f) * ar + abs(f) * br + reach + radius + slack
        if cx * cx + cy * cy + cz * cz > bound * bound:
            continue
        body = body_of(header, column)
        _, first, first_part, parts, _ = body
        best, best_met = INF, False
        for row in range(parts):
            part = float64_at(header[PARTS_AT] + PART_BYTES * (first_part + row))
            number = int(part[PART_BONE])
            px, py, pz = bone_between(stored, view, body, number, ka, kb, (cx, cy, cz))
            qx, qy, qz, qw = turn_between(stored, view, first + number, f)
            bone = (px, py, pz, qx, qy, qz, qw)
            met, near, nx, ny, nz = False, INF, 0.0, 0.0, 0.0
            if radius > 0.0:
                enter, _leave = ray_part((dx, dy, dz), bone, radius, part)
                if enter <= max(reach - radius, 0.0):
                    met = True
                    _d, nx, ny, nz = nearest_on_part(enter * dx, enter * dy, enter * dz, bone, part)
                    near = math.sqrt(nx * nx + ny * ny + nz * nz)
            if not met and cosine < 1.0:
                near, nx, ny, nz = nearest_on_part(0.0, 0.0, 0.0, bone, part)
                if near > reach or nx * dx + ny * dy + nz * dz < cosine * near:
                    continue
            if near < INF and (near < best or (met and not best_met)) and (met or not best_met):
                best, best_met, rows[column] = near, met, first_part + row
                out[column, 0], out[column, 1], out[column, 2], out[column, 3] = near, nx + ox, ny + oy, nz + oz
    return 0


@njit(cache=True, error_model="numpy")
def facing_of(bone, view, column, stored):
    """Return the direction of a bone's +x axis at a view: (x, y, z), a unit vector, zeros when the entity is absent."""
    header = stored[0]
    there, f = blend_of(epochs_at(header, view[0])[column], epochs_at(header, view[1])[column], view[2])
    if not there:
        return 0.0, 0.0, 0.0
    first = body_of(header, column)[FIRST_BONE]
    qx, qy, qz, qw = turn_between(stored, view, first + bone, f)
    return rotate(qx, qy, qz, qw, 1.0, 0.0, 0.0)
