"""Gravity: a body off the ground rises no higher than its jump carries it, and falls on its own arc.

Metres and seconds. The arc of a body that nothing carries is h = v t - g t^2 / 2 (Galilei), whatever it weighs.
"""

from __future__ import annotations

import math

from tinclock.core.kernels.checks.move import is_free, is_pushed
from tinclock.core.kernels.checks.walls import instants
from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import nearest_cover
from tinclock.core.kernels.dtypes import FLAGGED
from tinclock.core.kernels.facts import FINDING, MEASURE, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.memory import float64_at
from tinclock.core.kernels.registry import check
from tinclock.core.kernels.triangles import first_triangle_alone
from tinclock.core.tolerances import TOLERANCES

_BEYOND_M = TOLERANCES.beyond_m
SLENDER = 0.9
"""Share of the body's radius that looks for the ground, so that a wall which it leans on doesn't carry it."""
STEEPEST = 1.2
"""Rise over run of the steepest slope that a body walks up: 50 degrees."""
SIDES = 8
"""Number of points on the rim of a body's foot that look for ground."""
DEEPEST_M = 1000.0
"""Ground further below the place where the server puts a body isn't looked for: such a level has no floor there."""
BOX = 6
"""Numbers of a zone: its least and its greatest corner, metres."""


@inner
def _down(f, x, y, z, radius, length, now, seen):
    """Return the depth at which something carries a ball that falls from a place, metres; inf for none so near.

    A lift is drawn late on the client's screen, so it carries a body where it stands now and where the screen shows it.
    """
    ray, first = (x, y, z, 0.0, 0.0, -1.0), math.inf
    if f.has_level:
        start = (x - f.middle[0], y - f.middle[1], z - f.middle[2], 0.0, 0.0, -1.0)
        row, distance, _ = first_triangle_alone(start, radius, length, level_of(f))
        if row >= 0:
            first = distance
    for at in (now, seen):
        column, distance = nearest_cover(ray, radius, length, at, f.column, stored_of(f))
        if column >= 0:
            first = min(first, distance)
    return first


@inner
def _ground(f, x, y, z, below_m, most):
    """Return the height of the ground under a body whose foot is at a place, metres; -inf for none so near below.

    Surfaces above `most` are obstacles. Bodies of games are flat or round below: either carries one beside an edge.
    """
    rules, (now, seen) = f.limits, instants(f)
    around = SLENDER * rules.radius_m
    up = max(rules.centre_up_m, rules.radius_m)
    down = _down(f, x, y, z + up, around, up - around + below_m, now, seen)
    highest = z + up - around - down if down > _BEYOND_M else -math.inf
    highest = highest if highest <= most else -math.inf
    for k in range(SIDES):
        turn = 2.0 * math.pi * k / SIDES
        at_x, at_y = x + around * math.cos(turn), y + around * math.sin(turn)
        there = z + up - _down(f, at_x, at_y, z + up, 0.0, up + below_m, now, seen)
        highest = max(highest, there) if there <= most else highest
    return highest


@inner
def _is_in_zone(f, x, y, z):
    """True if a place, metres, lies in one of the boxes in which bodies don't fall."""
    count = int(f.limits.zone_count)
    if count == 0:
        return False
    boxes = float64_at(int(f.limits.zones))
    for k in range(count):
        at = BOX * k
        if (
            boxes[at] <= x <= boxes[at + 3]
            and boxes[at + 1] <= y <= boxes[at + 4]
            and boxes[at + 2] <= z <= boxes[at + 5]
        ):
            return True
    return False


@inner
def _falls(f):
    """True if gravity holds this body: there is ground under the place where the server put it. No unit."""
    out, moved = f.found, f.moved
    out.has_ground, out.stood = moved.has_ground, moved.stands
    if f.limits.gravity_m_s2 == 0.0 or not f.has_level or f.body.flies:
        return False
    if math.isnan(moved.has_ground):  # the first report since then; what it finds, later ones know
        x, y, z = moved.x, moved.y, moved.z
        ground = _ground(f, x, y, z, DEEPEST_M, z + f.limits.step_m)
        out.has_ground = 1.0 if ground > -math.inf else 0.0
        out.stood = 1.0 if z <= ground + f.limits.skin_m or _is_in_zone(f, x, y, z) else 0.0
    return out.has_ground != 0.0


