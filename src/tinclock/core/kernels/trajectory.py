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

from tinclock.core.kernels.compiling import njit
from tinclock.core.tolerances import TOLERANCES

LEG_FIELDS = 48
"""Of a projectile's row: float64, see `Field`."""
START, END = 0, 1  # server times of the leg
C0, C1, C2, C3 = 2, 5, 8, 11  # coefficients, three each
ORIGIN_TIME = 14  # server time of the launch
LAST = 15  # server time after which nothing of it is left: lifetime or fuse, whichever comes first
DONE = 16  # server time up to which it was swept
RADIUS, NEAR = 17, 18  # of the ball, for the level and for bodies (with a proximity fuse)
GRAVITY, DRAG, WIND, THRUST, THRUST_END = 19, 20, 21, 24, 27
TURN = 28  # radians per second; 0: not homing
RANGE, FROM = 29, 30  # metres, position of the launch (three)
AGE, FADE = 33, 34  # compensation: how old the shooter's view was, and over how long that fades; 0, 0: none
OWNER_FROM = 35  # server time from which the owner may be hit; inf: never
AT_REST = 36  # 1: it lies where it is
ON_LEVEL = 37  # what it does at the level by itself: 0 ends there, 1 bounces, 2 stays
KEEPS, LOSES, SLOW = 38, 39, 40  # restitution, friction, the speed off a surface below which it rests
BOUNCES_LEFT, BOUNCED = 41, 42
OWNER_AFTER_BOUNCE = 43  # 1: from its first bounce on it may hit its owner
LONGEST_STEP_S, HOMING_STEP_S = 1.0 / 16.0, 1.0 / 256.0
FINEST = 0.05
_TINY = TOLERANCES.time_relative


@njit(cache=True, inline="always", error_model="numpy")
def position_at(row, t):
    """Where it is at a server time of its leg."""
    s = t - row[START]
    return (
        row[2] + s * (row[5] + s * (row[8] + s * row[11])),
        row[3] + s * (row[6] + s * (row[9] + s * row[12])),
        row[4] + s * (row[7] + s * (row[10] + s * row[13])),
    )


@njit(cache=True, inline="always", error_model="numpy")
def velocity_at(row, t):
    """How fast it goes at a server time of its leg."""
    s = t - row[START]
    return (
        row[5] + s * (2.0 * row[8] + 3.0 * s * row[11]),
        row[6] + s * (2.0 * row[9] + 3.0 * s * row[12]),
        row[7] + s * (2.0 * row[10] + 3.0 * s * row[13]),
    )


@njit(cache=True, inline="always", error_model="numpy")
def bend(row, a, b):
    """The largest acceleration between two times of the leg, in m/s2: it is linear in time, so largest at an end."""
    s, e = a - row[START], b - row[START]
    x, y, z = 2.0 * row[8] + 6.0 * s * row[11], 2.0 * row[9] + 6.0 * s * row[12], 2.0 * row[10] + 6.0 * s * row[13]
    u, v, w = 2.0 * row[8] + 6.0 * e * row[11], 2.0 * row[9] + 6.0 * e * row[12], 2.0 * row[10] + 6.0 * e * row[13]
    return math.sqrt(max(x * x + y * y + z * z, u * u + v * v + w * w))


@njit(cache=True, error_model="numpy")
def _pull(row, vx, vy, vz, thrusting):
    """The acceleration at a velocity."""
    ax, ay, az = 0.0, 0.0, -row[GRAVITY]
    if thrusting:
        ax, ay, az = ax + row[24], ay + row[25], az + row[26]
    if row[DRAG] > 0.0:
        ux, uy, uz = vx - row[21], vy - row[22], vz - row[23]
        k = row[DRAG] * math.sqrt(ux * ux + uy * uy + uz * uz)
        ax, ay, az = ax - k * ux, ay - k * uy, az - k * uz
    return ax, ay, az


