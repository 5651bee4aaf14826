"""What a shot that passed its checks really did: rays through the level and the rewound hitboxes, and the damage."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import Struct

from tinclock.core.acts.harm import apply_harm
from tinclock.core.acts.penetration import send_through
from tinclock.core.records import Hit, Ray, Step
from tinclock.core.timeline.bodies import speed_now
from tinclock.core.timeline.cover import Obstacle

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import ShotClaim, Triple
    from tinclock.core.combat.held import Held
    from tinclock.core.combat.ledger import Wound
    from tinclock.core.geometry.level import LevelHit
    from tinclock.core.records import Finding
    from tinclock.core.timeline.history import PartHit


def check_number(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `shots_skipped` where the shot's number isn't the next of a weapon whose spread goes by it."""
    held = context.held
    if held is None or held.scatter.plain or held.is_next(claim.shot):
        return None
    context.steps.append(Step("number of the shot", claim.shot, held.shots + 1))
    detail = "drawn from the server's own stream"
    return context.find("shots_skipped", claim.shot, held.shots + 1, "", detail)


def spend_shot(claim: ShotClaim, context: Context) -> None:
    """Spend the shot, and work out where its rays go."""
    held, aim = context.held, context.direction
    if held is None or aim is None:  # pragma: no cover - the checks before deny
        return
    now = context.received_at
    held.settle(now + context.rules.cadence.allowance_s)
    held.spend(now, context.charge)
    if context.actor.entity in context.ledger.affected:
        context.ledger.drop_shield(context.actor.entity, now)
    if held.scatter.plain:
        held.shots += 1
        context.shot = held.shots
        context.ways = (aim,) * held.weapon.rules.pellets
        return
    context.shot, own = held.number(claim.shot, context.rules.cadence.most_skipped)
    _scatter(held, aim, claim.client_time, own, context)


def _scatter(held: Held, aim: Triple, client_time: float | None, own: bool, context: Context) -> None:
    at, speed = held.pace(context.received_at, client_time), 0.0
    spread, number = held.weapon.rules.spread, context.shot or 1
    if spread is not None and spread.moving_deg > 0.0:
        speed = speed_now(context.history, context.actor.entity)
    if spread is not None:
        context.steps.append(Step("spread", held.scatter.spread_rad(at, speed), unit="rad"))
    key = None if own else context.actor.secret
    context.ways = tuple(held.scatter.rays(aim, at, number, speed, key))


class Met(Struct, frozen=True, gc=False):
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
    for way in context.ways:
        context.direction = way
        reached, stopped_by = cast_shot(context)
        if context.hit is not None:
            met.append(Met(context.hit, way, context.kept))
        rays.append((way, reached, stopped_by))
    context.direction, context.reached_m, context.stopped_by = rays[0]
    if len(rays) > 1:
        context.rays = tuple(Ray(*ray) for ray in rays)
    if len(met) == 1:
        context.hits = _strike(context, met[0].hit.entity, met)
    elif met:
        victims: dict[int, list[Met]] = {}
        for one in met:
            victims.setdefault(one.hit.entity, []).append(one)
        context.hits = tuple(hit for entity, mets in victims.items() for hit in _strike(context, entity, mets))


def cast_shot(context: Context) -> tuple[float, str | None]:
    """Send one ray through the level and the rewound hitboxes; returns how far it went and what stopped it.

    Works out `context.hit`: somebody's hitbox. What only stands in the way, a door or a wall, stops the shot and is
    nobody's hit.
    """
    view, weapon, history = context.view, context.weapon, context.history
    origin, direction = context.origin, context.direction
    if view is None or weapon is None or origin is None or direction is None:  # pragma: no cover - denied before
        raise AssertionError("a shot is cast only after its ray, view and weapon were worked out")
    entity, wall = context.actor.entity, None
    context.kept = 1.0
    if context.level is None:
        ray = (*origin, *direction)
        hit = history.nearest_along(ray, *context.slots, view.fraction, weapon.range_m, entity)
    else:
        wall, hit = history.first_on_path(
            context.level, origin, direction, context.slots, view.fraction, weapon.range_m, entity
        )
    stop = None if wall is None else Obstacle(wall.distance_m, wall.surface.name)
    if weapon.penetration > 0.0 and _may_pass(context, wall, hit):
        reach, stop = send_through(context, weapon)
    else:
        reach, context.hit = weapon.range_m if stop is None else stop.distance_m, hit
        if hit is not None and history.rig_of(hit.entity).blocks_only:
            stop, context.hit = Obstacle(hit.distance_m, history.rig_of(hit.entity).name, hit.entity), None
            reach = hit.distance_m
    if context.hit is not None:
        context.steps.append(Step("rewind", context.hit.entity, context.hit.part.name, "entity"))
        return context.hit.distance_m, f"entity {context.hit.entity}"
    if stop is not None:
        context.cover.add(stop.entity)
        context.steps.append(Step("cover" if stop.entity else "level", stop.distance_m, stop.name, "m"))
        return stop.distance_m, stop.name
    context.steps.append(Step("nobody hit within", weapon.range_m, unit="m"))
    return reach, None


def _may_pass(context: Context, wall: LevelHit | None, hit: PartHit | None) -> bool:
    """Whether penetration can make a difference: something was passed already, what comes first lets shots through, or
    the shot starts inside it.
    """
    if context.paid > 0.0 or (wall is not None and wall.facing > 0.0):
        return True
    if hit is not None:
        return context.history.rig_of(hit.entity).passable
    return wall is not None and wall.surface.resistance_per_m < float("inf")


def _strike(context: Context, entity: int, mets: list[Met]) -> tuple[Hit, ...]:
    """Apply the server's damage to one victim, in the present: one wound, and one hit for each part of it."""
    weapon, origin = context.weapon, context.origin
    if weapon is None or origin is None:  # pragma: no cover
        return ()
    points = [one.kept * context.charge * weapon.damage_at(one.hit.distance_m, one.hit.part.zone) for one in mets]
    whole = points[0] if len(points) == 1 else sum(points)
    hardest = mets[points.index(max(points))].hit.part
    amount, wound = apply_harm(context, context.roster.actors[entity], hardest, whole, "shot")
    context.damage += wound.before - wound.after
    if len(mets) == 1:
        return (_hit(mets[0], origin, amount, wound, 1),)
    share = amount / whole if whole > 0.0 else 0.0
    parts: dict[int, list[int]] = {}
    for k, one in enumerate(mets):
        parts.setdefault(one.hit.part_index, []).append(k)
    return tuple(
        _hit(mets[rows[0]], origin, share * sum([points[k] for k in rows]), wound, len(rows)) for rows in parts.values()
    )


def _hit(met: Met, origin: Triple, dealt: float, wound: Wound, times: int) -> Hit:
    hit, (dx, dy, dz), (ox, oy, oz) = met.hit, met.direction, origin
    part, t = hit.part, hit.distance_m
    return Hit(
        hit.entity, part.name, part.zone, part.side, t, (ox + dx * t, oy + dy * t, oz + dz * t), dealt, wound.before,
        wound.after, wound.lethal, times,
    )  # fmt: skip
