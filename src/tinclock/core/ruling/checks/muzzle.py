"""Checks of the start of a shot that passes through things, and of the cost of its way from the eye.

For other shots, and where nothing is in the way, the check is compiled: `kernels.checks.muzzle`.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import MeleeClaim, ShotClaim
    from tinclock.core.ruling.work import AimedWork


def check_muzzle(claim: ShotClaim | MeleeClaim, work: AimedWork) -> Finding | None:
    """Find `muzzle_blocked` or `muzzle_far`; works out what the way to it takes from the weapon's penetration."""
    eye, origin, (off, limit) = work.eye, work.origin, work.muzzle
    distance = math.dist(eye, origin)
    work.steps.append(Measure.MUZZLE.step(off, limit))
    budget = work.weapon.penetration
    stop, work.paid = work.world.cover.between(eye, origin, work.instant(), budget=budget, ignore=work.actor.entity)
    if stop is not None:
        work.steps.append(Measure.MUZZLE_WALL.step(stop.distance_m, distance))
        return work.find("muzzle_blocked", stop.distance_m, distance, stop.name)
    if off > limit:
        work.paid = 0.0
        return work.find("muzzle_far", off, limit)
    return None
