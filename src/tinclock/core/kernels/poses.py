"""Kernels: recording poses and reading them back at a view. Casting through them is `cast`'s.

`stored` is (header, quantum) everywhere: all arrays are reached through one header, whose places `layout` names.
`quantum` says how origins and turns are stored: 0 for float32; for int16 the share of the radius that one step of an
origin stands for. A bounding sphere's centre is rounded to float32 before origins are taken from it, so nothing is lost
far from the origin: only differences within one body are stored in float32.

An epoch is 0 for absent; else cuts (respawns, teleports) below `ABSENCE`, and how often it came back after an absence
above. `view` is (from_slot, to_slot, fraction): two slots of the ring, int64, and a float64 between them.

Interpolation is linear in position and spherical in rotation, bone by bone (Shoemake, Animating rotation with
quaternion curves, 1985). Nothing is interpolated across a change of epoch: after a cut the entity stays in the older
snapshot until the fraction reaches 1, and where it was absent in between it is absent.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    BODIES_AT,
    BODY_BYTES,
    BONE_COUNT,
    BONES_OF,
    BOUND_ROWS,
    BOUNDS_AT,
    COLUMN_COUNT,
    ENTITY,
    EPOCHS_AT,
    FIRST_BONE,
    FIRST_PART,
    FLOAT32_BYTES,
    INT16_BYTES,
    INT32_BYTES,
    ORIGINS_AT,
    PARTS_OF,
    RADIUS_ROW,
    TURN_FIELDS,
    TURNS_AT,
    X,
    Y,
    Z,
)
from tinclock.core.kernels.memory import float32_at, int16_at, int32_at, int64_at
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_UNIT = TOLERANCES.unit_length
_SERIES_FROM = TOLERANCES.series_cosine
TURN_STEPS = 32_700.0
"""Steps of a quaternion's component in int16."""

ABSENCE = 1 << 16
MAX_CUTS, MAX_ABSENCES = ABSENCE - 1, 1 << 15
"""Both counts go round: only whether they differ within one history says anything."""

OK, NOT_FINITE, NOT_UNIT, REPEATED, UNKNOWN, WRONG_COUNT = 0, 1, 2, 3, 4, 5


@inner
def bounds_at(header, slot, row):
    """Pointer to one row (x, y, z or radius, metres) of a slot's bounding spheres, one float32 a column."""
    return float32_at(header[BOUNDS_AT] + FLOAT32_BYTES * (slot * BOUND_ROWS + row) * header[COLUMN_COUNT])


@inner
def sphere_of(header, slot, column):
    """An entity's bounding sphere in a slot: x, y, z, radius, metres."""
    at = float32_at(header[BOUNDS_AT] + FLOAT32_BYTES * (slot * BOUND_ROWS * header[COLUMN_COUNT] + column))
    n = header[COLUMN_COUNT]
    return np.float64(at[0]), np.float64(at[Y * n]), np.float64(at[Z * n]), np.float64(at[RADIUS_ROW * n])


@inner
def epochs_at(header, slot):
    """Pointer to a slot's epochs, one int32 a column."""
    return int32_at(header[EPOCHS_AT] + INT32_BYTES * slot * header[COLUMN_COUNT])


@inner
def body_of(header, column):
    """(entity id, first bone, first part, number of parts, number of bones) of a column."""
    row = int64_at(header[BODIES_AT] + BODY_BYTES * column)
    return row[ENTITY], row[FIRST_BONE], row[FIRST_PART], row[PARTS_OF], row[BONES_OF]


@inner
def origin_of(stored, slot, first, bones, axis, bone):
    """One coordinate of a bone's origin from its body's middle, in metres or in steps.

    first, bones : its entity's first bone, and how many it has
    """
    header, quantum = stored
    index = (slot * header[BONE_COUNT] + first) * 3 + axis * bones + bone
    if quantum > 0.0:
        return np.float64(int16_at(header[ORIGINS_AT])[index])
    return np.float64(float32_at(header[ORIGINS_AT])[index])


@inner
def _turn(stored, slot, bone):
    """A stored rotation as a unit quaternion xyzw. float32 ones were normalised when they were recorded."""
    header, quantum = stored
    at = TURN_FIELDS * (slot * header[BONE_COUNT] + bone)
    if quantum > 0.0:
        q = int16_at(header[TURNS_AT] + INT16_BYTES * at)
        x, y, z, w = np.float64(q[0]), np.float64(q[1]), np.float64(q[2]), np.float64(q[3])
        n = 1.0 / math.sqrt(x * x + y * y + z * z + w * w)
        return x * n, y * n, z * n, w * n
    p = float32_at(header[TURNS_AT] + FLOAT32_BYTES * at)
    return np.float64(p[0]), np.float64(p[1]), np.float64(p[2]), np.float64(p[3])


