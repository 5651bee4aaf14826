"""Damage to somebody, by the rules of the match: team-mates, oneself, armour, shields, those who can't be harmed."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.ledger import Blow, Wound
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.combat.roster import Participant
    from tinclock.core.geometry.rig import Part


class Harm(NamedTuple):
    """What a hit on a part does before the rules of the match: points, and the part."""

    part: Part
    amount: float


def untouchable(context: Context, victim: Participant) -> str:
    """Why nothing is applied to the victim in the present, "" when there is no reason."""
    view, history = context.view, context.history
    if history.rig_of(victim.entity).blocks_only:
        return "takes no damage"
    if victim.entity in context.ledger.dead:
        return "died since the view"
    if victim.life_epoch > 1 and view is not None:
        slot = context.slots[view.fraction >= 1.0]
        if history.epoch_in(victim.entity, slot) < victim.life_epoch:
            return "respawned since the view"
    ledger = context.ledger
    if ledger.effects(victim.entity) and ledger.shielded(victim.entity, context.received_at):
        return "shielded"
    return ""


def apply_harm(context: Context, victim: Participant, harm: Harm, cause: str) -> tuple[float, Wound]:
    """Do the damage to whoever takes it; returns the points meant for the victim and what they changed of it."""
    weapon, actor, ledger, rules = context.weapon, context.actor, context.ledger, context.rules.harm
    reason = untouchable(context, victim)
    amount = harm.amount
    boost = ledger.boosted(actor.entity, context.received_at)
    if boost != 1.0:
        amount *= boost
    friendly = not reason and victim is not actor and victim.team == actor.team != ""
    reflected = friendly and rules.friendly_fire == "reflected"
    if friendly:
        if rules.friendly_fire == "none" or rules.friendly_share == 0.0:
            reason = "team-mate"
        elif reflected:
            reason = "team-mate: the shooter takes it"
        amount *= rules.friendly_share
    elif victim is actor:
        amount *= rules.self_share
    if not reason and amount == 0.0:
        reason = "out of the shot's reach"
    context.steps.append(Step("victim", reason or "alive"))
    name, zone = "" if weapon is None else weapon.name, harm.part.zone
    covered = rules.armour_share * (1.0 - (0.0 if weapon is None else weapon.rules.armour_piercing))
    if covered > 0.0:
        zones = context.rules.rigs[victim.rig].armour_zones
        covered = covered if not zones or zone in zones else 0.0
    if reflected:
        blow = Blow("reflected", actor.entity, name, harm.part.name, covered)
        ledger.wound(actor.entity, amount, context.received_at, blow)
    if reason:
        amount = 0.0
    blow = Blow(cause, actor.entity, name, harm.part.name, covered)
    wound = ledger.wound(victim.entity, amount, context.received_at, blow)
    if weapon is not None and weapon.rules.lasting is not None and not reason and not wound.lethal:
        after = blow._replace(cause="lasting", covered=0.0)
        ledger.linger(victim.entity, weapon.rules.lasting, context.received_at, after)
    context.steps.append(Step("damage", amount, unit="points"))
    return amount, wound
