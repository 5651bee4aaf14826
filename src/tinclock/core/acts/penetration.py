"""Shots that pass through things: what each metre of a surface costs, and what is left of the shot behind it.

A weapon has a budget, `penetration`; every metre inside a surface takes its `resistance_per_m` from it. The shot ends
where the budget is used up, and what it does is scaled by the share that is left. Surfaces must be closed: the way
inside runs from a front face to the next back face of the same kind; one that never ends runs to the end of the range.
"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.records import Step
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.geometry.level import LevelHit
    from tinclock.core.timeline.history import PartHit


class Span(NamedTuple):
    """A stretch of a shot's way inside something, in metres along it."""

    enter_m: float
    leave_m: float
    name: str
    resistance_per_m: float

    def cost(self, distance_m: float) -> float:
        """What the part of it before a distance costs."""
        length = min(self.leave_m, distance_m) - self.enter_m
        return length * self.resistance_per_m if length > 0.0 else 0.0


def solid_spans(hits: list[LevelHit], range_m: float) -> list[Span]:
    """Where a ray is inside each kind of surface, from all its crossings in order."""
    spans, inside = [], dict[str, tuple[float, int]]()
    for hit in hits:
        name = hit.surface.name
        start, depth = inside.get(name, (0.0 if hit.facing > 0.0 else hit.distance_m, 1 if hit.facing > 0.0 else 0))
        depth += 1 if hit.facing < 0.0 else -1
        if depth <= 0:
            spans.append(Span(start, hit.distance_m, name, hit.surface.resistance_per_m))
            inside.pop(name, None)
        else:
            inside[name] = (start, depth)
    resistance = {hit.surface.name: hit.surface.resistance_per_m for hit in hits}
    spans += [Span(start, range_m, name, resistance[name]) for name, (start, _) in inside.items()]
    return sorted(spans)


def reach_of(spans: list[Span], budget: float, range_m: float) -> tuple[float, str | None]:
    """How far a shot with this budget gets through the spans, and what stops it (None: nothing within range)."""
    edges = sorted({0.0, range_m, *(min(e, range_m) for span in spans for e in (span.enter_m, span.leave_m))})
    left = budget
    for a, b in pairwise(edges):
        within = [span for span in spans if span.enter_m <= a and span.leave_m >= b]
        rate = sum(span.resistance_per_m for span in within)
        if within and rate * (b - a) >= left:
            hardest = max(within, key=lambda span: span.resistance_per_m)
            return a + (0.0 if rate == float("inf") else left / rate), hardest.name
        left -= rate * (b - a) if within else 0.0
    return range_m, None


def send_through(context: Context, weapon: Weapon, fraction: float) -> tuple[float, str | None]:
    """`resolve.cast_shot` for a weapon that penetrates: works out `context.hit` and `context.kept`."""
    crossings = [] if context.level is None else context.level.all_along(*context.ray(), weapon.range_m)
    spans = solid_spans(crossings, weapon.range_m)
    start = 0.0
    while True:
        reach, stopper = reach_of(spans, weapon.penetration, weapon.range_m)
        hit = _next_hit(context, fraction, start, reach)
        rig = None if hit is None else context.history.rig_of(hit.entity)
        if hit is None or rig is None or not rig.blocks_only:
            break
        spans = sorted([*spans, Span(hit.distance_m, hit.leaves_m, rig.name, rig.resistance_per_m)])
        if rig.resistance_per_m == float("inf"):
            break
        start = hit.leaves_m + TOLERANCES.beyond_m
    context.hit = hit
    end = reach if hit is None else hit.distance_m
    for span in spans:
        if span.enter_m < end and span.cost(end) < float("inf"):
            context.steps.append(Step("passed", min(span.leave_m, end) - span.enter_m, span.name, "m"))
    context.kept = max(0.0, 1.0 - sum(span.cost(end) for span in spans) / weapon.penetration)
    if hit is None:
        context.steps.append(Step("rewind", "nobody") if stopper is None else Step("level", reach, stopper, "m"))
        return reach, stopper
    context.steps.append(Step("rewind", hit.entity, hit.part.name, "entity"))
    return hit.distance_m, f"entity {hit.entity}"


def _next_hit(context: Context, fraction: float, start: float, reach: float) -> PartHit | None:
    """The first hitbox between two distances along the shot."""
    if start > reach:
        return None
    (ox, oy, oz), (dx, dy, dz) = context.ray()
    ray = (ox + dx * start, oy + dy * start, oz + dz * start, dx, dy, dz)
    hit = context.history.nearest_along(ray, *context.slots, fraction, reach - start, context.actor.entity)
    if hit is None or start == 0.0:
        return hit
    return hit._replace(distance_m=hit.distance_m + start, leaves_m=hit.leaves_m + start)