@inner
def slerp_weight(share, cosine):
    """sin(share * angle) / sin(angle) of the angle with this cosine.

    Above a cosine of 0.9 (rotations under 50 degrees) by its power series in cosine - 1, cut after six terms, which is
    good to 1e-10 (Eberly, A fast and accurate algorithm for computing SLERP, 2011). Constants: 1 / (i (2 i + 1)).

    A share and a cosine have no unit.
    """
    if cosine < _SERIES_FROM:
        angle = math.acos(cosine)
        return math.sin(share * angle) / math.sin(angle)
    x, q = cosine - 1.0, share * share
    total = 1.0 + x * (q - 36.0) * (1.0 / 78.0)
    total = 1.0 + total * (x * (q - 25.0) * (1.0 / 55.0))
    total = 1.0 + total * (x * (q - 16.0) * (1.0 / 36.0))
    total = 1.0 + total * (x * (q - 9.0) * (1.0 / 21.0))
    total = 1.0 + total * (x * (q - 4.0) * (1.0 / 10.0))
    total = 1.0 + total * (x * (q - 1.0) * (1.0 / 3.0))
    return share * total


@inner
def blend_of(epoch_from, epoch_to, fraction):
    """(present, fraction to use) for one entity between two snapshots.

    Epochs and fractions have no unit.
    """
    if epoch_from == epoch_to:
        return epoch_from > 0, fraction
    if fraction >= 1.0:
        return epoch_to > 0, 1.0
    if epoch_to > 0 and fraction > 0.0 and (epoch_from ^ epoch_to) >= ABSENCE:
        return False, 0.0
    return epoch_from > 0, 0.0


@inner
def blended(stored, view, column):
    """An entity between two snapshots: (there, share, weight_from, weight_to, x, y, z).

    share : the fraction to use; weights : of the stored origins of both snapshots; x, y, z : its middle, metres
    """
    header, quantum = stored
    from_slot, to_slot, fraction = view
    there, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
    ax, ay, az, ar = sphere_of(header, from_slot, column)
    bx, by, bz, br = sphere_of(header, to_slot, column)
    ka, kb = 1.0 - f, f
    if quantum > 0.0:  # stored steps become metres as the two snapshots are weighed
        ka, kb = ka * quantum * ar, kb * quantum * br
    return there, f, ka, kb, ax + f * (bx - ax), ay + f * (by - ay), az + f * (bz - az)


@inner
def bone_between(stored, view, body, bone, ka, kb, middle):
    """A bone's origin between two snapshots, metres: (x, y, z), in the frame of `middle`.

    body : its entity's, see `body_of`; ka, kb : weights of both, see `blended`; middle : (x, y, z) of the body, metres
    """
    _, first, _, _, bones = body
    x = middle[0] + ka * origin_of(stored, view[0], first, bones, X, bone)
    x += kb * origin_of(stored, view[1], first, bones, X, bone)
    y = middle[1] + ka * origin_of(stored, view[0], first, bones, Y, bone)
    y += kb * origin_of(stored, view[1], first, bones, Y, bone)
    z = middle[2] + ka * origin_of(stored, view[0], first, bones, Z, bone)
    z += kb * origin_of(stored, view[1], first, bones, Z, bone)
    return x, y, z


@inner
def turn_between(stored, view, bone, share):
    """The unit quaternion xyzw of a bone (numbered among all bones), `share` of the way between both slots."""
    ax, ay, az, aw = _turn(stored, view[0], bone)
    if share == 0.0:
        return ax, ay, az, aw
    bx, by, bz, bw = _turn(stored, view[1], bone)
    if share == 1.0:
        return bx, by, bz, bw
    cosine = ax * bx + ay * by + az * bz + aw * bw
    sign = 1.0
    if cosine < 0.0:
        cosine, sign = -cosine, -1.0
    wa, wb = slerp_weight(1.0 - share, cosine), sign * slerp_weight(share, cosine)
    return wa * ax + wb * bx, wa * ay + wb * by, wa * az + wb * bz, wa * aw + wb * bw


