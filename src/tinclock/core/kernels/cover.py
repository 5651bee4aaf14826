"""Kernels: rays and balls through moving cover, which are the bodies of the history that only stand in the way.

`header` and `quantum` are explained in `rewind`. There are few such bodies, so every part of each is tried.
"""

from __future__ import annotations

import numpy as np

from tinclock.core.kernels.cast import PART_BYTES, _sphere, ray_part
from tinclock.core.kernels.compiling import njit
from tinclock.core.kernels.memory import float64_at, int64_at
from tinclock.core.kernels.poses import COVER_COUNT, COVERS, blend_of, body_of, epochs_at, place_of, turn_between

INF = np.inf


@njit(cache=True, nogil=True, error_model="numpy")
def covers_along(
    ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, ignore, header, quantum, columns, rows, spans
):
    """Every part of moving cover that a ball meets within a way, unordered. Returns how many there are.

    ox, oy, oz, dx, dy, dz : where the ball's centre starts, metres, and the unit direction of its way
    radius, limit : metres; ignore : a column to leave out, -1 for none
    columns, rows : (n,) int64, whose part and which row of the table; spans : (n, 2) float64, metres along the way

    Where there are more than n, only n are written; the caller comes again with longer arrays.
    """
    found = 0
    members = int64_at(header[COVERS])
    for k in range(header[COVER_COUNT]):
        column = members[k]
        if column == ignore:
            continue
        there, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
        if not there:
            continue
        ax, ay, az, ar = _sphere(header, from_slot, column)
        bx, by, bz, br = _sphere(header, to_slot, column)
        cx, cy, cz = ax + f * (bx - ax) - ox, ay + f * (by - ay) - oy, az + f * (bz - az) - oz
        _, first, first_part, parts, bones = body_of(header, column)
        ka, kb = 1.0 - f, f
        if quantum > 0.0:
            ka, kb = ka * quantum * ar, kb * quantum * br
        for row in range(first_part, first_part + parts):
            part = float64_at(header[5] + PART_BYTES * row)
            bone = int(part[18])
            px = cx + ka * place_of(header, quantum, from_slot, first, bones, 0, bone)
            px += kb * place_of(header, quantum, to_slot, first, bones, 0, bone)
            py = cy + ka * place_of(header, quantum, from_slot, first, bones, 1, bone)
            py += kb * place_of(header, quantum, to_slot, first, bones, 1, bone)
            pz = cz + ka * place_of(header, quantum, from_slot, first, bones, 2, bone)
            pz += kb * place_of(header, quantum, to_slot, first, bones, 2, bone)
            qx, qy, qz, qw = turn_between(header, quantum, from_slot, to_slot, first + bone, f)
            enter, leave = ray_part(dx, dy, dz, px, py, pz, qx, qy, qz, qw, radius, part)
            if enter <= limit and enter < INF:
                if found < columns.shape[0]:
                    columns[found], rows[found], spans[found, 0], spans[found, 1] = column, row, enter, leave
                found += 1
    return found
