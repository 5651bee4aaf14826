"""Kernels: recording poses, and casting rays through the pose history at a view.

`header` (see `core.memory`) leads to the arrays that all kernels here share, opened by `open_store`
(slots: ticks held; columns: entities; bones: of all entities):

    0 anchor : (slots, 3, columns) float64, metres     centre of the entity's bounding sphere
    1 radius : (slots, columns) float32, metres        radius of that sphere, hitboxes included
    2 epoch : (slots, columns) int32                   0: absent; a change means a cut (respawn, teleport)
    3 place : (slots, 3, bones) float32 or int16       bone origins relative to the anchor
    4 turn : (slots, bones, 4) float32 or int16        bone rotations, quaternion xyzw
    5 columns : (columns, 4) int64                     entity id, first bone, first part, number of parts
    6 parts : (parts, 19) float64                      a rig's table, then reach and bone of each part

and after their addresses: slots, columns, bones, parts. `place` and `turn` are opened twice, as either kind;
`quantum` says which of the two is meant.

`quantum` is 0 for float32 storage; for int16 it is the share of the radius that one step of `place` stands for.

Interpolation is linear in position and spherical in rotation, bone by bone (Shoemake, Animating rotation with
quaternion curves, 1985). Nothing is interpolated across a change of epoch: the entity stays in the older snapshot
until the fraction reaches 1.
"""

from __future__ import annotations

import math

import numpy as np
from numba import carray, njit

from tinclock.core.geometry.rays import clamp, line_box, line_capsule, line_sphere
from tinclock.core.memory import float32_at, float64_at, int16_at, int32_at, int64_at
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_SLACK = TOLERANCES.bound_slack
_UNIT = TOLERANCES.unit_length
_SERIES_FROM = 0.9  # above this cosine ten terms of the series are exact to float64; below, the plain formula is

OK, NOT_FINITE, NOT_UNIT, REPEATED = 0, 1, 2, 3


@njit(cache=True, inline="always")
def open_store(header):
    """The arrays behind a header: anchor, radius, epoch, place (float32, int16), turn (the same), columns, parts."""
    slots, columns, bones, parts = header[7], header[8], header[9], header[10]
    return (
        carray(float64_at(header[0]), (slots, 3, columns)),
        carray(float32_at(header[1]), (slots, columns)),
        carray(int32_at(header[2]), (slots, columns)),
        carray(float32_at(header[3]), (slots, 3, bones)),
        carray(int16_at(header[3]), (slots, 3, bones)),
        carray(float32_at(header[4]), (slots, bones, 4)),
        carray(int16_at(header[4]), (slots, bones, 4)),
        carray(int64_at(header[5]), (columns, 4)),
        carray(float64_at(header[6]), (parts, 19)),
    )


@njit(cache=True, inline="always", error_model="numpy")
def _corner(place32, place16, quantum, slot, axis, bone):
    if quantum > 0.0:
        return float(place16[slot, axis, bone])
    return float(place32[slot, axis, bone])


@njit(cache=True, inline="always", error_model="numpy")
def _turn(turn32, turn16, quantum, slot, bone):
    if quantum > 0.0:
        return (
            float(turn16[slot, bone, 0]),
            float(turn16[slot, bone, 1]),
            float(turn16[slot, bone, 2]),
            float(turn16[slot, bone, 3]),
        )
    return (
        float(turn32[slot, bone, 0]),
        float(turn32[slot, bone, 1]),
        float(turn32[slot, bone, 2]),
        float(turn32[slot, bone, 3]),
    )


