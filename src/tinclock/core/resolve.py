"""What a shot that passed its checks really did: the ray through the level and the rewound hitboxes, and the damage."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Hit, Step

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.checks.context import Context
    from tinclock.core.combat.roster import Actor


def cast_shot(context: Context) -> tuple[float, str | None]:
    """Send the ray through the level and the rewound hitboxes; returns how far it went and what stopped it.

    Works out `context.hit`.
    """
    view, weapon, history, steps = context.view, context.weapon, context.history, context.steps
    if view is None or weapon is None:  # pragma: no cover - both checks deny, whatever the rules say
        raise AssertionError("a shot is cast only after its view and weapon were worked out")
    limit, wall = weapon.range_m, None
    if context.level is not None:
        wall = context.level.first(context.origin, context.direction, limit)
        if wall is not None:
            limit = wall.distance_m
            steps.append(Step("level", f"{wall.surface.name} at {limit:.2f} m", None, "", "ok"))
    context.hit = hit = history.nearest_along(
        (*context.origin, *context.direction),
        history.slot_of(view.from_tick),
        history.slot_of(view.to_tick),
        view.fraction,
        limit,
        context.actor.entity,
    )
    if hit is None:
        steps.append(Step("rewind", "nobody", None, "", "ok"))
        return limit, wall.surface.name if wall else None
    steps.append(Step("rewind", f"entity {hit.entity}, {hit.part.name} at {hit.distance_m:.2f} m", None, "", "ok"))
    return hit.distance_m, f"entity {hit.entity}"


def _untouchable(context: Context, victim: Actor) -> str:
    """Why nothing is applied to the victim in the present, "" when there is no reason."""
    hit, view, history = context.hit, context.view, context.history
    if hit is None or view is None:
        return "nobody"
    tick = view.from_tick if view.fraction < 1.0 else view.to_tick
    if history.rig_of(hit.entity).blocks_only:
        return "takes no damage"
    if history.epoch_at(hit.entity, tick) < victim.life_epoch:
        return "respawned since the view"
    if not context.ledger.alive(hit.entity):
        return "died since the view"
    return ""


def strike(context: Context, actors: Mapping[int, Actor]) -> tuple[Hit, ...]:
    """Apply the server's damage to whoever was hit, in the present."""
    hit, weapon, steps = context.hit, context.weapon, context.steps
    if hit is None or weapon is None:
        return ()
    victim, part = actors[hit.entity], hit.part
    reason = _untouchable(context, victim)
    friendly = victim.team == context.actor.team != ""
    share = context.rules.match.friendly_fire if friendly else 1.0
    if not reason and share == 0.0:
        reason = "team-mate"
    amount = 0.0 if reason else share * weapon.damage_at(hit.distance_m, part.zone)
    steps.append(Step("victim", reason or "alive", None, "", "ok"))
    wound = context.ledger.wound(hit.entity, amount, context.received_at, context.actor.entity, weapon.name, part.name)
    context.damage = wound.before - wound.after
    steps.append(Step("damage", amount, None, "points", "ok"))
    o, d, t = context.origin, context.direction, hit.distance_m
    point = (o[0] + d[0] * t, o[1] + d[1] * t, o[2] + d[2] * t)
    return (
        Hit(hit.entity, part.name, part.zone, part.side, t, point, amount, wound.before, wound.after, wound.lethal),
    )
