"""Kernels: what a projectile meets between two server times, bodies and level, both motions as they are.

Bodies are met between the two recorded ticks around the instant at which the projectile meets them (see
`legs`), moving as they are interpolated. First spheres, moving in straight lines, with room for the bend of the
path; then each part by conservative advancement (Mirtich, Impulse-based dynamic simulation, 1996, section 2.3): the
gap between ball and part, divided by the greatest speed at which it can close, is a time in which nothing is met. It
stops at a gap of `Tolerances.touch_m`. So nothing is passed through, whatever the speed, and no tick matters.

The level is met by the ball swept along chords, grown by as much as the path can lie off them, which are halved until
that is below `Tolerances.touch_m`.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.cast import PART_BYTES, _sphere
from tinclock.core.kernels.compiling import njit
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.nearest import nearest_on_corner
from tinclock.core.kernels.poses import blend_of, body_of, bounds_at, epochs_at, place_of, turn_between
from tinclock.core.kernels.reach import nearest_on_part
from tinclock.core.kernels.trajectory import (
    AGE,
    AT_REST,
    BOUNCED,
    BOUNCES_LEFT,
    DONE,
    END,
    FADE,
    KEEPS,
    LAST,
    LOSES,
    NEAR,
    ON_LEVEL,
    ORIGIN_TIME,
    OWNER_AFTER_BOUNCE,
    OWNER_FROM,
    RADIUS,
    RANGE,
    SLOW,
    bend,
    bounce_leg,
    next_leg,
    position_at,
    velocity_at,
)  # fmt: skip
from tinclock.core.kernels.triangles import STACK, WIDTH, edges_of, first_triangle
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
TOUCH_M, SKIN_M, _SHORTEST_S = TOLERANCES.touch_m, TOLERANCES.skin_m, TOLERANCES.step_s
NOTHING, LEVEL, BODY, OVER, TOO_FAR = 0, 1, 2, 3, 4
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m
_CLOSING, _MOMENT_S, _TINY = TOLERANCES.closing_m_s, TOLERANCES.time_s, TOLERANCES.time_relative
IGNORED = 8


@njit(cache=True, inline="always", error_model="numpy")
def met_at(row, t):
    """The server time at which it meets bodies when its own time is t."""
    if row[FADE] <= 0.0:
        return t
    left = 1.0 - (t - row[ORIGIN_TIME]) / row[FADE]
    return t - row[AGE] * left if left > 0.0 else t


@njit(cache=True, inline="always", error_model="numpy")
def _time_met_at(row, tau):
    """The inverse of `met_at`."""
    if row[FADE] <= 0.0 or tau >= row[ORIGIN_TIME] + row[FADE]:
        return tau
    slope = 1.0 + row[AGE] / row[FADE]
    return row[ORIGIN_TIME] + (tau - row[ORIGIN_TIME] + row[AGE]) / slope


@njit(cache=True, error_model="numpy")
def _pair_at(times, tau):
    """Place of the recorded tick at or before a time, so that it and the next one enclose it; 0 before the first."""
    low, high = 0, times.shape[0] - 1
    while low < high:
        middle = (low + high + 1) // 2
        if times[middle] <= tau:
            low = middle
        else:
            high = middle - 1
    return low


@njit(cache=True, error_model="numpy")
def part_at(x, y, z, column, part_row, from_slot, to_slot, f, header, quantum):
    """Distance from a point to a part, and the way to its nearest point: (gap, x, y, z)."""
    ax, ay, az, ar = _sphere(header, from_slot, column)
    bx, by, bz, br = _sphere(header, to_slot, column)
    _, first, _, _, bones = body_of(header, column)
    part = float64_at(header[5] + PART_BYTES * part_row)
    bone = int(part[18])
    ka, kb = 1.0 - f, f
    if quantum > 0.0:
        ka, kb = ka * quantum * ar, kb * quantum * br
    px, py, pz = ax + f * (bx - ax) - x, ay + f * (by - ay) - y, az + f * (bz - az) - z
    px += ka * place_of(header, quantum, from_slot, first, bones, 0, bone)
    px += kb * place_of(header, quantum, to_slot, first, bones, 0, bone)
    py += ka * place_of(header, quantum, from_slot, first, bones, 1, bone)
    py += kb * place_of(header, quantum, to_slot, first, bones, 1, bone)
    pz += ka * place_of(header, quantum, from_slot, first, bones, 2, bone)
    pz += kb * place_of(header, quantum, to_slot, first, bones, 2, bone)
    qx, qy, qz, qw = turn_between(header, quantum, from_slot, to_slot, first + bone, f)
    return nearest_on_part(0.0, 0.0, 0.0, px, py, pz, qx, qy, qz, qw, part)


@njit(cache=True, error_model="numpy")
def _part_speed(column, part_row, from_slot, to_slot, span, header, quantum):
    """The greatest speed of any point of a part between two ticks, `span` seconds apart."""
    ax, ay, az, ar = _sphere(header, from_slot, column)
    bx, by, bz, br = _sphere(header, to_slot, column)
    _, first, _, _, bones = body_of(header, column)
    part = float64_at(header[5] + PART_BYTES * part_row)
    bone, reach = int(part[18]), part[17]
    ka, kb = (quantum * ar, quantum * br) if quantum > 0.0 else (1.0, 1.0)
    dx = bx - ax + kb * place_of(header, quantum, to_slot, first, bones, 0, bone)
    dx -= ka * place_of(header, quantum, from_slot, first, bones, 0, bone)
    dy = by - ay + kb * place_of(header, quantum, to_slot, first, bones, 1, bone)
    dy -= ka * place_of(header, quantum, from_slot, first, bones, 1, bone)
    dz = bz - az + kb * place_of(header, quantum, to_slot, first, bones, 2, bone)
    dz -= ka * place_of(header, quantum, from_slot, first, bones, 2, bone)
    px, py, pz, pw = turn_between(header, quantum, from_slot, from_slot, first + bone, 0.0)
    qx, qy, qz, qw = turn_between(header, quantum, to_slot, to_slot, first + bone, 0.0)
    angle = 2.0 * math.acos(min(1.0, abs(px * qx + py * qy + pz * qz + pw * qw)))
    return (math.sqrt(dx * dx + dy * dy + dz * dz) + angle * reach) / span


@njit(cache=True, error_model="numpy")
def _meet_part(row, ta, tb, radius, column, part_row, from_slot, to_slot, before, span, still, limit, header, quantum):
    """First time in [ta, tb], and up to `limit`, at which the ball touches a part; inf for never."""
    ax, ay, az = velocity_at(row, ta)
    bx, by, bz = velocity_at(row, tb)
    fast = math.sqrt(max(ax * ax + ay * ay + az * az, bx * bx + by * by + bz * bz)) + bend(row, ta, tb) * (tb - ta)
    slide = 1.0
    if row[FADE] > 0.0:
        slide += row[AGE] / row[FADE]
    if not still:
        fast += slide * _part_speed(column, part_row, from_slot, to_slot, span, header, quantum)
    t = ta
    while t <= tb and t <= limit:
        f = 0.0 if still else min(1.0, max(0.0, (met_at(row, t) - before) / span))
        x, y, z = position_at(row, t)
        gap, _, _, _ = part_at(x, y, z, column, part_row, from_slot, to_slot, f, header, quantum)
        gap -= radius
        if gap <= TOUCH_M:
            return t
        if t == tb:
            break
        t = min(tb, t + max(gap / fast if fast > 0.0 else INF, _SHORTEST_S))
    return INF


@njit(cache=True, error_model="numpy", fastmath={"contract"})  # there is slack for rounding
def _spheres_on_the_way(px, py, pz, ux, uy, uz, fa, fb, room, ea, eb, xa, ya, za, ra, xb, yb, zb, rb, close):
    """Which bodies' bounding spheres a way from p along u comes near, while they move from share fa to fb."""
    x0, y0, z0 = np.float32(px), np.float32(py), np.float32(pz)
    dx, dy, dz = np.float32(ux), np.float32(uy), np.float32(uz)
    f0, f1, wide = np.float32(fa), np.float32(fb - fa), np.float32(room)
    zero, one, least = np.float32(0.0), np.float32(1.0), np.float32(1e-30)
    for column in range(close.shape[0]):
        whole = np.float32(ea[column] == eb[column])
        mx, my, mz = (
            whole * (xb[column] - xa[column]),
            whole * (yb[column] - ya[column]),
            whole * (zb[column] - za[column]),
        )
        sx, sy, sz = xa[column] - x0 + f0 * mx, ya[column] - y0 + f0 * my, za[column] - z0 + f0 * mz
        wx, wy, wz = dx - f1 * mx, dy - f1 * my, dz - f1 * mz
        share = (sx * wx + sy * wy + sz * wz) / max(wx * wx + wy * wy + wz * wz, least)
        share = min(one, max(zero, share))
        sx, sy, sz = sx - share * wx, sy - share * wy, sz - share * wz
        reach = max(ra[column], rb[column]) + wide
        close[column] = (ea[column] > 0) & (sx * sx + sy * sy + sz * sz <= reach * reach)


