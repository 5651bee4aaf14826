"""Kernels: recording poses and reading them back at a view. Casting through them is `cast`'s.

All arrays are reached through one `header` (see `core.memory`) of addresses and lengths
(slots: ticks held; columns: entities; bones: of all entities):

    0 bound : (slots, 4, columns) float32, metres      centre and radius of a sphere around the entity's hitboxes
    1 epoch : (slots, columns) int32                   0: absent; else cuts (respawns, teleports) below `ABSENCE`, and
                                                       how often it came back after an absence above
    2 place : (slots, 3 * bones) float32 or int16      bone origins from that centre: an entity's x, then y, then z
    3 turn : (slots, bones, 4) float32 or int16        bone rotations, quaternion xyzw
    4 columns : (columns, 5) int64                     entity id, first bone, first part, numbers of parts and of bones
    5 parts : (parts, 19) float64                      a rig's table, then reach and bone of each part
    6.. slots, columns, bones, parts, most bones of one entity
    11, 12 reach : (parts,) float32, bone : (parts,) int32     columns 17 and 18 of parts once more, close together
    13, 14 covers : (n,) int64, and n                the columns of bodies that only stand in the way

`quantum` says how `place` and `turn` are stored: 0 for float32; for int16 the share of the radius that one step of
`place` stands for. A centre is rounded to float32 before places are taken from it, so nothing is lost far from the
origin: only differences within one body are stored in float32.

Interpolation is linear in position and spherical in rotation, bone by bone (Shoemake, Animating rotation with
quaternion curves, 1985). Nothing is interpolated across a change of epoch: after a cut the entity stays in the older
snapshot until the fraction reaches 1, and where it was absent in between it is absent.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.compiling import njit
from tinclock.core.kernels.memory import float32_at, int16_at, int32_at, int64_at
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
_UNIT = TOLERANCES.unit_length
_SERIES_FROM = 0.9

ABSENCE = 1 << 16
MOST_CUTS, MOST_ABSENCES = ABSENCE - 1, 1 << 15
"""Both counts go round: only whether they differ within one history says anything."""
COVERS, COVER_COUNT = 13, 14
"""Places in the header."""

OK, NOT_FINITE, NOT_UNIT, REPEATED, UNKNOWN, WRONG_COUNT = 0, 1, 2, 3, 4, 5


@njit(cache=True, inline="always", error_model="numpy")
def bounds_at(header, slot, row):
    """Pointer to row 0..3 (x, y, z, radius) of a slot's bounding spheres, one float32 a column."""
    return float32_at(header[0] + 4 * (slot * 4 + row) * header[7])


@njit(cache=True, inline="always", error_model="numpy")
def epochs_at(header, slot):
    """Pointer to a slot's epochs, one int32 a column."""
    return int32_at(header[1] + 4 * slot * header[7])


@njit(cache=True, inline="always", error_model="numpy")
def body_of(header, column):
    """(entity id, first bone, first part, number of parts, number of bones) of a column."""
    row = int64_at(header[4] + 40 * column)
    return row[0], row[1], row[2], row[3], row[4]


@njit(cache=True, inline="always", error_model="numpy")
def place_of(header, quantum, slot, first, bones, axis, bone):
    """One coordinate of a bone's origin, in metres or in steps; `first` and `bones` are its entity's."""
    index = (slot * header[8] + first) * 3 + axis * bones + bone
    if quantum > 0.0:
        return np.float64(int16_at(header[2])[index])
    return np.float64(float32_at(header[2])[index])


@njit(cache=True, inline="always", error_model="numpy")
def _turn(header, quantum, slot, bone):
    """A stored rotation as a unit quaternion. float32 ones were normalised when they were recorded."""
    if quantum > 0.0:
        q = int16_at(header[3] + 8 * (slot * header[8] + bone))
        x, y, z, w = np.float64(q[0]), np.float64(q[1]), np.float64(q[2]), np.float64(q[3])
        n = 1.0 / math.sqrt(x * x + y * y + z * z + w * w)
        return x * n, y * n, z * n, w * n
    p = float32_at(header[3] + 16 * (slot * header[8] + bone))
    return np.float64(p[0]), np.float64(p[1]), np.float64(p[2]), np.float64(p[3])


