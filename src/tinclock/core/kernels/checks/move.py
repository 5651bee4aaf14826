"""Move reports: speed, acceleration, walls, leaps, and no more time than there was. What is too much is cut down.

Metres and seconds. `f.moved` points at the row of where the body was accepted to be.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.committing import ACCEPTED, tell_standing
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import nearest_cover
from tinclock.core.kernels.facts import FINDING, MEASURE, NO_NUMBER, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.hearing import hear
from tinclock.core.kernels.least import take_least
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.moments import SLOT, SNAPSHOT_FIELDS, TICK_FIELDS, TICK_SLOT, TIME, view_around
from tinclock.core.kernels.rows import (
    CLAIM,
    FOUND,
    LINE,
    MOST_PLACES,
    MOVED,
    NOTED,
    PLACE_FIELDS,
    PLACES_FROM,
    RULES,
)
from tinclock.core.kernels.triangles import first_triangle_alone
from tinclock.core.tolerances import TOLERANCES

LONGEST_PUSH = 1.0 + TOLERANCES.stick
"""A stick's reach, with room for rounding."""
LONGEST_STEP_S = 1.0
"""Nobody moves for longer than this in one report, however long it was silent."""
_TIME_S, _BEYOND_M = TOLERANCES.time_s, TOLERANCES.beyond_m


@inner
def _way(f):
    """From where the body was accepted to be to where the report leaves it: (x, y, z), metres."""
    return (
        f.found[FOUND.place_x] - f.moved[MOVED.x],
        f.found[FOUND.place_y] - f.moved[MOVED.y],
        f.found[FOUND.place_z] - f.moved[MOVED.z],
    )


@inner
def _cut_down(f, code, x, y, z):
    """Put the body where the rules let it go, metres, unless they say that this finding is only noted."""
    if f.consequences[code] != NOTED:
        f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z] = x, y, z


@inner
def check_reported(f):
    """Find `moves_not_ruled` where the rules have no movement or the server never put the body anywhere. No unit."""
    if not f.is_put or not f.rules[RULES.has_movement]:
        measured(f, MEASURE.move, NO_NUMBER, NO_NUMBER)
        return found(f, FINDING.moves_not_ruled, NO_NUMBER, NO_NUMBER)
    f.found[FOUND.is_placed] = 1.0
    f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z] = (
        f.claim[CLAIM.origin_x],
        f.claim[CLAIM.origin_y],
        f.claim[CLAIM.origin_z],
    )
    return NOTHING


@inner
def check_push(f):
    """Find `push_too_long`: an input longer than a stick goes. It is cut down, never used as it is. No unit."""
    length = f.claim[CLAIM.push]
    if math.isnan(length):
        return NOTHING
    measured(f, MEASURE.push, length, 1.0)
    return found(f, FINDING.push_too_long, length, 1.0) if length > LONGEST_PUSH else NOTHING


@inner
def _time(f):
    """(How much time a report says has passed since the last one, how much there was for it), seconds."""
    moved, last = f.moved, f.moved[MOVED.client_time]
    step = f.claim[CLAIM.client_time] - last
    if math.isnan(last):
        step = max(1.0 / f.rules[RULES.tick_rate_hz], f.now - moved[MOVED.clock_at])
    return step, max(0.0, f.now + f.rules[RULES.time_allowance_s] - moved[MOVED.clock_at])


@inner
def check_clock(f):
    """Find `stale_move` or `fast_clock`; works out the time, seconds, that the report may use."""
    last = f.moved[MOVED.client_time]
    since = f.claim[CLAIM.client_time] - last
    if f.claim[CLAIM.client_time] <= last:
        measured(f, MEASURE.time_since_the_last_report, since, 0.0)
        return found(f, FINDING.stale_move, since, 0.0)
    step, there_was = _time(f)
    most = min(there_was, LONGEST_STEP_S + f.rules[RULES.time_allowance_s])
    measured(f, MEASURE.time_since_the_last_report, step, there_was)
    f.found[FOUND.seconds] = step if f.consequences[FINDING.fast_clock] == NOTED else min(step, most)
    if step > there_was + _TIME_S:
        return found(f, FINDING.fast_clock, step, there_was)
    return NOTHING


