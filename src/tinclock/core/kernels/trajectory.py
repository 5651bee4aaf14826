"""Kernels: the motion of a projectile, as cubics in time.

A flight is a chain of legs; on each the position is a cubic c0 + c1 s + c2 s^2 + c3 s^3 of the time s since it began.
Without drag a leg is exact and as long as its acceleration stays the same (straight, ballistic, thrust). With drag

    a = g + thrust - k |v - w| (v - w)

is integrated by the classical fourth-order Runge-Kutta method in steps of h, and a leg is one step's cubic Hermite
through both ends (Hairer, Norsett, Wanner, Solving Ordinary Differential Equations I, 1993, II.1 and II.6). The steps
are counted from the launch or the last bounce, never from ticks, so that a position at a time doesn't depend on when
somebody looks. h is at most 1/16 s and at most 1/20 of the time 1 / (k v) in which drag acts; a step's error is then
below (h k v)^5 / 120 of its length, and the cubic's between its ends below (h k v)^3 / 384. Homing turns the direction
along an arc, of 1/256 s each, at constant speed.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.compiling import inner, njit
from tinclock.core.kernels.layout import (
    AT_REST,
    C0,
    C1,
    C2,
    C3,
    DRAG,
    END,
    GRAVITY,
    LAST,
    START,
    THRUST,
    THRUST_END,
    TURN_RATE,
    WIND,
)
from tinclock.core.tolerances import TOLERANCES

LONGEST_STEP_S, HOMING_STEP_S = 1.0 / 16.0, 1.0 / 256.0
FINEST = 0.05
"""Share of the time in which drag acts that a step may take."""
_TINY, _MIN_ACROSS, _MIN_TURN = TOLERANCES.time_relative, TOLERANCES.min_across, TOLERANCES.min_turn


@njit(cache=True, error_model="numpy")
def position_at(row, t):
    """Return its position at a server time of its leg: (x, y, z), metres. row : (48,) float64; t : seconds"""
    s = t - row[START]
    return (
        row[C0] + s * (row[C1] + s * (row[C2] + s * row[C3])),
        row[C0 + 1] + s * (row[C1 + 1] + s * (row[C2 + 1] + s * row[C3 + 1])),
        row[C0 + 2] + s * (row[C1 + 2] + s * (row[C2 + 2] + s * row[C3 + 2])),
    )


@njit(cache=True, error_model="numpy")
def velocity_at(row, t):
    """Return its velocity at a server time of its leg: (x, y, z), m/s. row : (48,) float64; t : seconds"""
    s = t - row[START]
    return (
        row[C1] + s * (2.0 * row[C2] + 3.0 * s * row[C3]),
        row[C1 + 1] + s * (2.0 * row[C2 + 1] + 3.0 * s * row[C3 + 1]),
        row[C1 + 2] + s * (2.0 * row[C2 + 2] + 3.0 * s * row[C3 + 2]),
    )


@inner
def bend(row, a, b):
    """The largest acceleration between two times of the leg, in m/s2: it is linear in time, so largest at an end."""
    s, e = a - row[START], b - row[START]
    x, y, z = 2.0 * row[C2], 2.0 * row[C2 + 1], 2.0 * row[C2 + 2]
    u, v, w = x + 6.0 * e * row[C3], y + 6.0 * e * row[C3 + 1], z + 6.0 * e * row[C3 + 2]
    x, y, z = x + 6.0 * s * row[C3], y + 6.0 * s * row[C3 + 1], z + 6.0 * s * row[C3 + 2]
    return math.sqrt(max(x * x + y * y + z * z, u * u + v * v + w * w))


@inner
def _pull(row, vx, vy, vz, thrusting):
    """The acceleration at a velocity, m/s2; v : metres a second."""
    ax, ay, az = 0.0, 0.0, -row[GRAVITY]
    if thrusting:
        ax, ay, az = ax + row[THRUST], ay + row[THRUST + 1], az + row[THRUST + 2]
    if row[DRAG] > 0.0:
        ux, uy, uz = vx - row[WIND], vy - row[WIND + 1], vz - row[WIND + 2]
        k = row[DRAG] * math.sqrt(ux * ux + uy * uy + uz * uz)
        ax, ay, az = ax - k * ux, ay - k * uy, az - k * uz
    return ax, ay, az


@njit(cache=True, error_model="numpy")
def start_leg(row, t, position, velocity, target):
    """Begin a leg at a time.

    row : (48,) float64; position, target : (x, y, z), metres, the latter for what homes; velocity : metres a second
    """
    px, py, pz = position
    vx, vy, vz = velocity
    row[START] = t
    row[C0], row[C0 + 1], row[C0 + 2], row[C1], row[C1 + 1], row[C1 + 2] = px, py, pz, vx, vy, vz
    for k in range(C2, C3 + 3):
        row[k] = 0.0
    row[END] = row[LAST]
    if row[AT_REST] == 1.0:
        row[C1], row[C1 + 1], row[C1 + 2] = 0.0, 0.0, 0.0
        return
    if row[TURN_RATE] > 0.0:
        _turn_leg(row, t, position, velocity, target)
        return
    thrusting = t < row[THRUST_END]
    if thrusting:
        row[END] = min(row[END], row[THRUST_END])
    ax, ay, az = _pull(row, vx, vy, vz, thrusting)
    if row[DRAG] == 0.0:
        row[C2], row[C2 + 1], row[C2 + 2] = 0.5 * ax, 0.5 * ay, 0.5 * az
        return
    ux, uy, uz = vx - row[WIND], vy - row[WIND + 1], vz - row[WIND + 2]
    fast = row[DRAG] * math.sqrt(ux * ux + uy * uy + uz * uz)
    h = LONGEST_STEP_S if fast * LONGEST_STEP_S <= FINEST else FINEST / fast
    h = min(max(h, _TINY * abs(t)), row[END] - t)
    row[END] = t + h
    bx, by, bz = _pull(row, vx + 0.5 * h * ax, vy + 0.5 * h * ay, vz + 0.5 * h * az, thrusting)
    cx, cy, cz = _pull(row, vx + 0.5 * h * bx, vy + 0.5 * h * by, vz + 0.5 * h * bz, thrusting)
    ex, ey, ez = _pull(row, vx + h * cx, vy + h * cy, vz + h * cz, thrusting)
    sixth = h / 6.0
    qx, qy, qz = px + h * vx, py + h * vy, pz + h * vz
    qx, qy, qz = qx + h * sixth * (ax + bx + cx), qy + h * sixth * (ay + by + cy), qz + h * sixth * (az + bz + cz)
    wx, wy, wz = vx + sixth * (ax + 2 * bx + 2 * cx + ex), vy + sixth * (ay + 2 * by + 2 * cy + ey), 0.0
    wz = vz + sixth * (az + 2 * bz + 2 * cz + ez)
    _hermite(row, h, position, velocity, (qx, qy, qz), (wx, wy, wz))


@inner
def _hermite(row, h, position, velocity, then, velocity_then):
    """The cubic through two positions, metres, with two velocities, metres a second, h seconds apart."""
    if h <= 0.0:
        return
    vx, vy, vz = velocity
    wx, wy, wz = velocity_then
    i = 1.0 / h
    dx, dy, dz = (then[0] - position[0]) * i, (then[1] - position[1]) * i, (then[2] - position[2]) * i
    row[C2] = (3.0 * dx - 2.0 * vx - wx) * i
    row[C2 + 1] = (3.0 * dy - 2.0 * vy - wy) * i
    row[C2 + 2] = (3.0 * dz - 2.0 * vz - wz) * i
    row[C3] = (vx + wx - 2.0 * dx) * i * i
    row[C3 + 1] = (vy + wy - 2.0 * dy) * i * i
    row[C3 + 2] = (vz + wz - 2.0 * dz) * i * i


@inner
def _turn_leg(row, t, position, velocity, target):
    """An arc towards the target: the direction turns by as much as it may, or until it points there. See `start_leg`
    for shapes and units, all (x, y, z), metres and metres a second.
    """
    px, py, pz = position
    vx, vy, vz = velocity
    speed = math.sqrt(vx * vx + vy * vy + vz * vz)
    h = min(max(HOMING_STEP_S, _TINY * abs(t)), row[END] - t)
    row[END] = t + h
    lx, ly, lz = target[0] - px, target[1] - py, target[2] - pz
    apart = math.sqrt(lx * lx + ly * ly + lz * lz)
    if not (apart > 0.0 and speed > 0.0):
        return
    dx, dy, dz = vx / speed, vy / speed, vz / speed
    cosine = min(1.0, max(-1.0, (dx * lx + dy * ly + dz * lz) / apart))
    nx, ny, nz = lx / apart - cosine * dx, ly / apart - cosine * dy, lz / apart - cosine * dz
    across = math.sqrt(nx * nx + ny * ny + nz * nz)
    if across < _MIN_ACROSS:
        return
    angle = min(row[TURN_RATE] * h, math.acos(cosine))
    nx, ny, nz = nx / across, ny / across, nz / across
    c, s = math.cos(angle), math.sin(angle)
    then = (speed * (c * dx + s * nx), speed * (c * dy + s * ny), speed * (c * dz + s * nz))
    along, aside = (s / angle, (1.0 - c) / angle) if angle > _MIN_TURN else (1.0, 0.0)
    way = speed * h
    qx, qy = px + way * (along * dx + aside * nx), py + way * (along * dy + aside * ny)
    qz = pz + way * (along * dz + aside * nz)
    _hermite(row, h, position, velocity, (qx, qy, qz), then)


@njit(cache=True, error_model="numpy")
def next_leg(row, target):
    """The leg after the last one. row : (48,) float64; target : (x, y, z), metres"""
    t = row[END]
    start_leg(row, t, position_at(row, t), velocity_at(row, t), target)


@njit(cache=True, error_model="numpy")
def bounce_leg(row, t, position, normal, restitution, friction, until):
    """Come off a surface at a time. Returns whether it comes to rest.

    position : (x, y, z), metres; normal : (x, y, z), unit; until : metres a second, off the surface
    """
    nx, ny, nz = normal
    vx, vy, vz = velocity_at(row, t)
    off = vx * nx + vy * ny + vz * nz
    sx, sy, sz = vx - off * nx, vy - off * ny, vz - off * nz
    keep, back = 1.0 - friction, -restitution * off
    if back < until:
        row[AT_REST] = 1.0
    velocity = (keep * sx + back * nx, keep * sy + back * ny, keep * sz + back * nz)
    start_leg(row, t, position, velocity, position)
    return row[AT_REST] == 1.0