@njit(cache=True, error_model="numpy")
def start_leg(row, t, px, py, pz, vx, vy, vz, tx, ty, tz):
    """Begin a leg at a time, position and velocity. (tx, ty, tz) : the target's position, for what homes."""
    row[START] = t
    row[2], row[3], row[4], row[5], row[6], row[7] = px, py, pz, vx, vy, vz
    for k in range(8, 14):
        row[k] = 0.0
    row[END] = row[LAST]
    if row[AT_REST] == 1.0:
        row[5], row[6], row[7] = 0.0, 0.0, 0.0
        return
    if row[TURN] > 0.0:
        _turn_leg(row, t, px, py, pz, vx, vy, vz, tx, ty, tz)
        return
    thrusting = t < row[THRUST_END]
    if thrusting:
        row[END] = min(row[END], row[THRUST_END])
    ax, ay, az = _pull(row, vx, vy, vz, thrusting)
    if row[DRAG] == 0.0:
        row[8], row[9], row[10] = 0.5 * ax, 0.5 * ay, 0.5 * az
        return
    ux, uy, uz = vx - row[21], vy - row[22], vz - row[23]
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
    _hermite(row, h, px, py, pz, vx, vy, vz, qx, qy, qz, wx, wy, wz)


@njit(cache=True, inline="always", error_model="numpy")
def _hermite(row, h, px, py, pz, vx, vy, vz, qx, qy, qz, wx, wy, wz):
    """The cubic through two places with two velocities, h apart."""
    if h <= 0.0:
        return
    i = 1.0 / h
    dx, dy, dz = (qx - px) * i, (qy - py) * i, (qz - pz) * i
    row[8], row[9], row[10] = (
        (3.0 * dx - 2.0 * vx - wx) * i, (3.0 * dy - 2.0 * vy - wy) * i, (3.0 * dz - 2.0 * vz - wz) * i,
    )  # fmt: skip
    row[11], row[12], row[13] = (
        (vx + wx - 2.0 * dx) * i * i, (vy + wy - 2.0 * dy) * i * i, (vz + wz - 2.0 * dz) * i * i,
    )  # fmt: skip


@njit(cache=True, error_model="numpy")
def _turn_leg(row, t, px, py, pz, vx, vy, vz, tx, ty, tz):
    """An arc towards the target: the direction turns by as much as it may, or until it points there."""
    speed = math.sqrt(vx * vx + vy * vy + vz * vz)
    h = min(max(HOMING_STEP_S, _TINY * abs(t)), row[END] - t)
    row[END] = t + h
    lx, ly, lz = tx - px, ty - py, tz - pz
    apart = math.sqrt(lx * lx + ly * ly + lz * lz)
    if not (apart > 0.0 and speed > 0.0):
        return
    dx, dy, dz = vx / speed, vy / speed, vz / speed
    cosine = min(1.0, max(-1.0, (dx * lx + dy * ly + dz * lz) / apart))
    nx, ny, nz = lx / apart - cosine * dx, ly / apart - cosine * dy, lz / apart - cosine * dz
    across = math.sqrt(nx * nx + ny * ny + nz * nz)
    if across < 1e-12:
        return
    angle = min(row[TURN] * h, math.acos(cosine))
    nx, ny, nz = nx / across, ny / across, nz / across
    c, s = math.cos(angle), math.sin(angle)
    wx, wy, wz = speed * (c * dx + s * nx), speed * (c * dy + s * ny), speed * (c * dz + s * nz)
    along, aside = (s / angle, (1.0 - c) / angle) if angle > 1e-9 else (1.0, 0.0)
    way = speed * h
    qx, qy, qz = px + way * (along * dx + aside * nx), py + way * (along * dy + aside * ny), 0.0
    qz = pz + way * (along * dz + aside * nz)
    _hermite(row, h, px, py, pz, vx, vy, vz, qx, qy, qz, wx, wy, wz)


@njit(cache=True, error_model="numpy")
def next_leg(row, tx, ty, tz):
    """The leg after the one that ended."""
    t = row[END]
    px, py, pz = position_at(row, t)
    vx, vy, vz = velocity_at(row, t)
    start_leg(row, t, px, py, pz, vx, vy, vz, tx, ty, tz)


@njit(cache=True, error_model="numpy")
def bounce_leg(row, t, px, py, pz, nx, ny, nz, restitution, friction, until):
    """Come off a surface with normal n at a time and position. Returns whether it comes to rest."""
    vx, vy, vz = velocity_at(row, t)
    off = vx * nx + vy * ny + vz * nz
    sx, sy, sz = vx - off * nx, vy - off * ny, vz - off * nz
    keep, back = 1.0 - friction, -restitution * off
    if back < until:
        row[AT_REST] = 1.0
    start_leg(row, t, px, py, pz, keep * sx + back * nx, keep * sy + back * ny, keep * sz + back * nz, px, py, pz)
    return row[AT_REST] == 1.0
