"""What a shot that passed its checks really did: rays through the level and the rewound hitboxes, and the damage."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.acts.harm import Harm, apply_harm
from tinclock.core.acts.penetration import send_through
from tinclock.core.records import Hit, Ray, Step
from tinclock.core.timeline.bodies import speed_now

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import ShotClaim, Triple
    from tinclock.core.combat.held import Held
    from tinclock.core.geometry.level import LevelHit
    from tinclock.core.records import Finding
    from tinclock.core.timeline.history import PartHit


def check_number(claim: ShotClaim, context: Context) -> Finding | None:
    """Spend the shot, work out its rays' directions; find `shots_skipped` where its number isn't the next.

    It comes last of the checks before the cast: a shot that was refused costs nothing and moves no count.
    """
    held, aim = context.held, context.direction
    if held is None or aim is None:  # pragma: no cover - the checks before deny
        return None
    now = context.received_at
    held.spend(now)
    context.ledger.drop_shield(context.actor.entity, now)
    if held.scatter.plain:
        held.shots += 1
        context.shot = held.shots
        context.rays = (Ray(aim, 0.0),) * held.weapon.rules.pellets
        return None
    expected = held.shots + 1
    context.shot, own = held.number(claim.shot, context.rules.cadence.most_skipped)
    _scatter(held, aim, claim.command_time, own, context)
    if own:
        return None
    return context.find("shots_skipped", claim.shot, expected, "", "drawn from the server's own stream")


def _scatter(held: Held, aim: Triple, command_time: float | None, own: bool, context: Context) -> None:
    at, speed = held.pace(context.received_at, command_time), 0.0
    spread, number = held.weapon.rules.spread, context.shot or 1
    if spread is not None and spread.moving_deg > 0.0:
        speed = speed_now(context.history, context.actor.entity)
    if spread is not None:
        context.steps.append(Step("spread", held.scatter.spread_rad(at, speed), unit="rad"))
    key = None if own else context.actor.secret
    context.rays = tuple(Ray(along, 0.0) for along in held.scatter.rays(aim, at, number, speed, key))


class Met(NamedTuple):
    """What one ray met."""

    hit: PartHit
    direction: Triple
    kept: float


def perform_shot(claim: object, context: Context) -> None:
    """Cast the shot's rays and do what they do."""
    context.aim = context.direction
    if context.findings and context.eye and any(f.code in ("muzzle_far", "muzzle_blocked") for f in context.findings):
        context.origin = context.eye  # a start that is forgiven is still not believed
    met: list[Met] = []
    rays = []
    for ray in context.rays:
        context.direction = ray.direction
        reached, stopped_by = cast_shot(context)
        if context.hit is not None:
            met.append(Met(context.hit, ray.direction, context.kept))
        rays.append(Ray(ray.direction, reached, stopped_by))
    context.direction, context.reached_m, context.stopped_by = rays[0].direction, rays[0].reached_m, rays[0].stopped_by
    context.rays = tuple(rays) if len(rays) > 1 else ()
    if met:
        strike(context, met)


def cast_shot(context: Context) -> tuple[float, str | None]:
    """Send one ray through the level and the rewound hitboxes; returns how far it went and what stopped it.

    Works out `context.hit`.
    """
    view, weapon, history = context.view, context.weapon, context.history
    origin, direction = context.ray()
    if view is None or weapon is None:  # pragma: no cover - the checks before deny
        raise AssertionError("a shot is cast only after its view and weapon were worked out")
    entity, wall = context.actor.entity, None
    context.kept = 1.0
    if context.level is None:
        ray = (*origin, *direction)
        hit = history.nearest_along(ray, *context.slots, view.fraction, weapon.range_m, entity)
    else:
        wall, hit = history.first_on_path(
            context.level, origin, direction, context.slots, view.fraction, weapon.range_m, entity
        )
    if weapon.penetration > 0.0 and _may_pass(context, wall, hit):
        return send_through(context, weapon, view.fraction)
    context.hit = hit
    if hit is not None:
        context.steps.append(Step("rewind", hit.entity, hit.part.name, "entity"))
        return hit.distance_m, f"entity {hit.entity}"
    if wall is not None:
        context.steps.append(Step("level", wall.distance_m, wall.surface.name, "m"))
        return wall.distance_m, wall.surface.name
    context.steps.append(Step("rewind", "nobody"))
    return weapon.range_m, None


def _may_pass(context: Context, wall: LevelHit | None, hit: PartHit | None) -> bool:
    """Whether penetration can make a difference: what comes first lets shots through, or the shot starts inside it."""
    if wall is not None and wall.facing > 0.0:
        return True
    if hit is not None:
        return context.history.rig_of(hit.entity).passable
    return wall is not None and wall.surface.resistance_per_m < float("inf")


def strike(context: Context, met: list[Met]) -> None:
    """Apply the server's damage to whoever was hit, in the present: one wound a victim, one hit a part."""
    weapon, origin = context.weapon, context.origin
    if weapon is None or origin is None:  # pragma: no cover
        return
    victims: dict[int, list[Met]] = {}
    for one in met:
        victims.setdefault(one.hit.entity, []).append(one)
    hits: list[Hit] = []
    for entity, mets in victims.items():
        points = [m.kept * context.charge * weapon.damage_at(m.hit.distance_m, m.hit.part.zone) for m in mets]
        whole = sum(points)
        hardest = mets[max(range(len(mets)), key=points.__getitem__)].hit.part
        amount, wound = apply_harm(context, context.roster.actors[entity], Harm(hardest, whole), "shot")
        context.damage += wound.before - wound.after
        share = amount / whole if whole > 0.0 else 0.0
        parts: dict[int, list[int]] = {}
        for k, m in enumerate(mets):
            parts.setdefault(m.hit.part_index, []).append(k)
        for rows in parts.values():
            first = mets[rows[0]]
            part, t = first.hit.part, first.hit.distance_m
            (ox, oy, oz), (dx, dy, dz) = origin, first.direction
            point = (ox + dx * t, oy + dy * t, oz + dz * t)
            dealt = share * sum(points[k] for k in rows)
            changed = (dealt, wound.before, wound.after, wound.lethal, len(rows))
            hits.append(Hit(entity, part.name, part.zone, part.side, t, point, *changed))
    context.hits = tuple(hits)
