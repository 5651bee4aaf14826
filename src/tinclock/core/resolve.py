"""What a shot that passed its checks really did: the ray through the level and the rewound hitboxes, and the damage."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.penetration import send_through
from tinclock.core.records import Hit, Step

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.checks.context import Context
    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.level import LevelHit
    from tinclock.core.timeline.history import PartHit


def cast_shot(context: Context) -> tuple[float, str | None]:
    """Send the ray through the level and the rewound hitboxes; returns how far it went and what stopped it.

    Works out `context.hit`.
    """
    view, weapon, history = context.view, context.weapon, context.history
    if view is None or weapon is None:  # pragma: no cover - both checks deny, whatever the rules say
        raise AssertionError("a shot is cast only after its view and weapon were worked out")
    entity, wall = context.actor.entity, None
    if context.level is None:
        ray = (*context.origin, *context.direction)
        hit = history.nearest_along(ray, *context.slots, view.fraction, weapon.range_m, entity)
    else:
        wall, hit = history.first_on_path(
            context.level, context.origin, context.direction, context.slots, view.fraction, weapon.range_m, entity
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


def _untouchable(context: Context, victim: Participant) -> str:
    """Why nothing is applied to the victim in the present, "" when there is no reason."""
    hit, view, history = context.hit, context.view, context.history
    if hit is None or view is None:
        return "nobody"
    if history.rig_of(hit.entity).blocks_only:
        return "takes no damage"
    if hit.entity in context.ledger.dead:
        return "died since the view"
    if victim.life_epoch > 1 and history.epoch_in(hit.entity, context.slots[view.fraction >= 1.0]) < victim.life_epoch:
        return "respawned since the view"
    return ""


def strike(context: Context, actors: Mapping[int, Participant]) -> tuple[Hit, ...]:
    """Apply the server's damage to whoever was hit, in the present."""
    hit, weapon, steps = context.hit, context.weapon, context.steps
    if hit is None or weapon is None:
        return ()
    victim, part = actors[hit.entity], hit.part
    reason = _untouchable(context, victim)
    friendly = victim.team == context.actor.team != ""
    share = context.kept * (context.rules.match.friendly_fire if friendly else 1.0)
    if not reason and share == 0.0:
        reason = "team-mate" if friendly else "out of the shot's reach"
    amount = 0.0 if reason else share * weapon.damage_at(hit.distance_m, part.zone)
    steps.append(Step("victim", reason or "alive"))
    wound = context.ledger.wound(hit.entity, amount, context.received_at, context.actor.entity, weapon.name, part.name)
    context.damage = wound.before - wound.after
    steps.append(Step("damage", amount, unit="points"))
    (ox, oy, oz), (dx, dy, dz), t = context.origin, context.direction, hit.distance_m
    point = (ox + dx * t, oy + dy * t, oz + dz * t)
    return (
        Hit(hit.entity, part.name, part.zone, part.side, t, point, amount, wound.before, wound.after, wound.lethal),
    )