@njit(cache=True, error_model="numpy")
def _meet_bodies(row, ta, tb, before, times, slots, owner, ignored, header, quantum, close):
    """The first body that is met in [ta, tb]: (time, column, part row), inf for none. Both ticks enclose the span."""
    last = times.shape[0] - 1
    i, j = before, min(before + 1, last)
    from_slot, to_slot, before = slots[i], slots[j], times[i]
    span = times[j] - before if j > i else 1.0
    fa, fb = 0.0, 0.0
    if j > i:
        fa = min(1.0, max(0.0, (met_at(row, ta) - before) / span))
        fb = min(1.0, max(0.0, (met_at(row, tb) - before) / span))
    px, py, pz = position_at(row, ta)
    ux, uy, uz = position_at(row, tb)
    ux, uy, uz = ux - px, uy - py, uz - pz
    room = row[NEAR] + 0.125 * bend(row, ta, tb) * (tb - ta) * (tb - ta) + _ABSOLUTE_M
    room += _RELATIVE * (abs(px) + abs(py) + abs(pz) + abs(ux) + abs(uy) + abs(uz))
    ea, eb = epochs_at(header, from_slot), epochs_at(header, to_slot)
    xa, ya, za, ra = (bounds_at(header, from_slot, 0), bounds_at(header, from_slot, 1),
                      bounds_at(header, from_slot, 2), bounds_at(header, from_slot, 3))  # fmt: skip
    xb, yb, zb, rb = (bounds_at(header, to_slot, 0), bounds_at(header, to_slot, 1),
                      bounds_at(header, to_slot, 2), bounds_at(header, to_slot, 3))  # fmt: skip
    best, best_column, best_row = INF, -1, -1
    _spheres_on_the_way(px, py, pz, ux, uy, uz, fa, fb, room, ea, eb, xa, ya, za, ra, xb, yb, zb, rb, close)
    for column in range(header[7]):
        if close[column] == 0:
            continue
        cut = ea[column] != eb[column]
        skip = column == owner and tb <= row[OWNER_FROM]
        for k in range(IGNORED):
            skip |= ignored[k] == column
        if skip:
            continue
        begin = max(ta, row[OWNER_FROM]) if column == owner else ta
        _, _, first_part, parts, _ = body_of(header, column)
        for part_row in range(first_part, first_part + parts):
            at = _meet_part(
                row, begin, tb, row[NEAR], column, part_row, from_slot, to_slot, before, span, cut or j == i,
                best, header, quantum,
            )  # fmt: skip
            tie = at == best and best_column >= 0 and column != best_column
            if at < best or (tie and body_of(header, column)[0] < body_of(header, best_column)[0]):
                best, best_column, best_row = at, column, part_row
    return best, best_column, best_row