@njit(cache=True, inline="always", error_model="numpy")
def _series(share, x):
    """sin(share * angle) / sin(angle) by its power series in x = cos(angle) - 1, cut after ten terms.

    Eberly, A fast and accurate algorithm for computing SLERP (2011). The constants are 1 / (i (2 i + 1)).
    """
    q = share * share
    total = 1.0 + x * (q - 100.0) * (1.0 / 210.0)
    total = 1.0 + total * x * (q - 81.0) * (1.0 / 171.0)
    total = 1.0 + total * x * (q - 64.0) * (1.0 / 136.0)
    total = 1.0 + total * x * (q - 49.0) * (1.0 / 105.0)
    total = 1.0 + total * x * (q - 36.0) * (1.0 / 78.0)
    total = 1.0 + total * x * (q - 25.0) * (1.0 / 55.0)
    total = 1.0 + total * x * (q - 16.0) * (1.0 / 36.0)
    total = 1.0 + total * x * (q - 9.0) * (1.0 / 21.0)
    total = 1.0 + total * x * (q - 4.0) * (1.0 / 10.0)
    total = 1.0 + total * x * (q - 1.0) * (1.0 / 3.0)
    return share * total


@njit(cache=True, error_model="numpy")
def slerp_weight(share, cosine):
    """sin(share * angle) / sin(angle) of the angle with this cosine."""
    if cosine >= _SERIES_FROM:
        return _series(share, cosine - 1.0)
    angle = math.acos(cosine)
    return math.sin(share * angle) / math.sin(angle)


@njit(cache=True, inline="always", error_model="numpy")
def blend_of(epoch_from, epoch_to, fraction):
    """(present, fraction to use) for one entity between two snapshots."""
    if epoch_from == epoch_to:
        return epoch_from > 0, fraction
    if fraction < 1.0:
        return epoch_from > 0, 0.0
    return epoch_to > 0, 1.0


@njit(cache=True, error_model="numpy")
def turn_between(turn32, turn16, quantum, from_slot, to_slot, bone, fraction):
    """The unit quaternion of a bone between two slots."""
    ax, ay, az, aw = _turn(turn32, turn16, quantum, from_slot, bone)
    an = 1.0 / math.sqrt(ax * ax + ay * ay + az * az + aw * aw)
    if fraction == 0.0:
        return ax * an, ay * an, az * an, aw * an
    bx, by, bz, bw = _turn(turn32, turn16, quantum, to_slot, bone)
    bn = 1.0 / math.sqrt(bx * bx + by * by + bz * bz + bw * bw)
    if fraction == 1.0:
        return bx * bn, by * bn, bz * bn, bw * bn
    cosine = (ax * bx + ay * by + az * bz + aw * bw) * an * bn
    if cosine < 0.0:
        cosine, bn = -cosine, -bn
    wa, wb = slerp_weight(1.0 - fraction, cosine) * an, slerp_weight(fraction, cosine) * bn
    x, y, z, w = wa * ax + wb * bx, wa * ay + wb * by, wa * az + wb * bz, wa * aw + wb * bw
    n = 1.0 / math.sqrt(x * x + y * y + z * z + w * w)
    return x * n, y * n, z * n, w * n


@njit(cache=True, inline="always", error_model="numpy")
def rotate(qx, qy, qz, qw, x, y, z):
    """The vector (x, y, z) turned by a unit quaternion."""
    tx, ty, tz = 2.0 * (qy * z - qz * y), 2.0 * (qz * x - qx * z), 2.0 * (qx * y - qy * x)
    return (
        x + qw * tx + qy * tz - qz * ty,
        y + qw * ty + qz * tx - qx * tz,
        z + qw * tz + qx * ty - qy * tx,
    )


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
def _nearest_spheres(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, anchor, radius, epoch, near):
    """For each column a lower bound of the distance to its hitboxes into `near`, inf where the ray passes clear."""
    ax, ay, az = anchor[from_slot, 0], anchor[from_slot, 1], anchor[from_slot, 2]
    bx, by, bz = anchor[to_slot, 0], anchor[to_slot, 1], anchor[to_slot, 2]
    ra, rb = radius[from_slot], radius[to_slot]
    ea, eb = epoch[from_slot], epoch[to_slot]
    before = abs(1.0 - fraction)
    after = abs(fraction)
    step = 0.0 if fraction < 1.0 else 1.0
    for e in range(near.shape[0]):
        same = ea[e] == eb[e]
        f = fraction if same else step
        r = before * ra[e] + after * rb[e] if same else (ra[e] if step == 0.0 else rb[e])
        here = (ea[e] if step == 0.0 else eb[e]) > 0
        cx, cy, cz = (
            ax[e] + f * (bx[e] - ax[e]) - ox,
            ay[e] + f * (by[e] - ay[e]) - oy,
            az[e] + f * (bz[e] - az[e]) - oz,
        )
        along = cx * dx + cy * dy + cz * dz
        square = cx * cx + cy * cy + cz * cz
        reach = r * r + _SLACK * square
        meets = here & (square - along * along <= reach) & ((along >= 0.0) | (square <= reach))
        near[e] = along - r if meets else INF


