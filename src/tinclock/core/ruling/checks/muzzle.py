"""Whether the shot can have started where it says: near the server's own shooter, and where a shot of its eye gets.

What would stop a shot of this weapon stops its muzzle: a wall, a pane, a closed door, as they stand at the view. What
the weapon shoots through it may be held through, and pays for.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.ruling.steps import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import ShotClaim, StrikeClaim
    from tinclock.core.ruling.work import AimedWork


def check_muzzle(claim: ShotClaim | StrikeClaim, work: AimedWork) -> Finding | None:
    """Find `muzzle_far` or `muzzle_blocked`."""
    eye, origin, reach = work.eye, work.origin, work.rules.muzzle.reach_m
    distance = math.dist(eye, origin)
    work.steps.append(Measure.MUZZLE.step(distance, reach))
    if distance > reach:
        return work.find("muzzle_far", distance, reach)
    budget = work.weapon.penetration
    stop, work.paid = work.world.cover.between(eye, origin, work.instant(), budget=budget, ignore=work.actor.entity)
    if stop is not None:
        work.steps.append(Measure.MUZZLE_WALL.step(stop.distance_m, distance))
        return work.find("muzzle_blocked", stop.distance_m, distance, stop.name)
    return None