@njit(cache=True, error_model="numpy")
def _meet_level(row, ta, tb, tree, cx, cy, cz, nodes, nears, enter, met):
    """The first time in [ta, tb] at which the ball touches the level, and the triangle's row; inf for never."""
    t, step = ta, tb - ta
    while t < tb:
        e = min(tb, t + step)
        off = 0.125 * bend(row, t, e) * (e - t) * (e - t)
        px, py, pz = position_at(row, t)
        qx, qy, qz = position_at(row, e)
        dx, dy, dz = qx - px, qy - py, qz - pz
        length = math.sqrt(dx * dx + dy * dy + dz * dz)
        if length <= 0.0:
            dx, dy, dz = 0.0, 0.0, -1.0
        else:
            dx, dy, dz = dx / length, dy / length, dz / length
        triangle, distance, _ = first_triangle(
            px - cx, py - cy, pz - cz, dx, dy, dz, row[RADIUS] + off, length + TOUCH_M, tree, nodes, nears, enter, met
        )
        if triangle < 0:
            t, step = e, 2.0 * step
        elif off <= TOUCH_M or e - t <= _SHORTEST_S:
            at = t + min(1.0, distance / length if length > 0.0 else 0.0) * (e - t)
            return _polished(row, at, ta, tb, triangle, tree, cx, cy, cz), triangle
        else:
            if distance > 0.0 and length > 0.0:  # nothing is met before
                t = t + min(1.0, distance / length) * (e - t) * (1.0 - 1e-9)
            step = 0.25 * (e - t) if e - t > _SHORTEST_S else 0.5 * step
    return INF, -1