@inner
def rotate(qx, qy, qz, qw, x, y, z):
    """The vector (x, y, z) turned by a unit quaternion xyzw; in the vector's own unit."""
    tx, ty, tz = 2.0 * (qy * z - qz * y), 2.0 * (qz * x - qx * z), 2.0 * (qx * y - qy * x)
    return (
        x + qw * tx + qy * tz - qz * ty,
        y + qw * ty + qz * tx - qx * tz,
        z + qw * tz + qx * ty - qy * tx,
    )


@njit(cache=True, error_model="numpy")
def record_poses(slot, before, ids, books, starts, each, bones, bone_reach, stored):
    """Write one tick: poses of the entities `ids` into `slot`, which must have been cleared.

    before : the slot of the tick before, -1 for none; ids : (n,) int64
    books : (known, cuts, absences, seen): known (any,) int32, the column of each id, -1 for none; cuts, absences
        (columns,) int64; seen (columns,) bool, whether it was ever written; the last two are kept here
    starts : (n + 1,) int64, rows of `bones` that belong to each entity; empty when every one has `each` rows
    bones : (rows, 7) float64, metres and quaternion xyzw
    bone_reach : (bones,) float64, metres, how far the parts on each bone reach from it
    Returns (verdict, the entity's row in ids, bone): OK, or what is wrong and where.
    """
    header, quantum = stored
    known, cuts, absences, seen = books
    epoch = epochs_at(header, slot)
    ox, oy, oz = bounds_at(header, slot, X), bounds_at(header, slot, Y), bounds_at(header, slot, Z)
    radius = bounds_at(header, slot, RADIUS_ROW)
    for m in range(ids.shape[0]):
        column = known[ids[m]] if 0 <= ids[m] < known.shape[0] else -1
        if column < 0:
            return UNKNOWN, m, 0
        if epoch[column] != 0:
            return REPEATED, m, 0
        _, base, _, _, count = body_of(header, column)
        first, last = (starts[m], starts[m + 1]) if starts.shape[0] > 0 else (m * each, (m + 1) * each)
        if last - first != count:
            return WRONG_COUNT, m, last - first
        verdict, row, cx, cy, cz = _middle_of(bones, first, last)
        if verdict != OK:
            return verdict, m, row - first
        widest = 0.0
        for row in range(first, last):
            x, y, z = bones[row, 0] - cx, bones[row, 1] - cy, bones[row, 2] - cz
            widest = max(widest, math.sqrt(x * x + y * y + z * z) + bone_reach[base + row - first])
        ox[column], oy[column], oz[column] = np.float32(cx), np.float32(cy), np.float32(cz)
        radius[column] = np.float32(widest * (1.0 + TOLERANCES.bound_relative) + TOLERANCES.bound_m)
        epoch[column] = _epoch_now(header, before, column, cuts, absences, seen)
        step = 1.0 / (quantum * radius[column]) if quantum > 0.0 else 0.0
        _store_bones(header, slot, base, first, last, bones, cx, cy, cz, step)
    for m in range(ids.shape[0]):
        column = known[ids[m]]
        absences[column] = epoch[column] // ABSENCE
        seen[column] = True
    return OK, 0, 0


@inner
def _epoch_now(header, before, column, cuts, absences, seen):
    """The epoch of an entity that is there in a tick, by the tick before, see `record_poses`. No unit."""
    apart = absences[column]
    if seen[column] and before >= 0 and epochs_at(header, before)[column] == 0:
        apart += 1
    return np.int32((apart % MAX_ABSENCES) * ABSENCE + 1 + (cuts[column] - 1) % MAX_CUTS)


@njit(cache=True, error_model="numpy")
def note_who_is_there(slot, before, ids, books, header):
    """Write one tick's epochs, as `record_poses` does, where its poses are stored already. No unit.

    slot, before, ids, books : see there. Returns (verdict, the entity's row in ids).
    """
    known, cuts, absences, seen = books
    epoch = epochs_at(header, slot)
    for column in range(header[COLUMN_COUNT]):
        epoch[column] = 0
    for m in range(ids.shape[0]):
        column = known[ids[m]] if 0 <= ids[m] < known.shape[0] else -1
        if column < 0:
            return UNKNOWN, m
        epoch[column] = _epoch_now(header, before, column, cuts, absences, seen)
        absences[column] = epoch[column] // ABSENCE
        seen[column] = True
    return OK, 0


