"""Kernels: what a projectile meets between two server times, bodies and level, both motions as they are.

`stored` and `view` are explained in `poses`. `row` is a flight's, (48,) float64, see `layout`; `level` is (header, cx,
cy, cz), of the level and its middle, metres; `clock` is (times, slots), (t,) float64 seconds, rising, and (t,) int64,
of the recorded ticks. Times are server times, seconds; lengths are metres.

Bodies are met between the two recorded ticks around the instant at which the projectile meets them (see
`trajectory`), moving as they are interpolated. First spheres, moving in straight lines, with room for the bend of the
path; then each part by conservative advancement (Mirtich, Impulse-based dynamic simulation, 1996, section 2.3): the
gap between ball and part, divided by the greatest speed at which it can close, is a time in which nothing is met. It
stops at a gap of `Tolerances.touch_m`. So nothing is passed through, whatever the speed, and no tick matters.

The level is met by the ball swept along chords, grown by as much as the path can lie off them, which are halved until
that is below `Tolerances.touch_m`.
"""

from __future__ import annotations

import math

import numpy as np

from tinclock.core.kernels.cast import vehicle_of
from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    AGE,
    AT_REST,
    BOUNCED,
    BOUNCES_LEFT,
    COLUMN_COUNT,
    DONE,
    END,
    ENTITY,
    FADE,
    FIRST_BONE,
    FROM,
    KEEPS,
    LAST,
    LOSES,
    NEAR,
    ON_LEVEL,
    ORIGIN_TIME,
    OWNER_AFTER_BOUNCE,
    OWNER_FROM,
    PART_BONE,
    PART_BYTES,
    PART_REACH,
    PARTS_AT,
    RADIUS,
    RADIUS_ROW,
    RANGE,
    SLOW,
    TRIANGLE_BYTES,
    TRIANGLES_AT,
    X,
    Y,
    Z,
)
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.nearest import nearest_on_corner
from tinclock.core.kernels.poses import blended, body_of, bone_between, bounds_at, epochs_at, sphere_of, turn_between
from tinclock.core.kernels.reach import nearest_on_part
from tinclock.core.kernels.trajectory import bend, bounce_leg, next_leg, position_at, velocity_at
from tinclock.core.kernels.triangles import edges_of, first_triangle, scratch_for_tree
from tinclock.core.tolerances import TOLERANCES

INF = math.inf
TOUCH_M, SKIN_M, _SHORTEST_S = TOLERANCES.touch_m, TOLERANCES.skin_m, TOLERANCES.step_s
NOTHING, LEVEL, BODY, OVER, TOO_FAR = 0, 1, 2, 3, 4
_RELATIVE, _ABSOLUTE_M = TOLERANCES.bound_relative, TOLERANCES.bound_m
_MIN_SQUARE, _SHORT_OF = np.float32(TOLERANCES.min_square), 1.0 - TOLERANCES.short_of
_CLOSING, _MOMENT_S, _TINY = TOLERANCES.closing_m_s, TOLERANCES.time_s, TOLERANCES.time_relative
IGNORED = 8
_NOT_FAR_S = 1e-3
"""Newton's method that went further left the contact for another one."""


@njit(cache=True, error_model="numpy")
def met_at(row, t):
    """The server time at which it meets bodies when its own time is t, both seconds. row : (48,) float64"""
    if row[FADE] <= 0.0:
        return t
    left = 1.0 - (t - row[ORIGIN_TIME]) / row[FADE]
    return t - row[AGE] * left if left > 0.0 else t


@inner
def _time_met_at(row, tau):
    """The inverse of `met_at`, seconds. row : (48,) float64"""
    if row[FADE] <= 0.0 or tau >= row[ORIGIN_TIME] + row[FADE]:
        return tau
    slope = 1.0 + row[AGE] / row[FADE]
    return row[ORIGIN_TIME] + (tau - row[ORIGIN_TIME] + row[AGE]) / slope


@inner
def _pair_at(times, tau):
    """Return the recorded tick at or before a time, so that it and the next one enclose it; 0 before the first.

    times : (t,) float64, seconds
    """
    low, high = 0, times.shape[0] - 1
    while low < high:
        middle = (low + high + 1) // 2
        if times[middle] <= tau:
            low = middle
        else:
            high = middle - 1
    return low