@njit(cache=True, error_model="numpy")
def ray_entity(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, column, limit, depth, store, quantum):
    """One ray against one entity's parts: (part row, enter, leave) of the winner, row -1 for none within `limit`.

    The nearest entry wins, then the lower row; with `depth` > 0 the highest zone priority among the parts entered
    within `depth` metres of the nearest entry wins, then the nearest of those.
    """
    anchor, radius, epoch, place32, place16, turn32, turn16, columns, parts = store
    _, f = blend_of(epoch[from_slot, column], epoch[to_slot, column], fraction)
    ax, ay, az = anchor[from_slot, 0, column], anchor[from_slot, 1, column], anchor[from_slot, 2, column]
    bx, by, bz = anchor[to_slot, 0, column], anchor[to_slot, 1, column], anchor[to_slot, 2, column]
    cx, cy, cz = ax + f * (bx - ax) - ox, ay + f * (by - ay) - oy, az + f * (bz - az) - oz
    # `1 * (1 - f)` and `1 * f` turn stored steps into metres as well as weighing the two snapshots
    ka = (1.0 - f) * (quantum * radius[from_slot, column] if quantum > 0.0 else 1.0)
    kb = f * (quantum * radius[to_slot, column] if quantum > 0.0 else 1.0)
    first_bone, first_part, count = columns[column, 1], columns[column, 2], columns[column, 3]
    best, best_leave, best_row = limit, INF, -1
    best_priority = -INF
    nearest = limit
    for turn_round in range(2):
        for row in range(first_part, first_part + count):
            bone = first_bone + int(parts[row, 18])
            px = (
                cx
                + ka * _corner(place32, place16, quantum, from_slot, 0, bone)
                + kb * _corner(place32, place16, quantum, to_slot, 0, bone)
            )
            py = (
                cy
                + ka * _corner(place32, place16, quantum, from_slot, 1, bone)
                + kb * _corner(place32, place16, quantum, to_slot, 1, bone)
            )
            pz = (
                cz
                + ka * _corner(place32, place16, quantum, from_slot, 2, bone)
                + kb * _corner(place32, place16, quantum, to_slot, 2, bone)
            )
            along = px * dx + py * dy + pz * dz
            square = px * px + py * py + pz * pz
            reach = parts[row, 17] + 1e-6
            if square - along * along > reach * reach + _SLACK * square or along - reach > best or along < -reach:
                continue
            qx, qy, qz, qw = turn_between(turn32, turn16, quantum, from_slot, to_slot, bone, f)
            enter, leave = ray_part(dx, dy, dz, px, py, pz, qx, qy, qz, qw, parts, row)
            if turn_round == 0:
                if enter < best or (enter == best and best_row < 0 and enter < INF):
                    best, best_leave, best_row = enter, leave, row
            elif enter <= nearest + depth and (
                parts[row, 16] > best_priority or (parts[row, 16] == best_priority and enter < best)
            ):
                best, best_leave, best_row, best_priority = enter, leave, row, parts[row, 16]
                best = enter
        if depth <= 0.0 or best_row < 0:
            break
        nearest, best, best_priority = best, INF, -INF
    return best_row, best, best_leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_part(ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, store, quantum, near):
    """The nearest hit among all entities but column `ignore`: (column, part row, enter, leave), column -1 for none.

    `near` is scratch, one float64 a column. Of two entities hit at exactly the same distance the lower id wins.
    """
    _nearest_spheres(ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, store[0], store[1], store[2], near)
    columns = store[7]
    best, best_leave, best_row, best_column = limit, INF, -1, -1
    if ignore >= 0:
        near[ignore] = INF
    for e in range(near.shape[0]):
        if near[e] > best or near[e] == INF:
            continue
        row, enter, leave = ray_entity(
            ox, oy, oz, dx, dy, dz, from_slot, to_slot, fraction, e, best, depth, store, quantum
        )
        if row >= 0 and (
            enter < best or best_column < 0 or (enter == best and columns[e, 0] < columns[best_column, 0])
        ):
            best, best_leave, best_row, best_column = enter, leave, row, e
    return best_column, best_row, best, best_leave