@njit(cache=True, error_model="numpy")
def off_the_level(px, py, pz, vx, vy, vz, triangle, tree, cx, cy, cz):
    """The unit direction from a triangle to a ball's middle that touches it; for a point, its face against the way."""
    t = float64_at(tree[2] + 72 * triangle)
    x, y, z = px - cx - t[0], py - cy - t[1], pz - cz - t[2]
    ex, ey, ez, fx, fy, fz = edges_of(t)
    qx, qy, qz = nearest_on_corner(x, y, z, ex, ey, ez, fx, fy, fz)
    nx, ny, nz = x - qx, y - qy, z - qz
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length <= 2.0 * TOUCH_M:
        nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        length = math.sqrt(nx * nx + ny * ny + nz * nz)
        if length == 0.0:
            return 0.0, 0.0, 1.0
        if nx * vx + ny * vy + nz * vz > 0.0:
            length = -length
    return nx / length, ny / length, nz / length


@njit(cache=True, error_model="numpy")
def _bounce(row, at, triangle, tree, cx, cy, cz):
    """Come off the level, or stay there, and go on."""
    px, py, pz = position_at(row, at)
    vx, vy, vz = velocity_at(row, at)
    nx, ny, nz = off_the_level(px, py, pz, vx, vy, vz, triangle, tree, cx, cy, cz)
    row[BOUNCES_LEFT] -= 1.0
    row[BOUNCED] += 1.0
    if row[OWNER_AFTER_BOUNCE] == 1.0:
        row[OWNER_FROM] = min(row[OWNER_FROM], at)
    slow = INF if row[ON_LEVEL] == 2.0 else row[SLOW]
    bounce_leg(row, at, px + SKIN_M * nx, py + SKIN_M * ny, pz + SKIN_M * nz, nx, ny, nz, row[KEEPS], row[LOSES], slow)


@njit(cache=True, error_model="numpy")
def _polished(row, at, ta, tb, triangle, tree, cx, cy, cz):
    """The instant of a contact to the last digits, by Newton's method, so that it doesn't show where the chords lay."""
    t = float64_at(tree[2] + 72 * triangle)
    ex, ey, ez, fx, fy, fz = edges_of(t)
    best = at
    for _ in range(6):
        x, y, z = position_at(row, best)
        vx, vy, vz = velocity_at(row, best)
        px, py, pz = x - cx - t[0], y - cy - t[1], z - cz - t[2]
        if row[RADIUS] > 0.0:
            qx, qy, qz = nearest_on_corner(px, py, pz, ex, ey, ez, fx, fy, fz)
            nx, ny, nz = px - qx, py - qy, pz - qz
        else:
            nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        length = math.sqrt(nx * nx + ny * ny + nz * nz)
        if length == 0.0:
            break
        nx, ny, nz = nx / length, ny / length, nz / length
        gap = length - row[RADIUS] if row[RADIUS] > 0.0 else px * nx + py * ny + pz * nz
        slope = vx * nx + vy * ny + vz * nz
        if abs(slope) < _CLOSING:
            break
        best -= gap / slope
    return best if ta <= best <= tb and abs(best - at) * 1e3 < 1.0 else at


@njit(cache=True, error_model="numpy")
def _beyond(row, ta, tb):
    """The first time in [ta, tb] at which it is out of its range; inf for never."""
    x, y, z = position_at(row, tb)
    limit = row[RANGE] * row[RANGE]
    if (x - row[30]) ** 2 + (y - row[31]) ** 2 + (z - row[32]) ** 2 <= limit:
        return INF
    low, high = ta, tb
    for _ in range(50):
        t = 0.5 * (low + high)
        x, y, z = position_at(row, t)
        if (x - row[30]) ** 2 + (y - row[31]) ** 2 + (z - row[32]) ** 2 <= limit:
            low = t
        else:
            high = t
    return high