@njit(cache=True, error_model="numpy")
def part_at(x, y, z, column, part_row, view, stored):
    """Distance from a point to a part at a view, and the way to its nearest point: (gap, x, y, z), metres."""
    header = stored[0]
    _, f, ka, kb, mx, my, mz = blended(stored, view, column)
    part = float64_at(header[PARTS_AT] + PART_BYTES * part_row)
    number = int(part[PART_BONE])
    body = body_of(header, column)
    px, py, pz = bone_between(stored, view, body, number, ka, kb, (mx - x, my - y, mz - z))
    qx, qy, qz, qw = turn_between(stored, view, body[FIRST_BONE] + number, f)
    return nearest_on_part(0.0, 0.0, 0.0, (px, py, pz, qx, qy, qz, qw), part)


@inner
def _part_speed(column, part_row, view, span, stored):
    """The greatest speed of any point of a part between the two ticks of a view, `span` seconds apart, in m/s."""
    header, quantum = stored
    ax, ay, az, ar = sphere_of(header, view[0], column)
    bx, by, bz, br = sphere_of(header, view[1], column)
    part = float64_at(header[PARTS_AT] + PART_BYTES * part_row)
    number, reach = int(part[PART_BONE]), part[PART_REACH]
    body = body_of(header, column)
    ka, kb = (quantum * ar, quantum * br) if quantum > 0.0 else (1.0, 1.0)
    back = (view[1], view[0], 0.0)
    dx, dy, dz = bone_between(stored, back, body, number, kb, -ka, (bx - ax, by - ay, bz - az))
    px, py, pz, pw = turn_between(stored, view, body[FIRST_BONE] + number, 0.0)
    qx, qy, qz, qw = turn_between(stored, view, body[FIRST_BONE] + number, 1.0)
    angle = 2.0 * math.acos(min(1.0, abs(px * qx + py * qy + pz * qz + pw * qw)))
    return (math.sqrt(dx * dx + dy * dy + dz * dz) + angle * reach) / span


@inner
def _meet_part(row, ta, tb, column, part_row, pair, still, limit, stored):
    """First time in [ta, tb], and up to `limit`, at which the ball touches a part; inf for never.

    pair : (from_slot, to_slot, before, span), two ticks, the time of the first and the seconds between them
    still : whether the body stays where the first has it
    """
    from_slot, to_slot, before, span = pair
    ax, ay, az = velocity_at(row, ta)
    bx, by, bz = velocity_at(row, tb)
    fast = math.sqrt(max(ax * ax + ay * ay + az * az, bx * bx + by * by + bz * bz)) + bend(row, ta, tb) * (tb - ta)
    slide = 1.0
    if row[FADE] > 0.0:
        slide += row[AGE] / row[FADE]
    if not still:
        fast += slide * _part_speed(column, part_row, (from_slot, to_slot, 0.0), span, stored)
    t = ta
    while t <= tb and t <= limit:
        f = 0.0 if still else min(1.0, max(0.0, (met_at(row, t) - before) / span))
        x, y, z = position_at(row, t)
        gap, _, _, _ = part_at(x, y, z, column, part_row, (from_slot, to_slot, f), stored)
        gap -= row[NEAR]
        if gap <= TOUCH_M:
            return t
        if t == tb:
            break
        t = min(tb, t + max(gap / fast if fast > 0.0 else INF, _SHORTEST_S))
    return INF


@njit(cache=True, error_model="numpy", fastmath={"contract"})  # there is slack for rounding
def _spheres_on_the_way(path, fa, fb, room, slots, header, close):
    """Find bodies whose bounding spheres a way comes near, while they move from fraction fa to fb of two slots.

    path : (px, py, pz, ux, uy, uz), its start and from there to its end, metres; room : metres
    close : (columns,) uint8
    """
    px, py, pz, ux, uy, uz = path
    ea, eb = epochs_at(header, slots[0]), epochs_at(header, slots[1])
    xa, ya, za = bounds_at(header, slots[0], X), bounds_at(header, slots[0], Y), bounds_at(header, slots[0], Z)
    xb, yb, zb = bounds_at(header, slots[1], X), bounds_at(header, slots[1], Y), bounds_at(header, slots[1], Z)
    ra, rb = bounds_at(header, slots[0], RADIUS_ROW), bounds_at(header, slots[1], RADIUS_ROW)
    x0, y0, z0 = np.float32(px), np.float32(py), np.float32(pz)
    dx, dy, dz = np.float32(ux), np.float32(uy), np.float32(uz)
    f0, f1, wide = np.float32(fa), np.float32(fb - fa), np.float32(room)
    zero, one, least = np.float32(0.0), np.float32(1.0), _MIN_SQUARE
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


