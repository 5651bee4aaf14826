"""Launches: what flies is checked like a shot, gets its id from the server, and is told to everybody once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.acts.flight import end_flight
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.combat.flights import Projectile


def perform_launch(claim: object, context: Context) -> None:
    """Let fly, one projectile a way; the oldest of too many ends."""
    context.aim = context.direction
    weapon, actor, flights = context.weapon, context.actor, context.flights
    if context.findings and context.eye and any(f.code in ("muzzle_far", "muzzle_blocked") for f in context.findings):
        context.origin = context.eye
    origin, now = context.origin, context.received_at
    if weapon is None or weapon.rules.flight is None or origin is None:  # pragma: no cover - the checks before deny
        return
    rules = weapon.rules.flight
    seen = now if context.view_time is None else min(context.view_time, now)
    started = seen if rules.compensation == "launch" else now
    launched: list[Projectile] = []
    for x, y, z in context.ways:
        velocity = (rules.speed_m_s * x, rules.speed_m_s * y, rules.speed_m_s * z)
        one = flights.launch(actor, context.line, weapon, origin, velocity, started, now - seen)
        one.sequence, one.charge = context.sequence, context.charge
        launched.append(one)
        context.ledger.bulletin.tell(
            "launch", started, actor.entity, weapon=weapon.name, projectile=one.number, sequence=one.sequence,
            place=origin, velocity=velocity, motion=one.motion, until=float(flights.last_of(one)),
        )  # fmt: skip
    context.projectiles = tuple(one.number for one in launched)
    context.steps.append(Step("launched", ", ".join(map(str, context.projectiles)), rules.compensation))
    mine = [one for one in flights.of(actor.entity) if one.weapon is weapon]
    for one in mine[: max(0, len(mine) - rules.most_live)]:
        end_flight(context.world, one, now, "replaced")
