"""Whether the shot can have started where it says: near the server's own shooter, and where a shot of its eye gets.

What would stop a shot of this weapon stops its muzzle: a wall, a pane, a closed door, as they stand at the view. What
the weapon shoots through it may be held through, and pays for.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import ShotClaim, StrikeClaim
    from tinclock.core.records import Finding


def check_muzzle(claim: ShotClaim | StrikeClaim, context: Context) -> Finding | None:
    """Find `muzzle_far` or `muzzle_blocked`."""
    eye, origin, reach = context.eye, context.origin, context.rules.muzzle.reach_m
    if eye is None or origin is None:  # pragma: no cover - reached only where a table lets absent shooters act
        return context.find("absent_actor")
    distance = math.dist(eye, origin)
    context.steps.append(Step("muzzle", distance, reach, "m"))
    if distance > reach:
        return context.find("muzzle_far", distance, reach, "m")
    budget = 0.0 if context.weapon is None else context.weapon.penetration
    stop, context.paid = context.world.cover.between(
        eye, origin, context.instant(), budget=budget, ignore=context.actor.entity
    )
    if stop is not None:
        context.steps.append(Step("muzzle wall", stop.distance_m, distance, "m"))
        return context.find("muzzle_blocked", stop.distance_m, distance, "m", stop.name)
    return None
