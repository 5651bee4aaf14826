"""Triggers: the client sends only what its player wants, and the server fires on its own clock."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.held import NEVER
from tinclock.core.combat.roster import Squeeze
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import TriggerClaim
    from tinclock.core.combat.roster import Participant


def perform_trigger(claim: TriggerClaim, context: Context) -> None:
    """Take over what the player wants from now on; a trigger that stays held keeps what is left of its pull."""
    actor, weapon, now = context.actor, context.weapon, context.received_at
    context.aim = context.direction
    context.steps.append(Step("trigger", "held" if claim.held else "let go"))
    if not claim.held or weapon is None or context.direction is None or context.view_time is None:
        actor.squeeze = None
        if context.held is not None:
            context.held.charging_from = NEVER
        return
    lag = now - context.view_time if context.line.name else 0.0
    before = actor.squeeze
    if before is not None:
        before.aim, before.lag_s, before.sequence = context.direction, lag, claim.sequence
        return
    burst = weapon.rules.burst
    pull = None if weapon.rules.automatic else 1 if burst is None else burst.shots
    actor.squeeze = Squeeze(context.direction, lag, now, claim.sequence, pull)


def next_shot_at(actor: Participant, now: float) -> float:
    """The server time of the next shot of a held trigger; inf when none comes. An empty magazine begins its reload."""
    squeeze, held = actor.squeeze, actor.weapons.get(actor.wielded)
    if squeeze is None or held is None or squeeze.left == 0:
        return NEVER
    if held.magazine == 0 and held.can_reload():
        begins = max(squeeze.since, held.cadence.ready_at)
        if begins > now:
            return begins + held.weapon.rules.reload_s
        held.reload(begins)  # at its own instant, not at the tick that finds it due
    ready, charge_s = max(squeeze.since, held.ready_at()), held.weapon.rules.charge_s
    if charge_s == 0.0 or ready == NEVER:
        return ready
    if held.charging_from == NEVER:
        held.charging_from = ready  # a held trigger charges, and fires at full charge
    return held.charging_from + charge_s
