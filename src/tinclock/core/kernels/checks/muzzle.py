"""Checks of a shot's start: on the way of the server's own shooter, and where a shot of its eye gets.

What would stop a shot of this weapon stops its muzzle: a wall, a pane, a closed door, as they stand at the view. What
the weapon shoots through it may be held through, and pays for: Python works that out.
"""

from __future__ import annotations

from tinclock.core.kernels.checks.sender import eye_in
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import first_in_the_way
from tinclock.core.kernels.facts import ASK, FINDING, MEASURE, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import TICK_FIELDS, TIME
from tinclock.core.kernels.poses import point_on_bone
from tinclock.core.kernels.registry import check

WAY_TICKS = 6
"""Number of ticks over which the eye's velocity is measured."""


@inner
def view_of(f):
    """The view that a claim is ruled at, as kernels read the history: (slot, slot, fraction); no unit."""
    return int(f.found.from_slot), int(f.found.to_slot), f.found.fraction


@inner
def _off_its_way(f, x, y, z):
    """Return the distance, metres, of a start from the eye's way; the start is given from the eye.

    The server's body is ahead of the client's, or behind it, by at most a tick and the line's jitter.
    """
    last = f.tick_count - 1
    before = max(0, last - WAY_TICKS)
    seconds = f.ticks[TICK_FIELDS * last + TIME] - f.ticks[TICK_FIELDS * before + TIME]
    there, px, py, pz = eye_in(f, before)
    if not there or seconds <= 0.0:
        return length_of(x, y, z)
    vx, vy, vz = f.found.eye_x - px, f.found.eye_y - py, f.found.eye_z - pz
    way = length_of(vx, vy, vz)
    if way == 0.0:
        return length_of(x, y, z)
    explained = seconds / (last - before) + f.rules.jitter_factor * f.line.jitter_s
    most = explained / seconds
    along = min(most, max(-most, (x * vx + y * vy + z * vz) / (way * way)))
    return length_of(x - along * vx, y - along * vy, z - along * vz)


@inner
def _stops(f, ray, length):
    """Return the first obstacle on a line and its distance, metres."""
    return first_in_the_way(ray, 0.0, length, view_of(f), f.column, stored_of(f), level_of(f), f.has_level, f.middle)


@inner
def _eye(f):
    """Return the actor's eye, metres."""
    return f.found.eye_x, f.found.eye_y, f.found.eye_z


@inner
def _blocked(f, stop, at, distance):
    """Find `muzzle_blocked` by an obstacle so far along the way to the muzzle; metres."""
    f.found.blocker, f.found.starts_at_eye = stop, 1.0
    measured(f, MEASURE.muzzle_wall, at, distance)
    return found(f, FINDING.muzzle_blocked, at, distance)


@inner
def _leans_out(f):
    """True if an obstacle stands between a reported body and its eye; shots then begin in the middle. Metres."""
    if not f.is_put or not f.limits.has_movement:
        return False
    out, moved = f.found, f.moved
    mx, my, mz = moved.x, moved.y, moved.z + f.limits.centre_up_m
    x, y, z = out.eye_x - mx, out.eye_y - my, out.eye_z - mz
    length = length_of(x, y, z)
    if length == 0.0:
        return False
    stop, at = _stops(f, (mx, my, mz, x / length, y / length, z / length), length)
    if stop == -1:
        return False
    out.eye_x, out.eye_y, out.eye_z = mx, my, mz
    _blocked(f, stop, at, length)
    return True


@inner
def _look_from_vehicle(f):
    """Put the eye of a rider, metres, where the view shows it: its screen draws it on its vehicle."""
    eye = (f.body.eye_x, f.body.eye_y, f.body.eye_z)
    there, x, y, z = point_on_bone(f.column, int(f.body.eye_bone), eye, view_of(f), stored_of(f))
    if there:
        f.found.eye_x, f.found.eye_y, f.found.eye_z = x, y, z


@check
def check_muzzle(f):
    """Find `muzzle_far` or `muzzle_blocked`; metres."""
    rides = f.claim.on_vehicle != 0.0
    if rides:
        _look_from_vehicle(f)
    elif _leans_out(f):
        return FINDING.muzzle_blocked
    x = f.claim.origin_x - f.found.eye_x
    y = f.claim.origin_y - f.found.eye_y
    z = f.claim.origin_z - f.found.eye_z
    distance, reach = length_of(x, y, z), f.rules.muzzle_reach_m
    off, limit = distance, reach
    if distance <= reach and not f.line.is_servers:
        off = distance if rides else _off_its_way(f, x, y, z)
        limit = min(reach, f.rules.muzzle_steady_m)
    f.found.muzzle_m, f.found.muzzle_limit_m = off, limit
    if 0.0 < distance <= reach:
        ray = (*_eye(f), x / distance, y / distance, z / distance)
        stop, at = _stops(f, ray, distance)
        if stop != -1 and f.weapon.penetration > 0.0:
            return ASK  # Python works out what the way costs
        if stop != -1:
            return _blocked(f, stop, at, distance)
    measured(f, MEASURE.muzzle, off, limit)
    if off > limit:
        f.found.starts_at_eye = 1.0
        return found(f, FINDING.muzzle_far, off, limit)
    return NOTHING