@inner
def check_leap(f):
    """Find `teleport`: further than any speed explains, by a whole leap; metres. The body stays where it was."""
    rules = f.rules
    dx, dy, dz = _way(f)
    apart = length_of(dx, dy, dz)
    fastest = length_of(rules[RULES.speed_m_s], max(rules[RULES.up_m_s], rules[RULES.down_m_s]), 0.0)
    limit = rules[RULES.teleport_m] + fastest * f.found[FOUND.seconds]
    if apart <= limit:
        return NOTHING
    measured(f, MEASURE.leap, apart, limit)
    _cut_down(f, FINDING.teleport, f.moved[MOVED.x], f.moved[MOVED.y], f.moved[MOVED.z])
    f.found[FOUND.leapt] = 1.0
    return found(f, FINDING.teleport, apart, limit)


@inner
def check_speed(f):
    """Find `too_fast`; cuts the way, metres, down to what the body can do, over ground and upright by themselves."""
    rules, seconds = f.rules, f.found[FOUND.seconds]
    dx, dy, dz = _way(f)
    over = length_of(dx, dy, 0.0)
    most = rules[RULES.speed_m_s] * seconds + rules[RULES.allowance_m]
    fastest = rules[RULES.up_m_s] if dz > 0.0 else rules[RULES.down_m_s]
    upright = fastest * seconds + rules[RULES.allowance_m]
    measured(f, MEASURE.way_over_ground, over, most)
    if over <= most and abs(dz) <= upright:
        return NOTHING
    share = most / over if over > most else 1.0
    x, y, z = f.moved[MOVED.x], f.moved[MOVED.y], f.moved[MOVED.z]
    rise = math.copysign(min(abs(dz), upright), dz)
    _cut_down(f, FINDING.too_fast, x + dx * share, y + dy * share, z + rise)
    if over > most:
        return found(f, FINDING.too_fast, over, most, seconds)
    measured(f, MEASURE.way_upright, abs(dz), upright)
    return found(f, FINDING.too_fast, abs(dz), upright, -seconds)


@inner
def check_turn(f):
    """Find `too_sharp`; cuts the change of velocity over ground, metres a second, down to what the body can do.

    Walls stop a body or turn it aside for nothing: whatever is left of a velocity v after that lies in the circle that
    has v as its diameter (Thales), and only what lies further off than that counts as acceleration.
    """
    rules, seconds = f.rules, f.found[FOUND.seconds]
    if seconds <= 0.0 or f.found[FOUND.leapt]:
        return NOTHING
    dx, dy, _ = _way(f)
    hx, hy = 0.5 * f.moved[MOVED.velocity_x], 0.5 * f.moved[MOVED.velocity_y]
    ax, ay = dx / seconds - hx, dy / seconds - hy
    off, free = length_of(ax, ay, 0.0), length_of(hx, hy, 0.0)
    most = rules[RULES.acceleration_m_s2] * seconds + rules[RULES.allowance_m] / seconds
    measured(f, MEASURE.change_of_velocity, max(0.0, off - free), most)
    if off - free <= most:
        return NOTHING
    share = (free + most) / off
    vx, vy = hx + ax * share, hy + ay * share
    x, y = f.moved[MOVED.x] + vx * seconds, f.moved[MOVED.y] + vy * seconds
    _cut_down(f, FINDING.too_sharp, x, y, f.found[FOUND.place_z])
    return found(f, FINDING.too_sharp, off - free, most)


@inner
def _instants(f):
    """The present, and what the client's screen showed when it moved, no further back than a shot is rewound.

    Returns both as kernels read the history: (slot, slot, fraction); no unit.
    """
    slot = int(f.ticks[TICK_FIELDS * (f.tick_count - 1) + TICK_SLOT]) if f.tick_count > 0 else 0
    present, line = (slot, slot, 0.0), f.line
    if line[LINE.samples] == 0.0 or f.snapshot_count == 0:
        return present, present
    behind = min(line[LINE.round_trip_s] + line[LINE.interpolation_delay_s], f.rules[RULES.max_rewind_s])
    at = max(f.now - behind, f.snapshots[TIME])
    before, after, fraction = view_around(f.snapshots, f.snapshot_count, at)
    a, b = int(f.snapshots[SNAPSHOT_FIELDS * before + SLOT]), int(f.snapshots[SNAPSHOT_FIELDS * after + SLOT])
    return present, (a, b, fraction)


