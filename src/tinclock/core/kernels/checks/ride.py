"""Riders: a body that rides something moves with it, and stays on it. Metres and seconds."""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.move import cut_down, late, rides
from tinclock.core.kernels.checks.walls import instants
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, measured, stored_of
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import TICK_FIELDS, TICK_SLOT, TIME
from tinclock.core.kernels.poses import blended, epochs_at, sphere_of
from tinclock.core.kernels.registry import check

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
        return NOTHING
    back = 1.0 - limit / apart
    cut_down(f, FINDING.off_vehicle, f.found.place_x - x * back, f.found.place_y - y * back, f.found.place_z - z * back)
    return found(f, FINDING.off_vehicle, apart, limit)
