"""Checks of a shot's start: near the server's own shooter, and where a shot of its eye gets.

What would stop a shot of this weapon stops its muzzle: a wall, a pane, a closed door, as they stand at the view. What
the weapon shoots through it may be held through, and pays for: Python works that out.
"""

from __future__ import annotations

from tinclock.core.kernels.compiling import inner
from tinclock.core.kernels.cover import first_in_the_way
from tinclock.core.kernels.facts import ASK, FINDING, MEASURE, NOTHING, found, level_of, measured, stored_of
from tinclock.core.kernels.lengths import length_of
from tinclock.core.kernels.rows import CLAIM, FOUND, RULES, WEAPON


@inner
def view_of(f):
    """The view that a claim is ruled at, as kernels read the history: (slot, slot, fraction); no unit."""
    return int(f.found[FOUND.from_slot]), int(f.found[FOUND.to_slot]), f.found[FOUND.fraction]


@inner
def check_muzzle(f):
    """Find `muzzle_far` or `muzzle_blocked`; metres."""
    ex, ey, ez = f.found[FOUND.eye_x], f.found[FOUND.eye_y], f.found[FOUND.eye_z]
    ox, oy, oz = f.claim[CLAIM.origin_x], f.claim[CLAIM.origin_y], f.claim[CLAIM.origin_z]
    x, y, z = ox - ex, oy - ey, oz - ez
    distance, reach = length_of(x, y, z), f.rules[RULES.muzzle_reach_m]
    measured(f, MEASURE.muzzle, distance, reach)
    if distance > reach:
        f.found[FOUND.starts_at_eye] = 1.0
        return found(f, FINDING.muzzle_far, distance, reach)
    if distance == 0.0:
        return NOTHING
    ray = (ex, ey, ez, x / distance, y / distance, z / distance)
    stop, at = first_in_the_way(
        ray, 0.0, distance, view_of(f), f.column, stored_of(f), level_of(f), f.has_level, f.middle
    )
    if stop == -1:
        return NOTHING
    if f.weapon[WEAPON.penetration] > 0.0:
        f.found[FOUND.steps] -= 1.0  # Python measures it again
        return ASK
    f.found[FOUND.blocker], f.found[FOUND.starts_at_eye] = stop, 1.0
    measured(f, MEASURE.muzzle_wall, at, distance)
    return found(f, FINDING.muzzle_blocked, at, distance)