@inner
def _arc(f, rise, seconds):
    """Return the height, metres, after a time of a body that began to rise so fast, metres a second."""
    return rise * seconds - 0.5 * f.limits.gravity_m_s2 * seconds * seconds


@inner
def _lift(f):
    """Return the rise, metres a second, that a push of the server's may still give the body."""
    return f.body.push_z if is_pushed(f) else 0.0


@inner
def _jump(f, seconds):
    """Return the greatest height, metres, of a body that stood so long ago and may have jumped at any instant since."""
    rise = max(f.limits.jump_m_s, _lift(f))
    return _arc(f, rise, min(seconds, rise / f.limits.gravity_m_s2))


@inner
def _rise_after(f, height, over, seconds):
    """Return the fastest rise, metres a second, of a body that got so high and so far over ground in this report."""
    gravity, slack = f.limits.gravity_m_s2, f.limits.rounding_m
    if not f.found.stood:
        own = height / seconds - 0.5 * gravity * seconds + 2.0 * slack / seconds
        rise = min(f.moved.rise_m_s + _lift(f) - gravity * seconds, own)
        f.found.pushed_z = max(0.0, rise - f.moved.rise_m_s + gravity * seconds)
        return rise
    if height >= 0.0:
        jump = max(f.limits.jump_m_s, _lift(f))
        f.found.pushed_z = _lift(f)
        return math.sqrt(max(0.0, jump * jump - 2.0 * gravity * height))
    drop = max(0.0, -height - over - slack)  # it may have walked down a slope before it left the ground
    return -math.sqrt(2.0 * gravity * drop)


@check
def check_fall(f):
    """Find `not_falling`: higher than a jump and gravity explain, metres; cuts the height down to what they do."""
    seconds, rules = f.found.seconds, f.limits
    falls = _falls(f)
    if f.found.leapt or not falls or is_free(f):
        f.found.stands, f.found.rise_m_s = f.found.stood, 0.0 if is_free(f) else f.moved.rise_m_s
        return NOTHING
    x, y, z = f.found.place_x, f.found.place_y, f.found.place_z
    begun = f.moved.z - f.moved.lead_z
    stood, slack = f.found.stood != 0.0, rules.skin_m
    highest = begun + (_jump(f, seconds) if stood else _arc(f, f.moved.rise_m_s + _lift(f), seconds))
    over = math.hypot(x - f.moved.x, y - f.moved.y)
    walked, floor = begun + max(rules.step_m, STEEPEST * over), begun
    most = max(walked, highest + rules.step_m) + slack
    ground = _ground(f, x, y, z, max(slack, z - min(highest, begun)) + slack, most)
    stands = z <= ground + slack or _is_in_zone(f, x, y, z)
    if not stood and highest <= ground + slack:  # it came down on its way, and may have jumped again
        f.found.stood, floor = 1.0, ground
        highest = ground + _jump(f, seconds)
    elif stood and ground > begun:  # it may have jumped off a stair that it had just walked up
        floor = min(ground, walked)
        highest = max(highest, floor + _jump(f, seconds))
    if stands:
        highest = max(highest, walked) if stood else highest + rules.step_m
    measured(f, MEASURE.height, z - begun, highest - begun)
    code = NOTHING
    if z > highest + slack:
        code = found(f, FINDING.not_falling, z - begun, highest - begun)
        if f.actions[code] == FLAGGED:
            highest = z
        z = f.found.place_z = max(highest, ground) if ground > -math.inf else highest
        stands = z <= ground + slack
    f.found.model_z = min(z, highest)
    f.found.stands = 1.0 if stands else 0.0
    if not stands and seconds > 0.0:
        f.found.rise_m_s = _rise_after(f, f.found.model_z - floor, over, seconds)
    else:
        f.found.rise_m_s = f.moved.rise_m_s
    return code