@njit(cache=True, nogil=True, error_model="numpy")
def first_part_alone(ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, header, quantum):
    """`first_part` for a caller with one ray and no scratch array."""
    store = open_store(header)
    near = np.empty(header[8])
    return first_part(ox, oy, oz, dx, dy, dz, limit, from_slot, to_slot, fraction, ignore, depth, store, quantum, near)


@njit(cache=True, nogil=True, error_model="numpy")
def first_parts(
    order,
    origins,
    directions,
    limits,
    from_slots,
    to_slots,
    fractions,
    ignores,
    depth,
    header,
    quantum,
    columns,
    rows,
    enters,
    leaves,
):
    """`first_part` for the rays numbered in `order`, into the four result arrays."""
    store = open_store(header)
    near = np.empty(header[8])
    for k in range(order.shape[0]):
        i = order[k]
        columns[i], rows[i], enters[i], leaves[i] = first_part(
            origins[i, 0],
            origins[i, 1],
            origins[i, 2],
            directions[i, 0],
            directions[i, 1],
            directions[i, 2],
            limits[i],
            from_slots[i],
            to_slots[i],
            fractions[i],
            ignores[i],
            depth,
            store,
            quantum,
            near,
        )


@njit(cache=True, nogil=True, error_model="numpy")
def record_poses(slot, members, epochs, starts, bones, bone_reach, first_bones, header, quantum):
    """Write one tick: poses of the columns `members` into `slot`, which must have been cleared.

    starts : (n + 1,) int64, rows of `bones` that belong to each member
    bones : (rows, 7) float, xyz + quaternion xyzw
    bone_reach : (bones,) float64, how far the parts on each bone reach from it
    Returns (verdict, member, bone): OK, or what is wrong and where.
    """
    anchor, radius, epoch, place32, place16, turn32, turn16, _, _ = open_store(header)
    for m in range(members.shape[0]):
        column = members[m]
        if epoch[slot, column] != 0:
            return REPEATED, m, 0
        first, last = starts[m], starts[m + 1]
        lx, ly, lz, hx, hy, hz = INF, INF, INF, -INF, -INF, -INF
        for row in range(first, last):
            x, y, z = bones[row, 0], bones[row, 1], bones[row, 2]
            qx, qy, qz, qw = bones[row, 3], bones[row, 4], bones[row, 5], bones[row, 6]
            length = math.sqrt(qx * qx + qy * qy + qz * qz + qw * qw)
            if not (math.isfinite(x) and math.isfinite(y) and math.isfinite(z) and math.isfinite(length)):
                return NOT_FINITE, m, row - first
            if abs(length - 1.0) > _UNIT:
                return NOT_UNIT, m, row - first
            lx, ly, lz = min(lx, x), min(ly, y), min(lz, z)
            hx, hy, hz = max(hx, x), max(hy, y), max(hz, z)
        cx, cy, cz = 0.5 * (lx + hx), 0.5 * (ly + hy), 0.5 * (lz + hz)
        base = first_bones[m]
        widest = 0.0
        for row in range(first, last):
            x, y, z = bones[row, 0] - cx, bones[row, 1] - cy, bones[row, 2] - cz
            widest = max(widest, math.sqrt(x * x + y * y + z * z) + bone_reach[base + row - first])
        widest = widest * 1.000001 + 1e-6
        anchor[slot, 0, column], anchor[slot, 1, column], anchor[slot, 2, column] = cx, cy, cz
        radius[slot, column] = widest
        epoch[slot, column] = epochs[m]
        _store_bones(
            slot,
            base,
            first,
            last,
            bones,
            cx,
            cy,
            cz,
            float(radius[slot, column]),
            place32,
            place16,
            turn32,
            turn16,
            quantum,
        )
    return OK, 0, 0