@inner
def _first_wall(f, ray, length):
    """What stops the body's ball within a length: (what, distance), metres; what as `cover.first_in_the_way` says.

    One that touches at its start is tried smaller: somebody who leans on a wall may slide along it and leave it, but
    the middle never crosses a surface. A door that moves is drawn late on the client's screen, so it stops a body only
    where it stands in the way both now and as the screen showed it.
    """
    now, seen = _instants(f)
    start = (ray[0] - f.middle[0], ray[1] - f.middle[1], ray[2] - f.middle[2], ray[3], ray[4], ray[5])
    what, distance = -1, length
    for share in (1.0, 0.5, 0.0):
        radius = share * f.rules[RULES.radius_m]
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
        if apart > distance:
            what, distance = then, apart
        if distance > _BEYOND_M:
            return what, distance
    return (-1, length) if what <= -2 else (what, distance)  # a door that closed on a body lets it out


@inner
def check_walls(f):
    """Find `through_wall`; the body stops where its ball touches something, metres. It sees what is left of the way."""
    dx, dy, dz = _way(f)
    length = math.sqrt(dx * dx + dy * dy + dz * dz)
    if length <= _BEYOND_M:
        return NOTHING
    x, y, z = f.moved[MOVED.x], f.moved[MOVED.y], f.moved[MOVED.z]
    ax, ay, az = dx / length, dy / length, dz / length
    what, distance = _first_wall(f, (x, y, z + f.rules[RULES.centre_up_m], ax, ay, az), length)
    if what == -1:
        return NOTHING
    measured(f, MEASURE.wall_on_the_way, distance, length)
    reached = max(0.0, distance - _BEYOND_M)
    _cut_down(f, FINDING.through_wall, x + ax * reached, y + ay * reached, z + az * reached)
    allowance = f.rules[RULES.allowance_m]
    if length - distance <= allowance:
        return NOTHING
    f.found[FOUND.blocker] = what
    return found(f, FINDING.through_wall, length - distance, allowance)


@inner
def keep_place(moved, now, x, y, z):
    """The body is accepted to be at a place from a server time on; metres, seconds."""
    moved[MOVED.x], moved[MOVED.y], moved[MOVED.z] = x, y, z
    at = PLACES_FROM + PLACE_FIELDS * (int(moved[MOVED.past]) % MOST_PLACES)
    moved[at], moved[at + 1], moved[at + 2], moved[at + 3] = now, x, y, z
    moved[MOVED.past] += 1.0


@inner
def commit_move(f):
    """Accept the place that is left after cutting down, metres, and count the time that was used for it."""
    moved = f.moved
    step, there_was = _time(f)
    moved[MOVED.client_time] = f.claim[CLAIM.client_time]
    # time that a silent client did not use doesn't pile up for long
    moved[MOVED.clock_at] = max(moved[MOVED.clock_at] + min(step, there_was), f.now - LONGEST_STEP_S)
    dx, dy, dz = _way(f)
    seconds = f.found[FOUND.seconds]
    if seconds > 0.0:
        moved[MOVED.velocity_x], moved[MOVED.velocity_y], moved[MOVED.velocity_z] = (
            dx / seconds,
            dy / seconds,
            dz / seconds,
        )
    if hear(f):
        f.found[FOUND.heard] = take_least(f.line, LINE.claim_trip, f.now, f.now - f.claim[CLAIM.client_time])
    keep_place(moved, f.now, f.found[FOUND.place_x], f.found[FOUND.place_y], f.found[FOUND.place_z])
    f.line[LINE.highest_sequence] = max(f.line[LINE.highest_sequence], f.claim[CLAIM.sequence])
    f.found[FOUND.became] = ACCEPTED
    measured(f, MEASURE.accepted_way, math.sqrt(dx * dx + dy * dy + dz * dz), NO_NUMBER)
    tell_standing(f)
    return NOTHING