@njit(cache=True, inline="always", error_model="numpy")
def slerp_weight(share, cosine):
    """sin(share * angle) / sin(angle) of the angle with this cosine.

    Above a cosine of 0.9 (rotations under 50 degrees) by its power series in cosine - 1, cut after six terms, which is
    good to 1e-10 (Eberly, A fast and accurate algorithm for computing SLERP, 2011). Constants: 1 / (i (2 i + 1)).
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


@njit(cache=True, inline="always", error_model="numpy")
def blend_of(epoch_from, epoch_to, fraction):
    """(present, fraction to use) for one entity between two snapshots."""
    if epoch_from == epoch_to:
        return epoch_from > 0, fraction
    if fraction >= 1.0:
        return epoch_to > 0, 1.0
    if epoch_to > 0 and fraction > 0.0 and (epoch_from ^ epoch_to) >= ABSENCE:
        return False, 0.0
    return epoch_from > 0, 0.0


@njit(cache=True, error_model="numpy")
def turn_between(header, quantum, from_slot, to_slot, bone, fraction):
    """The unit quaternion of a bone (numbered among all bones) between two slots."""
    ax, ay, az, aw = _turn(header, quantum, from_slot, bone)
    if fraction == 0.0:
        return ax, ay, az, aw
    bx, by, bz, bw = _turn(header, quantum, to_slot, bone)
    if fraction == 1.0:
        return bx, by, bz, bw
    cosine = ax * bx + ay * by + az * bz + aw * bw
    sign = 1.0
    if cosine < 0.0:
        cosine, sign = -cosine, -1.0
    wa, wb = slerp_weight(1.0 - fraction, cosine), sign * slerp_weight(fraction, cosine)
    return wa * ax + wb * bx, wa * ay + wb * by, wa * az + wb * bz, wa * aw + wb * bw


@njit(cache=True, inline="always", error_model="numpy")
def rotate(qx, qy, qz, qw, x, y, z):
    """The vector (x, y, z) turned by a unit quaternion."""
    tx, ty, tz = 2.0 * (qy * z - qz * y), 2.0 * (qz * x - qx * z), 2.0 * (qx * y - qy * x)
    return (
        x + qw * tx + qy * tz - qz * ty,
        y + qw * ty + qz * tx - qx * tz,
        z + qw * tz + qx * ty - qy * tx,
    )


@njit(cache=True, nogil=True, error_model="numpy")
def record_poses(
    slot, before, ids, known, cuts, absences, seen, starts, each, bones, bone_reach, header, quantum
):  # fmt: skip
    """Write one tick: poses of the entities `ids` into `slot`, which must have been cleared.

    before : the slot of the tick before, -1 for none
    known : (ids,) int32, the column of each id, -1 for none
    cuts, absences : (columns,) int64; seen : (columns,) bool, whether it was ever written; the last two are kept here
    starts : (n + 1,) int64, rows of `bones` that belong to each entity; empty when every one has `each` rows
    bones : (rows, 7) float, xyz + quaternion xyzw
    bone_reach : (bones,) float64, how far the parts on each bone reach from it
    Returns (verdict, entity's place in ids, bone): OK, or what is wrong and where.
    """
    epoch = epochs_at(header, slot)
    ox, oy, oz, radius = (
        bounds_at(header, slot, 0),
        bounds_at(header, slot, 1),
        bounds_at(header, slot, 2),
        bounds_at(header, slot, 3),
    )
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
        apart = absences[column]
        if seen[column] and before >= 0 and epochs_at(header, before)[column] == 0:
            apart += 1
        epoch[column] = np.int32((apart % MOST_ABSENCES) * ABSENCE + 1 + (cuts[column] - 1) % MOST_CUTS)
        step = 1.0 / (quantum * radius[column]) if quantum > 0.0 else 0.0
        _store_bones(header, slot, base, first, last, bones, cx, cy, cz, step)
    for m in range(ids.shape[0]):
        column = known[ids[m]]
        absences[column] = epoch[column] // ABSENCE
        seen[column] = True
    return OK, 0, 0


@njit(cache=True, inline="always", error_model="numpy")
def _middle_of(bones, first, last):
    """The middle of some bones, rounded to float32: (verdict, row at fault, x, y, z)."""
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


@njit(cache=True, inline="always", error_model="numpy")
def _square(bones, row):
    x, y, z, w = (
        np.float64(bones[row, 3]),
        np.float64(bones[row, 4]),
        np.float64(bones[row, 5]),
        np.float64(bones[row, 6]),
    )
    return x * x + y * y + z * z + w * w


@njit(cache=True, inline="always", error_model="numpy")
def _store_bones(header, slot, base, first, last, bones, cx, cy, cz, step):
    count = last - first
    start = (slot * header[8] + base) * 3
    place32, place16 = float32_at(header[2] + 4 * start), int16_at(header[2] + 2 * start)
    turn32 = float32_at(header[3] + 16 * (slot * header[8] + base))
    turn16 = int16_at(header[3] + 8 * (slot * header[8] + base))
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
                turn16[4 * k + i] = np.int16(math.floor(bones[row, 3 + i] * n * 32700.0 + 0.5))
        else:
            place32[k], place32[count + k], place32[2 * count + k] = np.float32(x), np.float32(y), np.float32(z)
            for i in range(4):
                turn32[4 * k + i] = np.float32(bones[row, 3 + i] * n)


@njit(cache=True, nogil=True, error_model="numpy")
def bones_between(column, from_slot, to_slot, fraction, header, quantum, out):
    """An entity's bones at a view into `out` : (bones, 7) float64, world frame. Returns whether it is there."""
    present, f = blend_of(epochs_at(header, from_slot)[column], epochs_at(header, to_slot)[column], fraction)
    if not present:
        return False
    _, first, _, _, count = body_of(header, column)
    ka = (1.0 - f) * (quantum * bounds_at(header, from_slot, 3)[column] if quantum > 0.0 else 1.0)
    kb = f * (quantum * bounds_at(header, to_slot, 3)[column] if quantum > 0.0 else 1.0)
    for k in range(count):
        for axis in range(3):
            a = np.float64(bounds_at(header, from_slot, axis)[column])
            b = np.float64(bounds_at(header, to_slot, axis)[column])
            out[k, axis] = (
                a
                + f * (b - a)
                + ka * place_of(header, quantum, from_slot, first, count, axis, k)
                + kb * place_of(header, quantum, to_slot, first, count, axis, k)
            )
        out[k, 3], out[k, 4], out[k, 5], out[k, 6] = turn_between(header, quantum, from_slot, to_slot, first + k, f)
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def point_on_bone(column, bone, x, y, z, slot, header, quantum):
    """Where a point fixed to a bone is in a slot, in the world: (present, x, y, z)."""
    if epochs_at(header, slot)[column] == 0:
        return False, 0.0, 0.0, 0.0
    _, first, _, _, count = body_of(header, column)
    k = quantum * bounds_at(header, slot, 3)[column] if quantum > 0.0 else 1.0
    qx, qy, qz, qw = turn_between(header, quantum, slot, slot, first + bone, 0.0)
    x, y, z = rotate(qx, qy, qz, qw, x, y, z)
    return (
        True,
        np.float64(bounds_at(header, slot, 0)[column]) + k * place_of(header, quantum, slot, first, count, 0, bone) + x,
        np.float64(bounds_at(header, slot, 1)[column]) + k * place_of(header, quantum, slot, first, count, 1, bone) + y,
        np.float64(bounds_at(header, slot, 2)[column]) + k * place_of(header, quantum, slot, first, count, 2, bone) + z,
    )
