"""Kernels: rays through the pose history at a view.

First every entity's bounding sphere, in float32 and with slack for its rounding; then, nearest sphere first, the
bones of each that the ray comes near; then those bones' parts, exactly, in float64. Nothing that a ray could meet is
culled: slack is one part in a million of every length involved, ten times what float32 can be off.

`store` is what `rewind.open_store` returns. Scratch arrays are the caller's, so that a batch allocates them once:
near : (columns,) float32; queue : (columns,) int32; apart : (bones,) float32.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from tinclock.core.geometry.rays import clamp, line_box, line_capsule, line_sphere
from tinclock.core.timeline.rewind import blend_of, corner, open_store, rotate, turn_between

INF = math.inf
_FAR = np.float32(np.inf)
_MILLIONTH = np.float32(1e-6)
_SLACK_M = np.float32(1e-5)


@njit(cache=True, error_model="numpy")
def ray_part(dx, dy, dz, bx, by, bz, qx, qy, qz, qw, parts, row):
    """Ray from the origin against one part whose bone is at b, turned by q: (enter, leave), clamped."""
    cx, cy, cz = rotate(qx, qy, qz, qw, parts[row, 1], parts[row, 2], parts[row, 3])
    cx, cy, cz = cx + bx, cy + by, cz + bz
    if parts[row, 0] == 0.0:
        enter, leave = line_sphere(dx, dy, dz, cx, cy, cz, parts[row, 13])
    elif parts[row, 0] == 1.0:
        ux, uy, uz = rotate(qx, qy, qz, qw, parts[row, 6], parts[row, 9], parts[row, 12])
        enter, leave = line_capsule(dx, dy, dz, cx, cy, cz, ux, uy, uz, parts[row, 13], parts[row, 14])
    else:
        ux, uy, uz = rotate(qx, qy, qz, qw, parts[row, 4], parts[row, 7], parts[row, 10])
        vx, vy, vz = rotate(qx, qy, qz, qw, parts[row, 5], parts[row, 8], parts[row, 11])
        wx, wy, wz = rotate(qx, qy, qz, qw, parts[row, 6], parts[row, 9], parts[row, 12])
        enter, leave = line_box(
            -(cx * ux + cy * uy + cz * uz),
            -(cx * vx + cy * vy + cz * vz),
            -(cx * wx + cy * wy + cz * wz),
            dx * ux + dy * uy + dz * uz,
            dx * vx + dy * vy + dz * vz,
            dx * wx + dy * wy + dz * wz,
            parts[row, 13],
            parts[row, 14],
            parts[row, 15],
        )
    return clamp(enter, leave)


@njit(cache=True, error_model="numpy")
def _nearest_spheres(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, bound, epoch, near):
    """For each column a lower bound of the distance to its hitboxes into `near`, inf where the ray passes clear."""
    ax, ay, az, ar = bound[from_slot, 0], bound[from_slot, 1], bound[from_slot, 2], bound[from_slot, 3]
    bx, by, bz, br = bound[to_slot, 0], bound[to_slot, 1], bound[to_slot, 2], bound[to_slot, 3]
    ea, eb = epoch[from_slot], epoch[to_slot]
    px, py, pz = np.float32(ox), np.float32(oy), np.float32(oz)
    ux, uy, uz = np.float32(dx), np.float32(dy), np.float32(dz)
    slack = np.float32(abs(px) + abs(py) + abs(pz)) * _MILLIONTH + _SLACK_M
    f = np.float32(fraction)
    one = np.float32(1.0)
    step = np.float32(0.0) if fraction < 1.0 else one
    late = fraction >= 1.0
    for e in range(near.shape[0]):
        same = ea[e] == eb[e]
        g = f if same else step
        h = one - g
        here = ((eb[e] > 0) & late) | ((ea[e] > 0) & (same | (not late)))
        x = ax[e] + g * (bx[e] - ax[e]) - px
        y = ay[e] + g * (by[e] - ay[e]) - py
        z = az[e] + g * (bz[e] - az[e]) - pz
        along = x * ux + y * uy + z * uz
        r = abs(h) * ar[e] + abs(g) * br[e] + slack + abs(along) * _MILLIONTH
        wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
        meets = here & (wx * wx + wy * wy + wz * wz <= r * r) & (along >= -r)
        near[e] = along - r if meets else _FAR


@njit(cache=True, error_model="numpy")
def _bones_apart(px, py, pz, dx, dy, dz, ka, kb, from_slot, to_slot, first, count, place32, place16, quantum, apart):
    """Squared distance of each bone's origin from the ray's line into `apart`. (px, py, pz): the body's middle."""
    x0, y0, z0 = np.float32(px), np.float32(py), np.float32(pz)
    ux, uy, uz = np.float32(dx), np.float32(dy), np.float32(dz)
    wa, wb = np.float32(ka), np.float32(kb)
    last = first + count
    if quantum > 0.0:
        ax, ay, az = place16[from_slot, 0, first:last], place16[from_slot, 1, first:last], place16[from_slot, 2, first:last]
        bx, by, bz = place16[to_slot, 0, first:last], place16[to_slot, 1, first:last], place16[to_slot, 2, first:last]
        for k in range(count):
            x = x0 + wa * np.float32(ax[k]) + wb * np.float32(bx[k])
            y = y0 + wa * np.float32(ay[k]) + wb * np.float32(by[k])
            z = z0 + wa * np.float32(az[k]) + wb * np.float32(bz[k])
            along = x * ux + y * uy + z * uz
            wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
            apart[k] = wx * wx + wy * wy + wz * wz
        return
    cx, cy, cz = place32[from_slot, 0, first:last], place32[from_slot, 1, first:last], place32[from_slot, 2, first:last]
    ex, ey, ez = place32[to_slot, 0, first:last], place32[to_slot, 1, first:last], place32[to_slot, 2, first:last]
    for k in range(count):
        x = x0 + wa * cx[k] + wb * ex[k]
        y = y0 + wa * cy[k] + wb * ey[k]
        z = z0 + wa * cz[k] + wb * ez[k]
        along = x * ux + y * uy + z * uz
        wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
        apart[k] = wx * wx + wy * wy + wz * wz