@njit(cache=True, inline="always", error_model="numpy")
def _store_bones(slot, base, first, last, bones, cx, cy, cz, radius, place32, place16, turn32, turn16, quantum):
    for row in range(first, last):
        bone = base + row - first
        x, y, z = bones[row, 0] - cx, bones[row, 1] - cy, bones[row, 2] - cz
        if quantum > 0.0:
            step = 1.0 / (quantum * radius)
            place16[slot, 0, bone] = int(math.floor(x * step + 0.5))
            place16[slot, 1, bone] = int(math.floor(y * step + 0.5))
            place16[slot, 2, bone] = int(math.floor(z * step + 0.5))
            for k in range(4):
                turn16[slot, bone, k] = int(math.floor(bones[row, 3 + k] * 32700.0 + 0.5))
        else:
            place32[slot, 0, bone], place32[slot, 1, bone], place32[slot, 2, bone] = x, y, z
            for k in range(4):
                turn32[slot, bone, k] = bones[row, 3 + k]


@njit(cache=True, nogil=True, error_model="numpy")
def bones_between(column, bone_count, from_slot, to_slot, fraction, header, quantum, out):
    """An entity's bones at a view into `out` : (bones, 7) float64, world frame. Returns whether it is there."""
    anchor, radius, epoch, place32, place16, turn32, turn16, columns, _ = open_store(header)
    present, f = blend_of(epoch[from_slot, column], epoch[to_slot, column], fraction)
    if not present:
        return False
    ka = (1.0 - f) * (quantum * radius[from_slot, column] if quantum > 0.0 else 1.0)
    kb = f * (quantum * radius[to_slot, column] if quantum > 0.0 else 1.0)
    for k in range(bone_count):
        bone = columns[column, 1] + k
        for axis in range(3):
            a, b = anchor[from_slot, axis, column], anchor[to_slot, axis, column]
            out[k, axis] = (
                a
                + f * (b - a)
                + ka * _corner(place32, place16, quantum, from_slot, axis, bone)
                + kb * _corner(place32, place16, quantum, to_slot, axis, bone)
            )
        out[k, 3], out[k, 4], out[k, 5], out[k, 6] = turn_between(turn32, turn16, quantum, from_slot, to_slot, bone, f)
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def point_on_bone(column, bone, x, y, z, slot, header, quantum):
    """Where a point fixed to a bone is in a slot, in the world: (present, x, y, z)."""
    anchor, radius, epoch, place32, place16, turn32, turn16, columns, _ = open_store(header)
    if epoch[slot, column] == 0:
        return False, 0.0, 0.0, 0.0
    b = columns[column, 1] + bone
    k = quantum * radius[slot, column] if quantum > 0.0 else 1.0
    qx, qy, qz, qw = turn_between(turn32, turn16, quantum, slot, slot, b, 0.0)
    x, y, z = rotate(qx, qy, qz, qw, x, y, z)
    return (
        True,
        anchor[slot, 0, column] + k * _corner(place32, place16, quantum, slot, 0, b) + x,
        anchor[slot, 1, column] + k * _corner(place32, place16, quantum, slot, 1, b) + y,
        anchor[slot, 2, column] + k * _corner(place32, place16, quantum, slot, 2, b) + z,
    )