@njit(cache=True, nogil=True, error_model="numpy")
def fly(
    rows, owners, targets, ignored, which, until, times, slots, header, quantum, tree, cx, cy, cz, has_level, kinds, at,
    columns, parts,
):  # fmt: skip
    """Fly some projectiles up to a server time, each as far as the first thing that it meets.

    rows : (n, 48) float64, see `legs`; owners, targets : (n,) int32, columns, -1 for none
    ignored : (n, 8) int32, columns of bodies that it has hit; which : (m,) int64, rows to fly
    times, slots : of the recorded ticks, times rising
    kinds, at, columns, parts : (m,) what was met, when, which column (or row of the level), which part
    """
    nodes, nears, enter, met = (np.empty(STACK, np.int32), np.empty(STACK, np.float32), np.empty(WIDTH, np.float32),
                                np.empty(WIDTH + 1, np.int32))  # fmt: skip
    close = np.empty(header[7], np.uint8)
    for m in range(which.shape[0]):
        n = which[m]
        row = rows[n]
        kinds[m], at[m], columns[m], parts[m] = NOTHING, INF, -1, -1
        t = row[DONE]
        while t < until and kinds[m] == NOTHING:
            if t >= row[LAST]:
                kinds[m], at[m] = OVER, row[LAST]
                break
            if t >= row[END]:
                tx, ty, tz = _target_position(targets[n], row[END], times, slots, header)
                next_leg(row, tx, ty, tz)
            tb = min(min(until, row[END]), row[LAST])
            pair = _pair_at(times, met_at(row, t)) if times.shape[0] > 0 else 0
            if pair + 1 < times.shape[0]:
                tb = min(tb, max(_time_met_at(row, times[pair + 1]), t + _MOMENT_S + _TINY * abs(t)))
            if row[FADE] > 0.0 and t < row[ORIGIN_TIME] + row[FADE]:
                tb = min(tb, row[ORIGIN_TIME] + row[FADE])
            wall, triangle = INF, -1
            if has_level and row[AT_REST] == 0.0:
                wall, triangle = _meet_level(row, t, tb, tree, cx, cy, cz, nodes, nears, enter, met)
            stop = min(tb, wall)
            body, column, part = INF, -1, -1
            lies = row[AT_REST] == 1.0 and row[NEAR] == row[RADIUS]  # it hurts nobody who walks into it
            if times.shape[0] > 0 and not lies:
                body, column, part = _meet_bodies(
                    row, t, stop, pair, times, slots, owners[n], ignored[n], header, quantum, close
                )
            far = _beyond(row, t, stop)
            if body <= stop and body <= far:
                kinds[m], at[m], columns[m], parts[m] = BODY, body, column, part
            elif far <= stop:
                kinds[m], at[m] = TOO_FAR, far
            elif wall <= tb:
                if row[ON_LEVEL] > 0.0 and (row[ON_LEVEL] == 2.0 or row[BOUNCES_LEFT] > 0.0):
                    _bounce(row, wall, triangle, tree, cx, cy, cz)
                    t = wall
                    continue
                kinds[m], at[m], columns[m] = LEVEL, wall, triangle
            t = min(tb, at[m])
        row[DONE] = t
        if kinds[m] == NOTHING and t >= row[LAST]:
            kinds[m], at[m] = OVER, row[LAST]
    return 0


@njit(cache=True, error_model="numpy")
def _target_position(column, t, times, slots, header):
    """The middle of a body at a time, where the newest tick before it has it."""
    if column < 0 or times.shape[0] == 0:
        return math.nan, math.nan, math.nan
    i = _pair_at(times, t)
    j = min(i + 1, times.shape[0] - 1)
    there, f = blend_of(
        epochs_at(header, slots[i])[column], epochs_at(header, slots[j])[column],
        min(1.0, max(0.0, (t - times[i]) / (times[j] - times[i]))) if j > i else 0.0,
    )  # fmt: skip
    if not there:
        return math.nan, math.nan, math.nan
    ax, ay, az, _ = _sphere(header, slots[i], column)
    bx, by, bz, _ = _sphere(header, slots[j], column)
    return ax + f * (bx - ax), ay + f * (by - ay), az + f * (bz - az)
