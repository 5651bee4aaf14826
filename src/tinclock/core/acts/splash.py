"""Bursts: what is hurt around the place where something ended, less what stands in between."""

from __future__ import annotations

import math
from bisect import bisect_right
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.acts.harm import apply_harm
from tinclock.core.records import Hit, Step
from tinclock.core.timeline.bodies import parts_in_reach
from tinclock.core.timeline.hitboxes import hitboxes_at
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import Triple
    from tinclock.core.combat.flights import Projectile
    from tinclock.core.flight_rules import SplashRules
    from tinclock.core.timeline.bodies import Reached

SEEN_POINTS = 8
"""So many points of a body are looked at, beside the nearest one."""
BACK_M = TOLERANCES.aside_m


def falloff_at(rules: SplashRules, distance_m: float) -> float:
    """The factor at a distance: the table's straight lines, or one from 1 at the middle to 0 at the radius."""
    if distance_m > rules.radius_m:
        return 0.0
    if not rules.falloff:
        return 1.0 - distance_m / rules.radius_m
    distances = [float(d) for d, _ in rules.falloff]
    place = bisect_right(distances, distance_m)
    if place in (0, len(distances)):
        return float(rules.falloff[max(0, place - 1)][1])
    (a, fa), (b, fb) = rules.falloff[place - 1], rules.falloff[place]
    return fa + (fb - fa) * (distance_m - a) / (b - a)


def burst(one: Projectile, context: Context, place: Triple, direct: int) -> None:
    """Hurt whoever is near, then set off what may be set off. `direct` is the body that it ended in, 0 for none."""
    rules = one.weapon.rules.splash
    if rules is None:  # pragma: no cover - asked for only with one
        return
    start = _off_the_surface(one, context, place)
    for near in _around(context, place, rules.radius_m):
        victim = context.roster.actors.get(near.entity)
        if victim is None or victim.blocks_only:
            continue
        seen = 1.0 if near.entity == direct else visible_share(context, start, near)
        factor = falloff_at(rules, near.distance_m) * (1.0 - rules.cover_share * (1.0 - seen))
        points = one.charge * (rules.damage * factor + (rules.direct_bonus if near.entity == direct else 0.0))
        context.steps.append(Step("in the splash", near.entity, f"{near.distance_m:.2f} m", "entity"))
        context.steps.append(Step("seen from the burst", seen, 1.0))
        amount, wound = apply_harm(context, victim, near.part, points, "splash")
        context.damage += wound.before - wound.after
        part, changed = near.part, (amount, wound.before, wound.after, wound.lethal)
        push = _push(place, near, rules.impulse_n_s * factor)
        context.hits += (
            Hit(near.entity, part.name, part.zone, part.side, near.distance_m, near.point, *changed, 1, push),
        )
    if rules.sets_off:
        _set_off(one, context, place, rules.radius_m)


def _around(context: Context, place: Triple, radius_m: float) -> list[Reached]:
    fraction = 0.0 if context.view is None else context.view.fraction
    return parts_in_reach(
        context.history, place, (1.0, 0.0, 0.0), context.slots, fraction, reach_m=radius_m, radius_m=0.0,
        cone_rad=math.pi, ignore=0,
    )  # fmt: skip


def _off_the_surface(one: Projectile, context: Context, place: Triple) -> Triple:
    """Back along the way that it came: from there the surface that it hit doesn't hide everything."""
    x, y, z = context.flights.velocity_at(one, context.received_at)
    speed = math.sqrt(x * x + y * y + z * z)
    if speed == 0.0:
        return place[0], place[1], place[2] + BACK_M
    return place[0] - BACK_M * x / speed, place[1] - BACK_M * y / speed, place[2] - BACK_M * z / speed


def visible_share(context: Context, start: Triple, near: Reached) -> float:
    """The share of points of a body (the nearest, and middles of its parts) that nothing solid hides from a place."""
    history = context.history
    boxes = None if context.view is None else hitboxes_at(history, near.entity, context.view)
    centres = np.empty((0, 3)) if boxes is None else boxes.centres
    rows = {round(k * (len(centres) - 1) / (SEEN_POINTS - 1)) for k in range(SEEN_POINTS)} if len(centres) else set()
    points = [near.point]
    for row in sorted(rows):
        x, y, z = centres[row].tolist()
        points.append((x, y, z))
    clear = sum(not _hidden(context, start, point) for point in points)
    return clear / len(points)


def _hidden(context: Context, start: Triple, end: Triple) -> bool:
    if math.dist(start, end) <= 2.0 * BACK_M:
        return False
    return context.world.cover.between(start, end, context.instant())[0] is not None


def _push(place: Triple, near: Reached, size: float) -> Triple | None:
    if size == 0.0:
        return None
    away = [n - p for n, p in zip(near.point, place, strict=True)]
    length = math.sqrt(sum(v * v for v in away))
    if length == 0.0:
        return 0.0, 0.0, size
    return away[0] / length * size, away[1] / length * size, away[2] / length * size


def _set_off(one: Projectile, context: Context, place: Triple, radius_m: float) -> None:
    """End others with a splash that lie within reach. Each ends once, so a chain ends."""
    from tinclock.core.acts.flight import context_of, end_flight

    flights, at = context.flights, context.received_at
    for other in list(flights.live.values()):
        if other.over or other.weapon.rules.splash is None:
            continue
        where = flights.place_at(other, at)
        if math.dist(where, place) <= radius_m:
            context.steps.append(Step("set off", other.number, one.number))
            end_flight(context.world, other, at, "set off", where)
            then = context_of(context.world, other, at)
            then.origin = where
            burst(other, then, where, 0)
            context.hits += then.hits
            context.damage += then.damage
            context.steps += then.steps