@inner
def _meet_bodies(row, ta, tb, first_tick, clock, owner, ignored, stored, close):
    """The first body that is met in [ta, tb]: (time, column, part row), inf for none.

    first_tick : which tick of the clock begins the span; owner : a column with its vehicle, -1 for none
    ignored : (8,) int32, columns
    close : (columns,) uint8, scratch
    """
    header, vehicle = stored[0], vehicle_of(stored[0], owner)
    times, slots = clock
    last = times.shape[0] - 1
    i, j = first_tick, min(first_tick + 1, last)
    before = times[i]
    span = times[j] - before if j > i else 1.0
    pair = (slots[i], slots[j], before, span)
    fa, fb = 0.0, 0.0
    if j > i:
        fa = min(1.0, max(0.0, (met_at(row, ta) - before) / span))
        fb = min(1.0, max(0.0, (met_at(row, tb) - before) / span))
    px, py, pz = position_at(row, ta)
    ux, uy, uz = position_at(row, tb)
    ux, uy, uz = ux - px, uy - py, uz - pz
    room = row[NEAR] + 0.125 * bend(row, ta, tb) * (tb - ta) * (tb - ta) + _ABSOLUTE_M
    room += _RELATIVE * (abs(px) + abs(py) + abs(pz) + abs(ux) + abs(uy) + abs(uz))
    ea, eb = epochs_at(header, slots[i]), epochs_at(header, slots[j])
    best, best_column, best_row = INF, -1, -1
    _spheres_on_the_way((px, py, pz, ux, uy, uz), fa, fb, room, (slots[i], slots[j]), header, close)
    for column in range(header[COLUMN_COUNT]):
        if close[column] == 0:
            continue
        cut = ea[column] != eb[column]
        own = (column == owner) | (column == vehicle)
        skip = own and tb <= row[OWNER_FROM]
        for k in range(IGNORED):
            skip |= ignored[k] == column
        if skip:
            continue
        begin = max(ta, row[OWNER_FROM]) if own else ta
        _, _, first_part, parts, _ = body_of(header, column)
        for part_row in range(first_part, first_part + parts):
            at = _meet_part(row, begin, tb, column, part_row, pair, cut or j == i, best, stored)
            tie = at == best and best_column >= 0 and column != best_column
            if at < best or (tie and body_of(header, column)[ENTITY] < body_of(header, best_column)[ENTITY]):
                best, best_column, best_row = at, column, part_row
    return best, best_column, best_row


@njit(cache=True, error_model="numpy")
def _meet_level(row, ta, tb, level, scratch):
    """The first time in [ta, tb] at which the ball touches the level, and the triangle's row; inf for never.

    scratch : see `first_triangle`; times in seconds
    """
    tree, cx, cy, cz = level
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
        ray = (px - cx, py - cy, pz - cz, dx, dy, dz)
        triangle, distance, _ = first_triangle(ray, row[RADIUS] + off, length + TOUCH_M, tree, scratch)
        if triangle < 0:
            t, step = e, 2.0 * step
        elif off <= TOUCH_M or e - t <= _SHORTEST_S:
            at = t + min(1.0, distance / length if length > 0.0 else 0.0) * (e - t)
            return _polished(row, at, ta, tb, triangle, level), triangle
        else:
            if distance > 0.0 and length > 0.0:  # nothing is met before
                t = t + min(1.0, distance / length) * (e - t) * _SHORT_OF
            step = 0.25 * (e - t) if e - t > _SHORTEST_S else 0.5 * step
    return INF, -1


@njit(cache=True, error_model="numpy")
def off_the_level(position, velocity, triangle, level):
    """The unit direction from a triangle to a ball's middle that touches it; for a point, its face against the way.

    position : (x, y, z), metres; velocity : (x, y, z), metres a second; triangle : a row of the level
    """
    px, py, pz = position
    vx, vy, vz = velocity
    tree, cx, cy, cz = level
    t = float64_at(tree[TRIANGLES_AT] + TRIANGLE_BYTES * triangle)
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


@inner
def _bounce(row, at, triangle, level):
    """Come off a row of the level at a time, seconds, or stay there, and go on."""
    px, py, pz = position_at(row, at)
    nx, ny, nz = off_the_level((px, py, pz), velocity_at(row, at), triangle, level)
    row[BOUNCES_LEFT] -= 1.0
    row[BOUNCED] += 1.0
    if row[OWNER_AFTER_BOUNCE] == 1.0:
        row[OWNER_FROM] = min(row[OWNER_FROM], at)
    slow = INF if row[ON_LEVEL] == 2.0 else row[SLOW]
    position = (px + SKIN_M * nx, py + SKIN_M * ny, pz + SKIN_M * nz)
    bounce_leg(row, at, position, (nx, ny, nz), row[KEEPS], row[LOSES], slow)


