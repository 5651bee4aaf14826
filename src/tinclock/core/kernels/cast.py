"""Kernels: rays through the pose history at a view.

First every entity's bounding sphere, in float32 and with slack for its rounding; then, nearest sphere first, the
bones of each that the ray comes near; then those bones' parts, exactly, in float64. Nothing that a ray could meet is
culled: slack is one part in a million of every length involved, ten times what float32 can be off.

`stored` and `view` are explained in `poses`. A `ray` is (ox, oy, oz, dx, dy, dz): where it starts, metres, and its unit
direction, float64. `scratch` is the caller's, so that a batch allocates it once: (near, queue, apart, close) with
near : (columns,) float32, metres; queue : (columns + 1,) int32; apart : (bones,) float32, square metres;
close : (parts + 1,) int32.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    AXES,
    BONE_COUNT,
    BONES_OF_AT,
    CAPSULE,
    CENTRE,
    COLUMN_COUNT,
    COVER_COUNT,
    COVERS_AT,
    ENTITY,
    FLOAT32_BYTES,
    INT16_BYTES,
    INT32_BYTES,
    MAX_BONES,
    ORIGINS_AT,
    PART_BONE,
    PART_BYTES,
    PART_COUNT,
    PART_REACH,
    PARTS_AT,
    PRIORITY,
    RADIUS_ROW,
    REACHES_AT,
    SHAPE,
    SIZE,
    SLOT_COUNT,
    SPHERE,
    VEHICLES_AT,
    X,
    Y,
    Z,
)
from tinclock.core.kernels.memory import float32_at, float64_at, int16_at, int32_at, int64_at
from tinclock.core.kernels.poses import (
    ABSENCE,
    blended,
    body_of,
    bone_between,
    bounds_at,
    epochs_at,
    rotate,
    turn_between,
)
from tinclock.core.kernels.ray_shapes import clamp, line_box, line_capsule, line_sphere
from tinclock.core.kernels.sweep_shapes import line_round_box
from tinclock.core.kernels.triangles import first_triangle, scratch_for_tree
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_FAR = np.float32(np.inf)
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m
_ABSENCE = np.int32(ABSENCE)
_MILLIONTH, _SLACK_M = np.float32(_RELATIVE), np.float32(_ABSOLUTE_M)
_SHORT, _LONG = 1.0 / TOLERANCES.largest, TOLERANCES.largest
BLOCK = 2048  # rays that are sorted together: few enough for their data to stay in a core's own cache


@inner
def ray_part(way, bone, radius, part):
    """A ray (a ball, with `radius` > 0) from the origin against one part: (enter, leave), metres, clamped.

    way : (x, y, z), its unit direction; bone : (x, y, z, qx, qy, qz, qw), where the part's bone is, metres, and its
    unit quaternion; part : pointer to the part's row of the table
    """
    dx, dy, dz = way
    bx, by, bz, qx, qy, qz, qw = bone
    cx, cy, cz = rotate(qx, qy, qz, qw, part[CENTRE], part[CENTRE + 1], part[CENTRE + 2])
    cx, cy, cz = cx + bx, cy + by, cz + bz
    a, b, c = part[SIZE], part[SIZE + 1], part[SIZE + 2]
    if part[SHAPE] == SPHERE:
        enter, leave = line_sphere(dx, dy, dz, cx, cy, cz, a + radius)
    elif part[SHAPE] == CAPSULE:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[AXES + 2], part[AXES + 5], part[AXES + 8])
        enter, leave = line_capsule(dx, dy, dz, cx, cy, cz, ux, uy, uz, a, b + radius)
    else:
        ux, uy, uz = rotate(qx, qy, qz, qw, part[AXES], part[AXES + 3], part[AXES + 6])
        vx, vy, vz = rotate(qx, qy, qz, qw, part[AXES + 1], part[AXES + 4], part[AXES + 7])
        wx, wy, wz = rotate(qx, qy, qz, qw, part[AXES + 2], part[AXES + 5], part[AXES + 8])
        ox, oy, oz = -(cx * ux + cy * uy + cz * uz), -(cx * vx + cy * vy + cz * vz), -(cx * wx + cy * wy + cz * wz)
        lx, ly, lz = dx * ux + dy * uy + dz * uz, dx * vx + dy * vy + dz * vz, dx * wx + dy * wy + dz * wz
        if radius > 0.0:
            enter, leave = line_round_box(ox, oy, oz, lx, ly, lz, a, b, c, radius)
        else:
            enter, leave = line_box(ox, oy, oz, lx, ly, lz, a, b, c)
    return clamp(enter, leave)


@inner
def vehicle_of(header, column):
    """Return the column of what the body of a column rides, -1 for none; no unit."""
    return int64_at(header[VEHICLES_AT])[column] if column >= 0 else -1


@inner
def _leave_out(ignore, header, near):
    """A column, -1 for none, and what it rides are no targets: their distance, metres, becomes infinite."""
    if ignore >= 0:
        near[ignore] = _FAR
        vehicle = vehicle_of(header, ignore)
        if vehicle >= 0:
            near[vehicle] = _FAR


@njit(cache=True, error_model="numpy", fastmath={"contract"})  # bounds have slack: rounding can't show in a result
def _nearest_spheres(ray, radius, view, header, near):
    """For each column a lower bound of the distance to its hitboxes into `near`, metres; inf where the ray is clear."""
    ox, oy, oz, dx, dy, dz = ray
    from_slot, to_slot, fraction = view
    ax, ay, az = bounds_at(header, from_slot, X), bounds_at(header, from_slot, Y), bounds_at(header, from_slot, Z)
    bx, by, bz = bounds_at(header, to_slot, X), bounds_at(header, to_slot, Y), bounds_at(header, to_slot, Z)
    ar, br = bounds_at(header, from_slot, RADIUS_ROW), bounds_at(header, to_slot, RADIUS_ROW)
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
def _bones_apart(middle, way, ka, kb, before, after, count, apart):
    """Squared distance of each bone's origin from the ray's line into `apart`, square metres.

    middle : (x, y, z) of the body from where the ray starts, metres; way : the ray's unit direction
    before, after : pointers to the stored origins of `count` bones in both snapshots, weighed ka and kb
    """
    x0, y0, z0 = np.float32(middle[0]), np.float32(middle[1]), np.float32(middle[2])
    ux, uy, uz = np.float32(way[0]), np.float32(way[1]), np.float32(way[2])
    wa, wb = np.float32(ka), np.float32(kb)
    for k in range(count):
        x = x0 + wa * np.float32(before[k]) + wb * np.float32(after[k])
        y = y0 + wa * np.float32(before[count + k]) + wb * np.float32(after[count + k])
        z = z0 + wa * np.float32(before[2 * count + k]) + wb * np.float32(after[2 * count + k])
        along = x * ux + y * uy + z * uz
        wx, wy, wz = x - along * ux, y - along * uy, z - along * uz
        apart[k] = wx * wx + wy * wy + wz * wz


@inner
def _ray_entity(ray, radius, view, column, limit, depth, stored, scratch):
    """One ray against one entity's parts: (part row, enter, leave) of the winner, metres, row -1 for none in `limit`.

    The nearest entry wins, then the lower row. With `depth` >= 0 a hit is known to lie at `limit`, and the highest
    zone priority among the parts entered within `depth` metres of it wins, then the nearest of those.
    """
    ox, oy, oz, dx, dy, dz = ray
    header, quantum = stored
    _, _, apart, close = scratch
    _, f, ka, kb, cx, cy, cz = blended(stored, view, column)
    cx, cy, cz = cx - ox, cy - oy, cz - oz
    body = body_of(header, column)
    _, first, first_part, parts, bones = body
    at_a, at_b = (view[0] * header[BONE_COUNT] + first) * 3, (view[1] * header[BONE_COUNT] + first) * 3
    middle, way = (cx, cy, cz), (dx, dy, dz)
    if quantum > 0.0:
        a16, b16 = int16_at(header[ORIGINS_AT] + INT16_BYTES * at_a), int16_at(header[ORIGINS_AT] + INT16_BYTES * at_b)
        _bones_apart(middle, way, ka, kb, a16, b16, bones, apart)
    else:
        a32 = float32_at(header[ORIGINS_AT] + FLOAT32_BYTES * at_a)
        b32 = float32_at(header[ORIGINS_AT] + FLOAT32_BYTES * at_b)
        _bones_apart(middle, way, ka, kb, a32, b32, bones, apart)
    slack = _RELATIVE * (abs(cx) + abs(cy) + abs(cz)) + _ABSOLUTE_M + radius
    met = 0
    reaches = float32_at(header[REACHES_AT] + FLOAT32_BYTES * first_part)
    bone_of, slack32 = int32_at(header[BONES_OF_AT] + INT32_BYTES * first_part), np.float32(slack)
    for row in range(parts):  # no branch here either
        reach = reaches[row] + slack32
        close[met] = row
        met += apart[bone_of[row]] <= reach * reach
    furthest = limit + max(depth, 0.0)
    best, best_leave, best_row, best_priority = limit, INF, -1, -INF
    for i in range(met):
        row = first_part + close[i]
        part = float64_at(header[PARTS_AT] + PART_BYTES * row)
        reach, bone = part[PART_REACH] + slack, int(part[PART_BONE])
        px, py, pz = bone_between(stored, view, body, bone, ka, kb, middle)
        along = px * dx + py * dy + pz * dz
        if along - reach > furthest or along < -reach:
            continue
        qx, qy, qz, qw = turn_between(stored, view, first + bone, f)
        enter, leave = ray_part(way, (px, py, pz, qx, qy, qz, qw), radius, part)
        if depth < 0.0:
            if enter < best or (enter == best and best_row < 0 and enter < INF):
                best, best_leave, best_row = enter, leave, row
                furthest = enter
        elif enter <= furthest and (
            part[PRIORITY] > best_priority or (part[PRIORITY] == best_priority and enter < best)
        ):
            best, best_leave, best_row, best_priority = enter, leave, row, part[PRIORITY]
    return best_row, best, best_leave


@inner
def first_part(ray, radius, limit, view, ignore, depth, stored, scratch):
    """The nearest hit among all entities but column `ignore` and its vehicle: (column, part row, enter, leave).

    The column is -1 for none.
    With `radius` > 0 a ball of that radius is cast, whose centre starts where the ray does; lengths are metres.

    Of two entities hit at exactly the same distance the lower id wins.
    """
    near = scratch[0]
    _nearest_spheres(ray, radius, view, stored[0], near)
    _leave_out(ignore, stored[0], near)
    return _first_of(ray, radius, limit, view, depth, stored, scratch)


@inner
def _first_of(ray, radius, limit, view, depth, stored, scratch):
    """`first_part` among the entities that `near`, in metres, gives a distance of."""
    near, queue, _, _ = scratch
    header = stored[0]
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
        e = np.int64(queue[k])
        if near[e] > best:
            break
        waiting -= 1
        queue[k] = queue[waiting]
        row, enter, leave = _ray_entity(ray, radius, view, e, best, -1.0, stored, scratch)
        if row >= 0 and (
            enter < best
            or best_column < 0
            or (enter == best and body_of(header, e)[ENTITY] < body_of(header, best_column)[ENTITY])
        ):
            best, best_leave, best_row, best_column = enter, leave, row, e
    if depth > 0.0 and best_column >= 0:
        best_row, best, best_leave = _ray_entity(ray, radius, view, best_column, best, depth, stored, scratch)
    return best_column, best_row, best, best_leave


@inner
def _scratch_for(header):
    """(near, queue, apart, close), see the top of this page; nothing in them has a value, or a unit, yet."""
    return (
        np.empty(header[COLUMN_COUNT], np.float32),
        np.empty(header[COLUMN_COUNT] + 1, np.int32),
        np.empty(header[MAX_BONES], np.float32),
        np.empty(header[PART_COUNT] + 1, np.int32),
    )


@njit(cache=True, error_model="numpy")
def first_part_alone(ray, radius, limit, view, ignore, depth, stored):
    """`first_part` for a caller with one ray and no scratch arrays; metres."""
    return first_part(ray, radius, limit, view, ignore, depth, stored, _scratch_for(stored[0]))


@njit(cache=True, error_model="numpy")
def first_body_alone(ray, limit, view, ignore, depth, stored):
    """`first_part_alone` without moving cover; metres."""
    header = stored[0]
    scratch = _scratch_for(header)
    near = scratch[0]
    _nearest_spheres(ray, 0.0, view, header, near)
    _leave_out(ignore, header, near)
    covers = int64_at(header[COVERS_AT])
    for k in range(header[COVER_COUNT]):
        near[covers[k]] = _FAR
    return _first_of(ray, 0.0, limit, view, depth, stored, scratch)


@njit(cache=True, error_model="numpy")
def first_on_path(ray, limit, view, ignore, depth, stored, tree, middle):
    """The first wall, and the first hitbox before it: (row of the level, distance, facing, column, part row, enter,
    leave), metres.

    tree : header of the level, whose vertices are relative to middle : (x, y, z), metres
    """
    return first_on_path_in(
        ray, limit, view, ignore, depth, stored, tree, middle, _scratch_for(stored[0]), scratch_for_tree()
    )


@inner
def first_on_path_in(ray, limit, view, ignore, depth, stored, tree, middle, scratch, tree_scratch):
    """`first_on_path` for a caller with scratch arrays, this page's and `triangles`'; metres."""
    ox, oy, oz, dx, dy, dz = ray
    start = (ox - middle[0], oy - middle[1], oz - middle[2], dx, dy, dz)
    wall, distance, facing = first_triangle(start, 0.0, limit, tree, tree_scratch)
    column, row, enter, leave = first_part(
        ray, 0.0, distance if wall >= 0 else limit, view, ignore, depth, stored, scratch
    )
    return wall, distance, facing, column, row, enter, leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_parts(rays, views, index, depth, stored, out):
    """`first_part` for many rays, each at its own view, into the arrays of `out`.

    rays : (origins, directions, limits, ignores): (n, 3) float64, metres; (n, 3) float64, of any length; (n,) float64,
        metres; (n,) int64, ids
    views : (from_ticks, to_ticks, fractions): (n,) int64 twice, (n,) float64
    index : (ticks, held, known): (t,) int64, the ticks that are held, rising, and their slots; (ids,) int32, the column
        of each id, -1 for none
    out : (entities, parts, enters, leaves): (n,) int64 twice, (n,) float64 twice, metres

    A miss is entity 0, part -1, inf. Returns -1, or a row that can't be cast.
    """
    origins, directions, limits, ignores = rays
    from_ticks, to_ticks, fractions = views
    ticks, held, known = index
    entities, parts, enters, leaves = out
    header = stored[0]
    scratch = _scratch_for(header)
    slots = np.empty((2, BLOCK), np.int64)
    order, start = np.empty(BLOCK, np.int64), np.empty(header[SLOT_COUNT] + 1, np.int64)
    for begin in range(0, origins.shape[0], BLOCK):
        count = min(BLOCK, origins.shape[0] - begin)
        for k in range(count):
            a, b = from_ticks[begin + k], to_ticks[begin + k]
            slots[0, k], slots[1, k] = slot_in(ticks, held, a), slot_in(ticks, held, b)
            if slots[0, k] < 0 or slots[1, k] < 0:
                return begin + k
        _by_slot(slots[0], count, start, order)
        for turn in range(count):
            k = order[turn]
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
            ray, view = (ox, oy, oz, dx * shrink, dy * shrink, dz * shrink), (slots[0, k], slots[1, k], f)
            column, row, enter, leave = first_part(ray, 0.0, limits[i], view, ignore, depth, stored, scratch)
            if column < 0:
                entities[i], parts[i], enters[i], leaves[i] = 0, -1, INF, INF
            else:
                entity, _, first_part_row, _, _ = body_of(header, column)
                entities[i], parts[i], enters[i], leaves[i] = entity, row - first_part_row, enter, leave
    return -1


@njit(cache=True, error_model="numpy")
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


@inner
def _by_slot(slots, count, start, order):
    """Ray numbers grouped by slot into `order`, so that rays at one instant read the same memory.

    slots, order : (n,) int64; start : (slots of the ring + 1,) int64; none has a unit
    """
    for slot in range(start.shape[0]):
        start[slot] = 0
    for k in range(count):
        start[slots[k] + 1] += 1
    for slot in range(start.shape[0] - 1):
        start[slot + 1] += start[slot]
    for k in range(count):
        order[start[slots[k]]] = k
        start[slots[k]] += 1
