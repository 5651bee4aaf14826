"""Shots that pass through things: what each metre of a surface costs, and what is left of the shot behind it.

A weapon has a budget, `penetration`; every metre inside a surface takes its `resistance_per_m` from it. The shot ends
where the budget is used up, and what it does is scaled by the share that is left.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Step
from tinclock.core.timeline.cover import Obstacle, reach_of

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.combat.weapons import Weapon


def send_through(context: Context, weapon: Weapon) -> tuple[float, Obstacle | None]:
    """Send a ray of a weapon that penetrates: how far it gets, and what cover stops it (None: a body, or nothing).

    Works out `context.hit` and `context.kept`. What lay between the shooter's eye and the muzzle has been paid for.
    """
    origin, direction = context.ray()
    at, budget = context.instant(), weapon.penetration - context.paid
    spans = context.world.cover.spans(origin, direction, weapon.range_m, at, context.actor.entity)
    reach, hardest = reach_of(spans, budget, weapon.range_m)
    ray = (*origin, *direction)
    context.hit = hit = context.history.nearest_body_along(ray, *at, reach, context.actor.entity)
    end = reach if hit is None else hit.distance_m
    for span in spans:
        if span.enter_m < end and 0.0 < span.cost(end) < float("inf"):
            context.steps.append(Step("passed", min(span.leave_m, end) - span.enter_m, span.name, "m"))
    context.kept = max(0.0, budget - sum(span.cost(end) for span in spans)) / weapon.penetration
    if hit is not None:
        return hit.distance_m, None
    return reach, None if hardest is None else Obstacle(reach, hardest.name, hardest.entity)
