"""Shots that pass through things: what each metre of a surface costs, and what is left of the shot behind it.

A weapon has a budget, `penetration`; every metre inside a surface takes its `resistance_per_m` from it. The shot ends
where the budget is used up, and what it does is scaled by the share that is left.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.ruling.check_results import Measure
from tinclock.core.timeline.cover import Obstacle, reach_of

if TYPE_CHECKING:
    from tinclock.core.ruling.work import AimedWork
    from tinclock.core.timeline.history import PartHit


class Passage(NamedTuple):
    """Way of a ray of a weapon that penetrates.

    reach_m : its length; stop : the cover that stopped it, None for a body or nothing; hit : the hitbox that it met
    kept : the fraction of its damage that is left there
    """

    reach_m: float
    stop: Obstacle | None
    hit: PartHit | None
    kept: float


def send_through(work: AimedWork) -> Passage:
    """Send a ray of a weapon that penetrates. What lay between the shooter's eye and the muzzle has been paid for."""
    weapon, at = work.weapon, work.instant()
    budget = weapon.penetration - work.paid
    spans = work.world.cover.spans(work.origin, work.direction, weapon.range_m, at, work.actor.entity)
    reach, hardest = reach_of(spans, budget, weapon.range_m)
    hit = work.history.nearest_body_along((*work.origin, *work.direction), *at, reach, work.actor.entity)
    end = reach if hit is None else hit.distance_m
    for span in spans:
        if span.enter_m < end and 0.0 < span.cost(end) < float("inf"):
            work.steps.append(Measure.PASSED.step(min(span.leave_m, end) - span.enter_m, span.name))
    kept = max(0.0, budget - sum(span.cost(end) for span in spans)) / weapon.penetration
    if hit is not None:
        return Passage(hit.distance_m, None, hit, kept)
    return Passage(reach, None if hardest is None else Obstacle(reach, hardest.name, hardest.entity), None, kept)
