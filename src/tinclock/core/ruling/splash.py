"""Bursts: what is hurt around the position where something ended, less what stands in between."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.pushing import push_by_blast
from tinclock.core.ruling.records import Hit
from tinclock.core.ruling.wounding import apply_damage
from tinclock.core.timeline.bodies import parts_in_reach
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from tinclock.core.combat.flights import Projectile
    from tinclock.core.rules.projectiles import SplashRules
    from tinclock.core.ruling.work import DamageWork
    from tinclock.core.timeline.bodies import ReachedHitbox
    from tinclock.core.vectors import Triple

SEEN_POINTS = 8
"""Number of points of a body that are tested, beside the nearest one."""
BACK_M = TOLERANCES.aside_m


def falloff_at(rules: SplashRules, distance_m: float) -> float:
    """The factor at a distance: the table's straight lines, or one from 1 at the middle to 0 at the radius."""
    if distance_m > rules.radius_m:
        return 0.0
    if not rules.falloff:
        return 1.0 - distance_m / rules.radius_m
    table = np.array(rules.falloff, np.float64)
    return float(np.interp(distance_m, table[:, 0], table[:, 1]))


def burst(one: Projectile, rules: SplashRules, work: DamageWork, position: Triple, direct: int) -> None:
    """Hurt nearby bodies. direct : the body that it ended in, 0 for none."""
    start = _off_the_surface(one, work, position)
    for near in _around(work, position, rules.radius_m):
        victim = work.roster.actors.get(near.entity)
        if victim is None or victim.blocks_only:
            continue
        seen = 1.0 if near.entity == direct else visible_fraction(work, start, near)
        factor = falloff_at(rules, near.distance_m) * (1.0 - rules.cover_fraction * (1.0 - seen))
        points = one.charge * (rules.damage * factor + (rules.direct_bonus if near.entity == direct else 0.0))
        work.steps.append(Measure.IN_THE_SPLASH.step(near.entity, f"{near.distance_m:.2f} m"))
        work.steps.append(Measure.SEEN_FROM_THE_BURST.step(seen, 1.0))
        row = work.history.columns.row_of(near.entity, near.part)
        push = _push(position, near, rules.impulse_n_s * factor)
        away = _push(position, near, 1.0)
        amount, wound = apply_damage(
            work,
            victim,
            [(near.part, row, points)],
            "splash",
            near.position,
            away,
            rules.impulse_n_s * factor or None,
        )
        push_by_blast(work.ledger, victim, work.rules.rigs[victim.rig].mass_kg, push, work.received_at)
        work.damage += wound.before - wound.after
        part, changed = near.part, (amount, wound.before, wound.after, wound.lethal)
        work.hits += (
            Hit(near.entity, part.name, part.zone, part.side, near.distance_m, near.position, *changed, 1, push),
        )


def _around(work: DamageWork, position: Triple, radius_m: float) -> list[ReachedHitbox]:
    return parts_in_reach(
        work.history, position, (1.0, 0.0, 0.0), work.slots, work.view.fraction, reach_m=radius_m, radius_m=0.0,
        cone_rad=math.pi, ignore=0,
    )  # fmt: skip


def _off_the_surface(one: Projectile, work: DamageWork, position: Triple) -> Triple:
    """Back along the way that it came: from there the surface that it hit doesn't hide everything."""
    x, y, z = work.flights.velocity_at(one, work.received_at)
    speed = math.sqrt(x * x + y * y + z * z)
    if speed == 0.0:
        return position[0], position[1], position[2] + BACK_M
    return position[0] - BACK_M * x / speed, position[1] - BACK_M * y / speed, position[2] - BACK_M * z / speed


def visible_fraction(work: DamageWork, start: Triple, near: ReachedHitbox) -> float:
    """The share of points of a body (the nearest, and middles of its parts) that nothing solid hides from `start`."""
    history = work.history
    boxes = history.hitboxes_at(near.entity, work.view)
    centres = np.empty((0, 3)) if boxes is None else boxes.centres
    rows = {round(k * (len(centres) - 1) / (SEEN_POINTS - 1)) for k in range(SEEN_POINTS)} if len(centres) else set()
    points = [near.position]
    for row in sorted(rows):
        x, y, z = centres[row].tolist()
        points.append((x, y, z))
    clear = sum(not _hidden(work, start, point) for point in points)
    return clear / len(points)


def _hidden(work: DamageWork, start: Triple, end: Triple) -> bool:
    if math.dist(start, end) <= 2.0 * BACK_M:
        return False
    return work.world.cover.between(start, end, work.instant())[0] is not None


def _push(position: Triple, near: ReachedHitbox, size: float) -> Triple | None:
    if size == 0.0:
        return None
    away = [n - p for n, p in zip(near.position, position, strict=True)]
    length = math.sqrt(sum(v * v for v in away))
    if length == 0.0:
        return 0.0, 0.0, size
    return away[0] / length * size, away[1] / length * size, away[2] / length * size