@inner
def _middle_of(bones, first, last):
    """The middle of rows first..last of `bones`, (rows, 7), rounded to float32: (verdict, row at fault, x, y, z),
    metres.
    """
    lx, ly, lz, hx, hy, hz = INF, INF, INF, -INF, -INF, -INF
    for row in range(first, last):
        x, y, z = np.float64(bones[row, 0]), np.float64(bones[row, 1]), np.float64(bones[row, 2])
        square = _square(bones, row)
        if not math.isfinite(x + y + z + square):
            return NOT_FINITE, row, 0.0, 0.0, 0.0
        if abs(square - 1.0) > 2.0 * _UNIT:
            return NOT_UNIT, row, 0.0, 0.0, 0.0
        lx, ly, lz = min(lx, x), min(ly, y), min(lz, z)
        hx, hy, hz = max(hx, x), max(hy, y), max(hz, z)
    cx, cy, cz = np.float32(0.5 * (lx + hx)), np.float32(0.5 * (ly + hy)), np.float32(0.5 * (lz + hz))
    return OK, 0, np.float64(cx), np.float64(cy), np.float64(cz)


@inner
def _square(bones, row):
    """The squared length of a row's quaternion; no unit. bones : (rows, 7)"""
    x, y, z, w = (
        np.float64(bones[row, 3]),
        np.float64(bones[row, 4]),
        np.float64(bones[row, 5]),
        np.float64(bones[row, 6]),
    )
    return x * x + y * y + z * z + w * w


@inner
def _store_bones(header, slot, base, first, last, bones, cx, cy, cz, step):
    """Write rows first..last of `bones`, (rows, 7), relative to c, metres. base : the entity's first bone; step : steps
    a metre, 0 for float32.
    """
    count = last - first
    start = (slot * header[BONE_COUNT] + base) * 3
    place32 = float32_at(header[ORIGINS_AT] + FLOAT32_BYTES * start)
    place16 = int16_at(header[ORIGINS_AT] + INT16_BYTES * start)
    turn = TURN_FIELDS * (slot * header[BONE_COUNT] + base)
    turn32 = float32_at(header[TURNS_AT] + FLOAT32_BYTES * turn)
    turn16 = int16_at(header[TURNS_AT] + INT16_BYTES * turn)
    for k in range(count):
        row = first + k
        x, y, z = bones[row, 0] - cx, bones[row, 1] - cy, bones[row, 2] - cz
        square = _square(bones, row)
        n = 1.5 - 0.5 * square  # two Newton steps towards 1 / sqrt(square), which is all but 1
        n *= 1.5 - 0.5 * square * n * n
        if step > 0.0:
            place16[k] = np.int16(math.floor(x * step + 0.5))
            place16[count + k] = np.int16(math.floor(y * step + 0.5))
            place16[2 * count + k] = np.int16(math.floor(z * step + 0.5))
            for i in range(4):
                turn16[4 * k + i] = np.int16(math.floor(bones[row, 3 + i] * n * TURN_STEPS + 0.5))
        else:
            place32[k], place32[count + k], place32[2 * count + k] = np.float32(x), np.float32(y), np.float32(z)
            for i in range(4):
                turn32[4 * k + i] = np.float32(bones[row, 3 + i] * n)


@njit(cache=True, error_model="numpy")
def bones_between(column, view, stored, out):
    """An entity's bones at a view into `out` : (bones, 7) float64, metres and quaternion xyzw, world frame.

    Returns whether it is there.
    """
    there, share, ka, kb, x, y, z = blended(stored, view, column)
    if not there:
        return False
    body = body_of(stored[0], column)
    for k in range(body[BONES_OF]):
        out[k, 0], out[k, 1], out[k, 2] = bone_between(stored, view, body, k, ka, kb, (x, y, z))
        out[k, 3], out[k, 4], out[k, 5], out[k, 6] = turn_between(stored, view, body[FIRST_BONE] + k, share)
    return True


@njit(cache=True, error_model="numpy")
def point_on_bone(column, bone, point, view, stored):
    """Return the world position, at a view, of a point fixed to a bone, (x, y, z) metres: (there, x, y, z)."""
    there, f, ka, kb, mx, my, mz = blended(stored, view, column)
    if not there:
        return False, 0.0, 0.0, 0.0
    body = body_of(stored[0], column)
    bx, by, bz = bone_between(stored, view, body, bone, ka, kb, (mx, my, mz))
    qx, qy, qz, qw = turn_between(stored, view, body[FIRST_BONE] + bone, f)
    x, y, z = rotate(qx, qy, qz, qw, point[0], point[1], point[2])
    return True, bx + x, by + y, bz + z
