"""Kernels: rays through the pose history at a view.

First every entity's bounding sphere, in float32 and with slack for its rounding; then, nearest sphere first, the
bones of each that the ray comes near; then those bones' parts, exactly, in float64. Nothing that a ray could meet is
culled: slack is one part in a million of every length involved, ten times what float32 can be off.

`header` and `quantum` are explained in `rewind`. Scratch arrays are the caller's, so that a batch allocates them once:
near : (columns,) float32; queue : (columns + 1,) int32;
apart : (bones,) float32; close : (parts + 1,) int32.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.compiling import njit
from tinclock.core.kernels.memory import float32_at, float64_at, int16_at, int32_at, int64_at
from tinclock.core.kernels.poses import (
    ABSENCE,
    COVER_COUNT,
    COVERS,
    blend_of,
    body_of,
    bounds_at,
    epochs_at,
    place_of,
    rotate,
    turn_between,
)
from tinclock.core.kernels.ray_shapes import clamp, line_box, line_capsule, line_sphere
from tinclock.core.kernels.sweep_shapes import line_round_box
from tinclock.core.kernels.triangles import first_triangle_alone
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_FAR = np.float32(np.inf)
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m
_ABSENCE = np.int32(ABSENCE)
_MILLIONTH, _SLACK_M = np.float32(_RELATIVE), np.float32(_ABSOLUTE_M)
PART_BYTES = 8 * 19
_SHORT, _LONG = 1.0 / TOLERANCES.largest, TOLERANCES.largest
BLOCK = 2048  # rays that are sorted together: few enough for their data to stay in a core's own cache


@njit(cache=True, error_model="numpy")
def ray_part(dx, dy, dz, bx, by, bz, qx, qy, qz, qw, radius, part):
    """A ray (a ball, with `radius` > 0) from the origin against one part: (enter, leave), clamped.

    b, q : where the part's bone is and how it is turned

    part : pointer to the part's row of the table
    """
    cx, cy, cz = rotate(qx, qy, qz, qw, part[1], part[2], part[3])
    cx, cy, cz = cx + bx, cy + by, cz + bz
    if part[0] == 0.0:
        enter, leave = line_sphere(dx, dy, dz, cx, cy, cz, part[13] + radius)
    elif part[0] == 1.0:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[6], part[9], part[12])
        enter, leave = line_capsule(dx, dy, dz, cx, cy, cz, ux, uy, uz, part[13], part[14] + radius)
    else:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[4], part[7], part[10])
        vx, vy, vz = rotate(qx, qy, qz, qw, part[5], part[8], part[11])
        wx, wy, wz = rotate(qx, qy, qz, qw, part[6], part[9], part[12])
        ox, oy, oz = -(cx * ux + cy * uy + cz * uz), -(cx * vx + cy * vy + cz * vz), -(cx * wx + cy * wy + cz * wz)
        lx, ly, lz = dx * ux + dy * uy + dz * uz, dx * vx + dy * vy + dz * vz, dx * wx + dy * wy + dz * wz
        if radius > 0.0:
            enter, leave = line_round_box(ox, oy, oz, lx, ly, lz, part[13], part[14], part[15], radius)
        else:
            enter, leave = line_box(ox, oy, oz, lx, ly, lz, part[13], part[14], part[15])
    return clamp(enter, leave)


@njit(cache=True, error_model="numpy", fastmath={"contract"})  # bounds have slack: rounding can't show in a result
def _nearest_spheres(ox, oy, oz, dx, dy, dz, radius, from_slot, to_slot, fraction, header, near):
    """For each column a lower bound of the distance to its hitboxes into `near`, inf where the ray passes clear."""
    ax, ay, az, ar = (
        bounds_at(header, from_slot, 0),
        bounds_at(header, from_slot, 1),
        bounds_at(header, from_slot, 2),
        bounds_at(header, from_slot, 3),
    )
    bx, by, bz, br = (
        bounds_at(header, to_slot, 0),
        bounds_at(header, to_slot, 1),
        bounds_at(header, to_slot, 2),
        bounds_at(header, to_slot, 3),
    )
    ea, eb = epochs_at(header, from_slot), epochs_at(header, to_slot)
    px, py, pz = np.float32(ox), np.float32(oy), np.float32(oz)
    ux, uy, uz = np.float32(dx), np.float32(dy), np.float32(dz)
    slack = (abs(px) + abs(py) + abs(pz)) * _MILLIONTH + _SLACK_M + np.float32(radius)
    f = np.float32(fraction)
    one = np.float32(1.0)
    step = np.float32(0.0) if fraction < 1.0 else one
    late, between = fraction >= 1.0, (fraction > 0.0) & (fraction < 1.0)
    for e in range(near.shape[0]):
        same = ea[e] == eb[e]
        g = f if same else step
        apart = between & (ea[e] > 0) & (eb[e] > 0) & ((ea[e] ^ eb[e]) >= _ABSENCE)  # it was away in between
        here = (((eb[e] > 0) & late) | ((ea[e] > 0) & (same | (not late)))) & (not apart)
        x = ax[e] + g * (bx[e] - ax[e]) - px
        y = ay[e] + g * (by[e] - ay[e]) - py
        z = az[e] + g * (bz[e] - az[e]) - pz
        along = x * ux + y * uy + z * uz
        r = abs(one - g) * ar[e] + abs(g) * br[e] + slack + abs(along) * _MILLIONTH
        wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
        meets = here & (wx * wx + wy * wy + wz * wz <= r * r) & (along >= -r)
        near[e] = along - r if meets else _FAR


@njit(cache=True, error_model="numpy", fastmath={"contract"})
def _bones_apart(px, py, pz, dx, dy, dz, ka, kb, before, after, count, apart):
    """Squared distance of each bone's origin from the ray's line into `apart`.

    (px, py, pz) : the body's middle; before, after : pointers to its places in the two snapshots, weighed ka and kb
    """
    x0, y0, z0 = np.float32(px), np.float32(py), np.float32(pz)
    ux, uy, uz = np.float32(dx), np.float32(dy), np.float32(dz)
    wa, wb = np.float32(ka), np.float32(kb)
    for k in range(count):
        x = x0 + wa * np.float32(before[k]) + wb * np.float32(after[k])
        y = y0 + wa * np.float32(before[count + k]) + wb * np.float32(after[count + k])
        z = z0 + wa * np.float32(before[2 * count + k]) + wb * np.float32(after[2 * count + k])
        along = x * ux + y * uy + z * uz
        wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
        apart[k] = wx * wx + wy * wy + wz * wz


@njit(cache=True, error_model="numpy")
def _ray_entity(
    ox, oy, oz, dx, dy, dz, radius, from_slot, to_slot, fraction, column, limit, depth, header, quantum, apart, close
):
    """One ray against one entity's parts: (part row, enter, leave) of the winner, row -1 for none within `limit`.

    The nearest entry wins, then the lower row. With `depth` >= 0 a hit is known to lie at `limit`, and the highest
    zone priority among the parts entered within `depth` metres of it wins, then the nearest of those.
    """
    _, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
    ax, ay, az, ar = _sphere(header, from_slot, column)
    bx, by, bz, br = _sphere(header, to_slot, column)
    cx, cy, cz = ax + f * (bx - ax) - ox, ay + f * (by - ay) - oy, az + f * (bz - az) - oz
    _, first, first_part, parts, bones = body_of(header, column)
    at_a, at_b = (from_slot * header[8] + first) * 3, (to_slot * header[8] + first) * 3
    ka, kb = 1.0 - f, f
    if quantum > 0.0:  # stored steps become metres as the two snapshots are weighed
        ka, kb = ka * quantum * ar, kb * quantum * br
        a16, b16 = int16_at(header[2] + 2 * at_a), int16_at(header[2] + 2 * at_b)
        _bones_apart(cx, cy, cz, dx, dy, dz, ka, kb, a16, b16, bones, apart)
    else:
        a32, b32 = float32_at(header[2] + 4 * at_a), float32_at(header[2] + 4 * at_b)
        _bones_apart(cx, cy, cz, dx, dy, dz, ka, kb, a32, b32, bones, apart)
    slack = _RELATIVE * (abs(cx) + abs(cy) + abs(cz)) + _ABSOLUTE_M + radius
    met = 0
    reaches, bone_of, slack32 = (
        float32_at(header[11] + 4 * first_part),
        int32_at(header[12] + 4 * first_part),
        np.float32(slack),
    )
    for row in range(parts):  # no branch here either
        reach = reaches[row] + slack32
        close[met] = row
        met += apart[bone_of[row]] <= reach * reach
    furthest = limit + max(depth, 0.0)
    best, best_leave, best_row, best_priority = limit, INF, -1, -INF
    for i in range(met):
        row = first_part + close[i]
        part = float64_at(header[5] + PART_BYTES * row)
        reach, bone = part[17] + slack, int(part[18])
        px = cx + ka * place_of(header, quantum, from_slot, first, bones, 0, bone)
        px += kb * place_of(header, quantum, to_slot, first, bones, 0, bone)
        py = cy + ka * place_of(header, quantum, from_slot, first, bones, 1, bone)
        py += kb * place_of(header, quantum, to_slot, first, bones, 1, bone)
        pz = cz + ka * place_of(header, quantum, from_slot, first, bones, 2, bone)
        pz += kb * place_of(header, quantum, to_slot, first, bones, 2, bone)
        along = px * dx + py * dy + pz * dz
        if along - reach > furthest or along < -reach:
            continue
        qx, qy, qz, qw = turn_between(header, quantum, from_slot, to_slot, first + bone, f)
        enter, leave = ray_part(dx, dy, dz, px, py, pz, qx, qy, qz, qw, radius, part)
        if depth < 0.0:
            if enter < best or (enter == best and best_row < 0 and enter < INF):
                best, best_leave, best_row = enter, leave, row
                furthest = enter
        elif enter <= furthest and (part[16] > best_priority or (part[16] == best_priority and enter < best)):
            best, best_leave, best_row, best_priority = enter, leave, row, part[16]
    return best_row, best, best_leave


@njit(cache=True, inline="always", error_model="numpy")
def _sphere(header, slot, column):
    """An entity's bounding sphere in a slot: x, y, z, radius."""
    at = float32_at(header[0] + 4 * (slot * 4 * header[7] + column))
    n = header[7]
    return np.float64(at[0]), np.float64(at[n]), np.float64(at[2 * n]), np.float64(at[3 * n])


