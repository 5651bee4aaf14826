"""Walls and doors on the way of a move report: the body stops where its ball touches something. Metres and seconds."""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.move import begun_at, cut_down, is_free, way_of
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import nearest_cover
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.moments import SLOT, SNAPSHOT_FIELDS, TICK_FIELDS, TICK_SLOT, TIME, view_around
from tinclock.core.kernels.registry import check
from tinclock.core.kernels.triangles import first_triangle_alone
from tinclock.core.tolerances import TOLERANCES

_BEYOND_M, _TOUCH_M = TOLERANCES.beyond_m, TOLERANCES.touch_m
_MIN_M = _TOUCH_M * _TOUCH_M
HALVINGS = 24
"""Number of bisections that find a body's distance from a surface, to less than a micrometre."""


@inner
def instants(f):
    """The present, and what the client's screen showed when it moved, no further back than a shot is rewound.

    Returns both as kernels read the history: (slot, slot, fraction); no unit.
    """
    slot = int(f.ticks[TICK_FIELDS * (f.tick_count - 1) + TICK_SLOT]) if f.tick_count > 0 else 0
    present, line = (slot, slot, 0.0), f.line
    if line.samples == 0.0 or f.snapshot_count == 0:
        return present, present
    behind = min(line.round_trip_s + line.interpolation_delay_s, f.rules.max_rewind_s)
    at = max(f.now - behind, f.snapshots[TIME])
    before, after, fraction = view_around(f.snapshots, f.snapshot_count, at)
    a, b = int(f.snapshots[SNAPSHOT_FIELDS * before + SLOT]), int(f.snapshots[SNAPSHOT_FIELDS * after + SLOT])
    return present, (a, b, fraction)


@inner
def _stopped(f, ray, radius, length):
    """Return the first obstacle of a ball: (obstacle, distance), metres; as `cover.first_in_the_way` has it.

    A door that moves is drawn late on the client's screen, so it stops a body only where it stands in the way both now
    and as the screen showed it.
    """
    now, seen = instants(f)
    start = (ray[0] - f.middle[0], ray[1] - f.middle[1], ray[2] - f.middle[2], ray[3], ray[4], ray[5])
    wall, limit = -1, length
    if f.has_level:
        row, first, _ = first_triangle_alone(start, radius, length, level_of(f))
        if row >= 0:
            wall, limit = row, first
    door, near = nearest_cover(ray, radius, limit, now, f.column, stored_of(f))
    other, far = nearest_cover(ray, radius, limit, seen, f.column, stored_of(f))
    what, distance = (-2 - door, near) if door >= 0 and (wall < 0 or near < limit) else (wall, limit)
    then, apart = (-2 - other, far) if other >= 0 and (wall < 0 or far < limit) else (wall, limit)
    if what == -1 or then == -1:
        return -1, length
    return (then, apart) if apart > distance else (what, distance)


@inner
def _clearance(f, ray):
    """Return the distance from a body's middle to the surface that it touches, at most its radius; metres."""
    near, far = 0.0, f.limits.radius_m
    for _ in range(HALVINGS):
        middle = 0.5 * (near + far)
        what, _ = _stopped(f, ray, middle, _BEYOND_M)
        if what == -1:
            near = middle
        else:
            far = middle
    return near


@inner
def _first_wall(f, ray, length):
    """Return the body's first obstacle within a length: (obstacle, distance), metres; see `cover.first_in_the_way`.

    A body that touches a surface at its start may slide along it and leave it, but come no closer than the skin. Only
    the server or a door can put a body deeper: then its way must not end closer to the surface than it began. A door
    that closed on a body's middle lets the body out.
    """
    radius = f.limits.radius_m
    for depth in (0.0, f.limits.skin_m):
        what, distance = _stopped(f, ray, max(0.0, radius - depth), length)
        if what == -1 or distance > _BEYOND_M:
            return what, distance
    x, y, z, ax, ay, az = ray
    clear = _clearance(f, ray)
    if clear <= _TOUCH_M and what <= -2:
        return -1, length
    first, distance = _stopped(f, ray, max(0.0, clear - _TOUCH_M), length)
    if first != -1:
        return first, distance
    end = (x + ax * length, y + ay * length, z + az * length, ax, ay, az)
    closer, _ = _stopped(f, end, max(0.0, clear - 2.0 * _TOUCH_M), _MIN_M)
    return (what, 0.0) if closer != -1 else (-1, length)


@inner
def _stop(f):
    """Stop the model at the wall too; metres, seconds."""
    out, seconds = f.found, f.found.seconds
    x, y, _ = begun_at(f)
    out.model_x, out.model_y, out.model_z = (
        out.place_x,
        out.place_y,
        out.place_z,
    )
    if seconds > 0.0:
        vx, vy = (out.place_x - x) / seconds, (out.place_y - y) / seconds
        out.model_vx, out.model_vy = vx, vy


@check
def check_walls(f):
    """Find `through_wall`; the body stops where its ball touches something, metres. It sees what is left of the way."""
    dx, dy, dz = way_of(f)
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    if length <= _BEYOND_M or is_free(f):
        return NOTHING
    x, y, z = f.moved.x, f.moved.y, f.moved.z
    ax, ay, az = dx / length, dy / length, dz / length
    what, distance = _first_wall(f, (x, y, z + f.limits.centre_up_m, ax, ay, az), length)
    if what == -1:
        return NOTHING
    measured(f, MEASURE.wall_on_the_way, distance, length)
    reached = max(0.0, distance - _BEYOND_M)
    cut_down(f, FINDING.through_wall, x + ax * reached, y + ay * reached, z + az * reached)
    _stop(f)
    allowance = f.limits.tolerance_m
    if length - distance <= allowance:
        return NOTHING
    f.found.blocker = what
    return found(f, FINDING.through_wall, length - distance, allowance)