@inner
def _polished(row, at, ta, tb, triangle, level):
    """The instant of a contact, seconds, to the last digits, by Newton's method, so that it doesn't show where the
    chords lay.
    """
    tree, cx, cy, cz = level
    t = float64_at(tree[TRIANGLES_AT] + TRIANGLE_BYTES * triangle)
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
    return best if ta <= best <= tb and abs(best - at) < _NOT_FAR_S else at


@njit(cache=True, error_model="numpy")
def _beyond(row, ta, tb):
    """The first time in [ta, tb], seconds, at which it is out of its range; inf for never."""
    x, y, z = position_at(row, tb)
    limit = row[RANGE] * row[RANGE]
    if (x - row[FROM]) ** 2 + (y - row[FROM + 1]) ** 2 + (z - row[FROM + 2]) ** 2 <= limit:
        return INF
    low, high = ta, tb
    for _ in range(50):
        t = 0.5 * (low + high)
        x, y, z = position_at(row, t)
        if (x - row[FROM]) ** 2 + (y - row[FROM + 1]) ** 2 + (z - row[FROM + 2]) ** 2 <= limit:
            low = t
        else:
            high = t
    return high


@njit(cache=True, error_model="numpy")
def fly(flights, which, until, clock, stored, level, has_level, out):
    """Fly some projectiles up to a server time, each as far as the first thing that it meets.

    flights : (rows, owners, targets, ignored): (n, 48) float64; (n,) int32 twice, columns, -1 for none; (n, 8) int32,
        columns of bodies that it has hit
    which : (m,) int64, rows to fly
    out : (kinds, at, columns, parts), (m,): what was met, when, which column (or row of the level), which part
    """
    rows, owners, targets, ignored = flights
    times = clock[0]
    kinds, at, columns, parts = out
    header = stored[0]
    scratch, close = scratch_for_tree(), np.empty(header[COLUMN_COUNT], np.uint8)
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
                next_leg(row, _target_position(targets[n], row[END], clock, stored))
            tb = min(min(until, row[END]), row[LAST])
            pair = _pair_at(times, met_at(row, t)) if times.shape[0] > 0 else 0
            if pair + 1 < times.shape[0]:
                tb = min(tb, max(_time_met_at(row, times[pair + 1]), t + _MOMENT_S + _TINY * abs(t)))
            if row[FADE] > 0.0 and t < row[ORIGIN_TIME] + row[FADE]:
                tb = min(tb, row[ORIGIN_TIME] + row[FADE])
            wall, triangle = INF, -1
            if has_level and row[AT_REST] == 0.0:
                wall, triangle = _meet_level(row, t, tb, level, scratch)
            stop = min(tb, wall)
            body, column, part = INF, -1, -1
            lies = row[AT_REST] == 1.0 and row[NEAR] == row[RADIUS]  # it hurts nobody who walks into it
            if times.shape[0] > 0 and not lies:
                body, column, part = _meet_bodies(row, t, stop, pair, clock, owners[n], ignored[n], stored, close)
            far = _beyond(row, t, stop)
            if body <= stop and body <= far:
                kinds[m], at[m], columns[m], parts[m] = BODY, body, column, part
            elif far <= stop:
                kinds[m], at[m] = TOO_FAR, far
            elif wall <= tb:
                if row[ON_LEVEL] > 0.0 and (row[ON_LEVEL] == 2.0 or row[BOUNCES_LEFT] > 0.0):
                    _bounce(row, wall, triangle, level)
                    t = wall
                    continue
                kinds[m], at[m], columns[m] = LEVEL, wall, triangle
            t = min(tb, at[m])
        row[DONE] = t
        if kinds[m] == NOTHING and t >= row[LAST]:
            kinds[m], at[m] = OVER, row[LAST]
    return 0


@inner
def _target_position(column, t, clock, stored):
    """The middle of a body at a time, where the newest tick before it has it: (x, y, z), metres."""
    times, slots = clock
    if column < 0 or times.shape[0] == 0:
        return math.nan, math.nan, math.nan
    i = _pair_at(times, t)
    j = min(i + 1, times.shape[0] - 1)
    share = min(1.0, max(0.0, (t - times[i]) / (times[j] - times[i]))) if j > i else 0.0
    there, _, _, _, x, y, z = blended(stored, (slots[i], slots[j], share), column)
    if not there:
        return math.nan, math.nan, math.nan
    return x, y, z