@njit(cache=True, error_model="numpy")
def _ray_entity(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, column, limit, depth, store, quantum, apart):
    """One ray against one entity's parts: (part row, enter, leave) of the winner, row -1 for none within `limit`.

    The nearest entry wins, then the lower row. With `depth` >= 0 a hit is known to lie at `limit`, and the highest
    zone priority among the parts entered within `depth` metres of it wins, then the nearest of those.
    """
    bound, epoch, place32, place16, turn32, turn16, columns, parts = store
    _, f = blend_of(epoch[from_slot, column], epoch[to_slot, column], fraction)
    ax, ay, az = float(bound[from_slot, 0, column]), float(bound[from_slot, 1, column]), float(bound[from_slot, 2, column])
    bx, by, bz = float(bound[to_slot, 0, column]), float(bound[to_slot, 1, column]), float(bound[to_slot, 2, column])
    cx, cy, cz = ax + f * (bx - ax) - ox, ay + f * (by - ay) - oy, az + f * (bz - az) - oz
    ka, kb = 1.0 - f, f
    if quantum > 0.0:  # stored steps become metres as the two snapshots are weighed
        ka, kb = ka * quantum * bound[from_slot, 3, column], kb * quantum * bound[to_slot, 3, column]
    first_bone, first_part, count = columns[column, 1], columns[column, 2], columns[column, 3]
    bones = columns[column, 4]
    _bones_apart(cx, cy, cz, dx, dy, dz, ka, kb, from_slot, to_slot, first_bone, bones, place32, place16, quantum, apart)
    slack = 1e-6 * (abs(cx) + abs(cy) + abs(cz)) + 1e-5
    best, best_leave, best_row, best_priority = limit + max(depth, 0.0), INF, -1, -INF
    for row in range(first_part, first_part + count):
        reach = parts[row, 17] + slack
        if apart[int(parts[row, 18])] > reach * reach:
            continue
        bone = first_bone + int(parts[row, 18])
        px = cx + ka * corner(place32, place16, quantum, from_slot, 0, bone)
        px += kb * corner(place32, place16, quantum, to_slot, 0, bone)
        py = cy + ka * corner(place32, place16, quantum, from_slot, 1, bone)
        py += kb * corner(place32, place16, quantum, to_slot, 1, bone)
        pz = cz + ka * corner(place32, place16, quantum, from_slot, 2, bone)
        pz += kb * corner(place32, place16, quantum, to_slot, 2, bone)
        along = px * dx + py * dy + pz * dz
        if along - reach > (best if depth < 0.0 else limit + depth) or along < -reach:
            continue
        qx, qy, qz, qw = turn_between(turn32, turn16, quantum, from_slot, to_slot, bone, f)
        enter, leave = ray_part(dx, dy, dz, px, py, pz, qx, qy, qz, qw, parts, row)
        if depth < 0.0:
            if enter < best or (enter == best and best_row < 0 and enter < INF):
                best, best_leave, best_row = enter, leave, row
        elif enter <= limit + depth and (
            parts[row, 16] > best_priority or (parts[row, 16] == best_priority and enter < best)
        ):
            best, best_leave, best_row, best_priority = enter, leave, row, parts[row, 16]
    return best_row, best, best_leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_part(
    ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, store, quantum, near, queue, apart
):
    """The nearest hit among all entities but column `ignore`: (column, part row, enter, leave), column -1 for none.

    Of two entities hit at exactly the same distance the lower id wins.
    """
    _nearest_spheres(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, store[0], store[1], near)
    columns = store[6]
    waiting = 0
    for e in range(near.shape[0]):
        if near[e] < _FAR and e != ignore:
            queue[waiting] = e
            waiting += 1
    best, best_leave, best_row, best_column = limit, INF, -1, -1
    while waiting > 0:
        k = 0
        for i in range(1, waiting):
            if near[queue[i]] < near[queue[k]]:
                k = i
        e = queue[k]
        if near[e] > best:
            break
        waiting -= 1
        queue[k] = queue[waiting]
        row, enter, leave = _ray_entity(
            ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, e, best, -1.0, store, quantum, apart
        )
        if row >= 0 and (
            enter < best or best_column < 0 or (enter == best and columns[e, 0] < columns[best_column, 0])
        ):
            best, best_leave, best_row, best_column = enter, leave, row, e
    if depth > 0.0 and best_column >= 0:
        best_row, best, best_leave = _ray_entity(
            ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, best_column, best, depth, store, quantum, apart
        )
    return best_column, best_row, best, best_leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_part_alone(ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum):
    """`first_part` for a caller with one ray and no scratch arrays."""
    store = open_store(header)
    near, queue, apart = np.empty(header[7], np.float32), np.empty(header[7], np.int32), np.empty(header[10], np.float32)
    return first_part(
        ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, store, quantum, near, queue, apart
    )


@njit(cache=True, nogil=True, error_model="numpy")
def first_parts(
    order, origins, directions, limits, from_slots, to_slots, fractions, ignores, depth, header, quantum,
    columns, rows, enters, leaves,
):  # fmt: skip
    """`first_part` for the rays numbered in `order`, into the four result arrays."""
    store = open_store(header)
    near, queue, apart = np.empty(header[7], np.float32), np.empty(header[7], np.int32), np.empty(header[10], np.float32)
    for k in range(order.shape[0]):
        i = order[k]
        columns[i], rows[i], enters[i], leaves[i] = first_part(
            origins[i, 0], origins[i, 1], origins[i, 2], directions[i, 0], directions[i, 1], directions[i, 2],
            limits[i], from_slots[i], to_slots[i], fractions[i], ignores[i], depth, store, quantum, near, queue, apart,
        )  # fmt: skip
