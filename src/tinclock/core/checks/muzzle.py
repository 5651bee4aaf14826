"""Whether the shot can have started where it says: near the server's own shooter, and not on the far side of a wall."""

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
    if context.level is not None and distance > 0.0:
        wall = context.level.blocker(eye, origin)
        if wall is not None:
            context.steps.append(Step("muzzle wall", wall.distance_m, distance, "m"))
            return context.find("muzzle_blocked", wall.distance_m, distance, "m", wall.surface.name)
    return None
