"""Triggers: the client sends only what its player wants, and the server fires on its own clock."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.held import NEVER
from tinclock.core.combat.roster import HeldTrigger
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.work import AimedWork

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.claims import TriggerClaim


class TriggerWork(AimedWork):
    """A trigger that is pressed, kept down or let go."""


def commit_trigger(claim: TriggerClaim, work: TriggerWork) -> None:
    """Take over what the player wants from now on; a trigger that stays held keeps what is left of its pull."""
    actor, now = work.actor, work.received_at
    work.keep_view(claim.view)
    work.aim = work.direction
    work.steps.append(Measure.TRIGGER.step("held" if claim.held else "let go"))
    if not claim.held:
        actor.held_trigger = None
        work.held.charging_from = NEVER
        return
    lag = now - work.view_time if work.connection.name else 0.0
    before, burst = actor.held_trigger, work.weapon.rules.burst
    if before is not None:
        before.aim, before.lag_s, before.sequence = work.direction, lag, claim.sequence
        return
    pull = None if work.weapon.rules.automatic else 1 if burst is None else burst.shots
    actor.held_trigger = HeldTrigger(work.direction, lag, now, claim.sequence, pull)
    work.world.roster.triggers.add(actor.entity)


def next_shot_at(actor: Participant, now: float) -> float:
    """The server time of the next shot of a held trigger; inf when none comes. An empty magazine begins its reload."""
    held_trigger, held = actor.held_trigger, actor.weapons.get(actor.wielded)
    if held_trigger is None or held is None or held_trigger.left == 0:
        return NEVER
    if held.magazine == 0 and held.can_reload():
        begins = max(held_trigger.since, held.fire_rate.ready_at)
        if begins > now:
            return begins + held.weapon.rules.reload_s
        held.reload(begins)  # at its own instant, not at the tick that finds it due
    ready, charge_s = max(held_trigger.since, held.ready_at()), held.weapon.rules.charge_s
    if charge_s == 0.0 or ready == NEVER:
        return ready
    if held.charging_from == NEVER:
        held.charging_from = ready  # a held trigger charges, and fires at full charge
    return held.charging_from + charge_s