@njit(cache=True, nogil=True, error_model="numpy")
def first_part(
    ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum, near, queue,
    apart, close,
):  # fmt: skip
    """The nearest hit among all entities but column `ignore`: (column, part row, enter, leave), column -1 for none.

    With `radius` > 0 a ball of that radius is cast, whose centre starts at o.

    Of two entities hit at exactly the same distance the lower id wins.
    """
    _nearest_spheres(ox, oy, oz, dx, dy, dz, radius, from_slot, to_slot, fraction, header, near)
    if ignore >= 0:
        near[ignore] = _FAR
    return _first_of(
        ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, depth, header, quantum, near, queue, apart,
        close,
    )  # fmt: skip


@njit(cache=True, error_model="numpy")
def _first_of(
    ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, depth, header, quantum, near, queue, apart,
    close,
):  # fmt: skip
    """`first_part` among the entities that `near` gives a distance of."""
    waiting = 0
    for e in range(near.shape[0]):  # no branch: whether a sphere is met can't be predicted
        queue[waiting] = e
        waiting += near[e] < _FAR
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
            ox, oy, oz, dx, dy, dz, radius, from_slot, to_slot, fraction, e, best, -1.0, header, quantum, apart, close
        )
        if row >= 0 and (
            enter < best
            or best_column < 0
            or (enter == best and body_of(header, e)[0] < body_of(header, best_column)[0])
        ):
            best, best_leave, best_row, best_column = enter, leave, row, e
    if depth > 0.0 and best_column >= 0:
        best_row, best, best_leave = _ray_entity(
            ox, oy, oz, dx, dy, dz, radius, from_slot, to_slot, fraction, best_column, best, depth, header, quantum,
            apart, close,
        )  # fmt: skip
    return best_column, best_row, best, best_leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_part_alone(
    ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum
):  # fmt: skip
    """`first_part` for a caller with one ray and no scratch arrays."""
    near, queue = np.empty(header[7], np.float32), np.empty(header[7] + 1, np.int32)
    apart, close = np.empty(header[10], np.float32), np.empty(header[9] + 1, np.int32)
    return first_part(
        ox, oy, oz, dx, dy, dz, radius, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum, near,
        queue, apart, close,
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def first_body_alone(
    ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum
):  # fmt: skip
    """`first_part_alone` without moving cover."""
    near, queue = np.empty(header[7], np.float32), np.empty(header[7] + 1, np.int32)
    apart, close = np.empty(header[10], np.float32), np.empty(header[9] + 1, np.int32)
    _nearest_spheres(ox, oy, oz, dx, dy, dz, 0.0, from_slot, to_slot, fraction, header, near)
    if ignore >= 0:
        near[ignore] = _FAR
    covers = int64_at(header[COVERS])
    for k in range(header[COVER_COUNT]):
        near[covers[k]] = _FAR
    return _first_of(
        ox, oy, oz, dx, dy, dz, 0.0, limit, from_slot, to_slot, fraction, depth, header, quantum, near, queue, apart,
        close,
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def first_on_path(
    ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum, tree, cx, cy, cz
):  # fmt: skip
    """The first wall, and the first hitbox before it.

    Returns (row of the level, distance, facing, column, part row, enter, leave).

    tree : header of the level, whose vertices are relative to (cx, cy, cz)
    """
    wall, distance, facing = first_triangle_alone(ox - cx, oy - cy, oz - cz, dx, dy, dz, 0.0, limit, tree)
    column, row, enter, leave = first_part_alone(
        ox, oy, oz, dx, dy, dz, 0.0, distance if wall >= 0 else limit, from_slot, to_slot, fraction, ignore, depth,
        header, quantum,
    )  # fmt: skip
    return wall, distance, facing, column, row, enter, leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_parts(
    origins, directions, limits, from_ticks, to_ticks, fractions, ignores, ticks, held, known, depth, header, quantum,
    entities, parts, enters, leaves,
):  # fmt: skip
    """`first_part` for many rays, each at its own view, into the last four arrays.

    directions needn't be of unit length; ticks, held : (n,) int64, the ticks that are held, rising, and their slots
    known : (ids,) int32, the column of each id, -1 for none

    A miss is entity 0, part -1, inf. Returns -1, or a row that can't be cast.
    """
    near, queue = np.empty(header[7], np.float32), np.empty(header[7] + 1, np.int32)
    apart, close = np.empty(header[10], np.float32), np.empty(header[9] + 1, np.int32)
    slots = np.empty((2, BLOCK), np.int64)
    order, start = np.empty(BLOCK, np.int64), np.empty(header[6] + 1, np.int64)
    for begin in range(0, origins.shape[0], BLOCK):
        count = min(BLOCK, origins.shape[0] - begin)
        for k in range(count):
            a, b = from_ticks[begin + k], to_ticks[begin + k]
            slots[0, k], slots[1, k] = slot_in(ticks, held, a), slot_in(ticks, held, b)
            if slots[0, k] < 0 or slots[1, k] < 0:
                return begin + k
        _by_slot(slots[0], count, start, order)
        for place in range(count):
            k = order[place]
            i = begin + k
            ox, oy, oz, f = origins[i, 0], origins[i, 1], origins[i, 2], fractions[i]
            dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
            largest = max(abs(dx), max(abs(dy), abs(dz)))
            if not (
                largest > _SHORT
                and abs(dx) + abs(dy) + abs(dz) < _LONG
                and abs(ox) + abs(oy) + abs(oz) < _LONG
                and abs(f) < _LONG
            ):
                return i
            shrink = 1.0 / largest
            dx, dy, dz = dx * shrink, dy * shrink, dz * shrink
            shrink = 1.0 / math.sqrt(dx * dx + dy * dy + dz * dz)
            ignore = known[ignores[i]] if 0 <= ignores[i] < known.shape[0] else -1
            column, row, enter, leave = first_part(
                ox, oy, oz, dx * shrink, dy * shrink, dz * shrink, 0.0, limits[i], slots[0, k], slots[1, k], f, ignore,
                depth, header, quantum, near, queue, apart, close,
            )  # fmt: skip
            if column < 0:
                entities[i], parts[i], enters[i], leaves[i] = 0, -1, INF, INF
            else:
                entity, _, first_part_row, _, _ = body_of(header, column)
                entities[i], parts[i], enters[i], leaves[i] = entity, row - first_part_row, enter, leave
    return -1


@njit(cache=True, inline="always", error_model="numpy")
def slot_in(ticks, held, tick):
    """The ring slot of a tick, -1 when it isn't held.

    ticks, held : (n,) int64, the ticks that are held, rising, and their slots
    """
    low, high = 0, ticks.shape[0] - 1
    if high < 0 or tick < ticks[low] or tick > ticks[high]:
        return -1
    if high > 0:  # ticks are numbered evenly as a rule
        guess = (tick - ticks[0]) * high // (ticks[high] - ticks[0])
        if ticks[guess] == tick:
            return held[guess]
    while low < high:
        middle = (low + high) // 2
        if ticks[middle] < tick:
            low = middle + 1
        else:
            high = middle
    return held[low] if ticks[low] == tick else -1


@njit(cache=True, error_model="numpy")
def _by_slot(slots, count, start, order):
    """Ray numbers grouped by slot into `order`, so that rays at one instant read the same memory."""
    start[:] = 0
    for k in range(count):
        start[slots[k] + 1] += 1
    for slot in range(start.shape[0] - 1):
        start[slot + 1] += start[slot]
    for k in range(count):
        order[start[slots[k]]] = k
        start[slots[k]] += 1
