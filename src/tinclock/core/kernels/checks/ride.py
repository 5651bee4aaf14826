"""Riders: a body that rides something moves with it, and stays on it. Metres and seconds."""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.move import cut_down, late, rides
from tinclock.core.kernels.checks.walls import instants
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import first_in_the_way
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import TICK_FIELDS, TICK_SLOT, TIME
from tinclock.core.kernels.poses import blended, epochs_at, sphere_of
from tinclock.core.kernels.registry import check
from tinclock.core.tolerances import TOLERANCES

_BEYOND_M = TOLERANCES.beyond_m
VELOCITY_TICKS = 6
"""Number of ticks over which a vehicle's velocity is measured."""


@inner
def _ahead(f, column, header):
    """Return how far a client's screen may show a vehicle ahead of the server, metres: drivers predict their own."""
    last = f.tick_count - 1
    before = max(0, last - VELOCITY_TICKS)
    seconds = f.ticks[TICK_FIELDS * last + TIME] - f.ticks[TICK_FIELDS * before + TIME]
    now, then = int(f.ticks[TICK_FIELDS * last + TICK_SLOT]), int(f.ticks[TICK_FIELDS * before + TICK_SLOT])
    if seconds <= 0.0 or epochs_at(header, then)[column] != epochs_at(header, now)[column]:
        return 0.0
    ax, ay, az, _ = sphere_of(header, then, column)
    bx, by, bz, _ = sphere_of(header, now, column)
    age = f.now - f.ticks[TICK_FIELDS * last + TIME]
    return length_of(bx - ax, by - ay, bz - az) / seconds * (late(f) + max(0.0, age))


@inner
def _off(f, column, at):
    """Return a body's way from the middle of its vehicle at an instant, and the vehicle's size: (x, y, z, radius)."""
    there, g, _, _, x, y, z = blended(stored_of(f), at, column)
    if not there:
        return math.inf, 0.0, 0.0, 0.0
    header = stored_of(f)[0]
    size = (1.0 - g) * sphere_of(header, at[0], column)[3] + g * sphere_of(header, at[1], column)[3]
    middle = f.found.place_z + f.limits.centre_up_m
    return f.found.place_x - x, f.found.place_y - y, middle - z, size


@inner
def _behind_a_wall(f, x, y):
    """Find `through_wall`: something stands between a rider and the middle of its vehicle, (x, y) metres away.

    The line of sight is level, as high as the rider's middle.
    """
    length = length_of(x, y, 0.0)
    if length <= _BEYOND_M:
        return NOTHING
    out, ax, ay = f.found, x / length, y / length
    start = (out.place_x - x, out.place_y - y, out.place_z + f.limits.centre_up_m, ax, ay, 0.0)
    now, _ = instants(f)
    what, distance = first_in_the_way(
        start, 0.0, length, now, f.column, stored_of(f), level_of(f), f.has_level, f.middle
    )
    if what == -1:
        return NOTHING
    measured(f, MEASURE.wall_on_the_way, distance, length)
    kept = max(0.0, distance - f.limits.radius_m) - length
    cut_down(f, FINDING.through_wall, out.place_x + ax * kept, out.place_y + ay * kept, out.place_z)
    f.found.blocker = what
    return found(f, FINDING.through_wall, length - distance, 0.0)


@check
def check_ride(f):
    """Find `off_vehicle`: a rider whose place, metres, is too far from its vehicle; it is put back on it."""
    if not rides(f):
        return NOTHING
    column = int(f.body.vehicle)
    now, seen = instants(f)
    x, y, z, size = _off(f, column, now)
    sx, sy, sz, seen_size = _off(f, column, seen)
    if length_of(sx, sy, sz) < length_of(x, y, z):
        x, y, z, size = sx, sy, sz, seen_size
    apart = length_of(x, y, z)
    limit = size + f.limits.ride_reach_m + _ahead(f, column, stored_of(f)[0])
    measured(f, MEASURE.distance_from_vehicle, apart, limit)
    if apart <= limit:
        return _behind_a_wall(f, x, y)
    back = 1.0 - limit / apart
    cut_down(f, FINDING.off_vehicle, f.found.place_x - x * back, f.found.place_y - y * back, f.found.place_z - z * back)
    _behind_a_wall(f, x * (1.0 - back), y * (1.0 - back))
    return found(f, FINDING.off_vehicle, apart, limit)
