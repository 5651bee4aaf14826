"""Kernels: which hitboxes a blow reaches at a view, swept or within a cone. Exact, in float64, relative to the striker.

`header` and `quantum` are explained in `rewind`.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.cast import PART_BYTES, _sphere, ray_part
from tinclock.core.kernels.compiling import njit
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.poses import blend_of, body_of, epochs_at, place_of, rotate, turn_between
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m


@njit(cache=True, error_model="numpy")
def nearest_on_part(x, y, z, bx, by, bz, qx, qy, qz, qw, part):
    """The point of a part's surface (of its inside: the point itself) nearest to a point: (distance, x, y, z)."""
    cx, cy, cz = rotate(qx, qy, qz, qw, part[1], part[2], part[3])
    cx, cy, cz = cx + bx, cy + by, cz + bz
    if part[0] == 2.0:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[4], part[7], part[10])
        vx, vy, vz = rotate(qx, qy, qz, qw, part[5], part[8], part[11])
        wx, wy, wz = rotate(qx, qy, qz, qw, part[6], part[9], part[12])
        px, py, pz = x - cx, y - cy, z - cz
        a = min(max(px * ux + py * uy + pz * uz, -part[13]), part[13])
        b = min(max(px * vx + py * vy + pz * vz, -part[14]), part[14])
        c = min(max(px * wx + py * wy + pz * wz, -part[15]), part[15])
        nx, ny, nz = cx + a * ux + b * vx + c * wx, cy + a * uy + b * vy + c * wy, cz + a * uz + b * vz + c * wz
        return math.sqrt((nx - x) ** 2 + (ny - y) ** 2 + (nz - z) ** 2), nx, ny, nz
    radius = part[13]
    if part[0] == 1.0:  # the nearest point of its axis takes the centre's place
        radius = part[14]
        ux, uy, uz = rotate(qx, qy, qz, qw, part[6], part[9], part[12])
        along = min(max((x - cx) * ux + (y - cy) * uy + (z - cz) * uz, -part[13]), part[13])
        cx, cy, cz = cx + along * ux, cy + along * uy, cz + along * uz
    dx, dy, dz = x - cx, y - cy, z - cz
    apart = math.sqrt(dx * dx + dy * dy + dz * dz)
    if apart <= radius:
        return 0.0, x, y, z
    share = radius / apart
    return apart - radius, cx + share * dx, cy + share * dy, cz + share * dz


@njit(cache=True, nogil=True, error_model="numpy")
def in_reach(
    ox, oy, oz, dx, dy, dz, reach, radius, cosine, from_slot, to_slot, fraction, ignore, header, quantum, rows, out
):
    """For each column the part that a blow from o along d reaches, into `rows` (-1: none), and where into `out`.

    A ball of `radius` is swept as far as `reach`, its front included; besides, a part whose nearest point lies within
    the angle of `cosine` of d and no further than `reach` is reached. What the ball meets counts before what only lies
    in the cone, and nearer before further.

    rows : (columns,) int64; out : (columns, 4) float64, distance from o to the part's nearest point, and that point
    """
    for column in range(rows.shape[0]):
        rows[column] = -1
        if column == ignore:
            continue
        there, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
        if not there:
            continue
        ax, ay, az, ar = _sphere(header, from_slot, column)
        bx, by, bz, br = _sphere(header, to_slot, column)
        cx, cy, cz = ax + f * (bx - ax) - ox, ay + f * (by - ay) - oy, az + f * (bz - az) - oz
        slack = _RELATIVE * (abs(cx) + abs(cy) + abs(cz)) + _ABSOLUTE_M
        bound = abs(1.0 - f) * ar + abs(f) * br + reach + radius + slack
        if cx * cx + cy * cy + cz * cz > bound * bound:
            continue
        _, first, first_part, parts, bones = body_of(header, column)
        ka, kb = 1.0 - f, f
        if quantum > 0.0:
            ka, kb = ka * quantum * ar, kb * quantum * br
        best, best_met = INF, False
        for row in range(parts):
            part = float64_at(header[5] + PART_BYTES * (first_part + row))
            bone = int(part[18])
            px = cx + ka * place_of(header, quantum, from_slot, first, bones, 0, bone)
            px += kb * place_of(header, quantum, to_slot, first, bones, 0, bone)
            py = cy + ka * place_of(header, quantum, from_slot, first, bones, 1, bone)
            py += kb * place_of(header, quantum, to_slot, first, bones, 1, bone)
            pz = cz + ka * place_of(header, quantum, from_slot, first, bones, 2, bone)
            pz += kb * place_of(header, quantum, to_slot, first, bones, 2, bone)
            qx, qy, qz, qw = turn_between(header, quantum, from_slot, to_slot, first + bone, f)
            met, near, nx, ny, nz = False, INF, 0.0, 0.0, 0.0
            if radius > 0.0:
                enter, _leave = ray_part(dx, dy, dz, px, py, pz, qx, qy, qz, qw, radius, part)
                if enter <= max(reach - radius, 0.0):
                    met = True
                    _d, nx, ny, nz = nearest_on_part(
                        enter * dx, enter * dy, enter * dz, px, py, pz, qx, qy, qz, qw, part
                    )
                    near = math.sqrt(nx * nx + ny * ny + nz * nz)
            if not met and cosine < 1.0:
                near, nx, ny, nz = nearest_on_part(0.0, 0.0, 0.0, px, py, pz, qx, qy, qz, qw, part)
                if near > reach or nx * dx + ny * dy + nz * dz < cosine * near:
                    continue
            if near < INF and (near < best or (met and not best_met)) and (met or not best_met):
                best, best_met, rows[column] = near, met, first_part + row
                out[column, 0], out[column, 1], out[column, 2], out[column, 3] = near, nx + ox, ny + oy, nz + oz
    return 0


@njit(cache=True, nogil=True, error_model="numpy")
def facing_of(bone, from_slot, to_slot, fraction, column, header, quantum):
    """Where a bone's +x axis points at a view: (x, y, z), zeros when the entity is absent."""
    there, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
    if not there:
        return 0.0, 0.0, 0.0
    _, first, _, _, _ = body_of(header, column)
    qx, qy, qz, qw = turn_between(header, quantum, from_slot, to_slot, first + bone, f)
    return rotate(qx, qy, qz, qw, 1.0, 0.0, 0.0)
