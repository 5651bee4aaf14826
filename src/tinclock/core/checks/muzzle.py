"""Whether the shot can have started where it says: near the server's own shooter, and not on the far side of a wall."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim


def check_muzzle(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `muzzle_far` or `muzzle_blocked`."""
    eye, origin, reach = context.eye, context.origin, context.rules.muzzle.reach_m
    if eye is None:  # pragma: no cover - reached only where a table lets absent shooters act
        return context.find("absent_actor")
    distance = math.dist(eye, origin)
    context.seen = (distance, reach, "m")
    if distance > reach:
        return context.find("muzzle_far", distance, reach, "m")
    if context.level is not None:
        wall = context.level.blocker(eye, origin)
        if wall is not None:
            context.seen = (
                f"{wall.surface.name} at {wall.distance_m:.2f} m",
                f"clear for {distance:.2f} m",
                "",
            )
            return context.find("muzzle_blocked", wall.distance_m, distance, "m", wall.surface.name)
    return None
