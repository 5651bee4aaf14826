"""Handling a weapon: taking it in hand, reloading, charging, breaking off."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.checks.context import excerpt
from tinclock.core.checks.weapon import excerpt_name
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import HandleClaim
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Participant
    from tinclock.core.records import Finding


def wield(actor: Participant, weapon: str, ledger: Ledger, now: float, *, at_once: bool) -> None:
    """Take another weapon in hand: what was under way with the old one is broken off, the new one gets drawn."""
    if weapon == actor.wielded:
        return
    old, new = actor.weapons.get(actor.wielded), actor.weapons[weapon]
    if old is not None:
        old.settle(now)
        old.put_away()
    actor.squeeze = None
    actor.wielded = weapon
    fired_at = now if old is None else max(now, old.cadence.fired_at)
    new.drawn_at = now if at_once else fired_at + new.weapon.rules.draw_s
    ledger.bulletin.tell("weapon", now, actor.entity, weapon=weapon)


def check_carried(claim: HandleClaim, context: Context) -> Finding | None:
    """Find `unknown_weapon`, or `weapon_not_held` for one that isn't carried (draw) or isn't in hand (the rest)."""
    actor = context.actor
    context.steps.append(Step("weapon", excerpt_name(claim.weapon), actor.wielded))
    if claim.weapon not in context.roster.weapons:
        return context.find("unknown_weapon", detail=excerpt(claim.weapon))
    held = actor.weapons.get(claim.weapon if claim.action == "draw" else actor.wielded)
    if held is None:
        return context.find("unarmed", detail=f"carries {', '.join(actor.weapons) or 'nothing'}")
    context.held, context.weapon = held, held.weapon
    if claim.action != "draw" and claim.weapon != actor.wielded:
        return context.find("weapon_not_held", detail=f"claimed {claim.weapon}, holds {actor.wielded}")
    return None


def check_sensible(claim: HandleClaim, context: Context) -> Finding | None:
    """Find `needless`: a reload of a full magazine or without a reserve, a charge of what has none, a second draw."""
    held, now = context.held, context.received_at
    if held is None:  # pragma: no cover - denied before
        return None
    rules = held.weapon.rules
    reason = ""
    if claim.action == "reload" and not held.can_reload(now):
        reason = "nothing to reload"
    elif claim.action == "charge" and rules.charge_s == 0.0:
        reason = "this weapon has no charge"
    elif claim.action == "draw" and claim.weapon == context.actor.wielded:
        reason = "is in hand"
    context.steps.append(Step("handling", claim.action, reason or None))
    return context.find("needless", detail=reason) if reason else None


def perform_handle(claim: HandleClaim, context: Context) -> None:
    """Do it, on the server's clock."""
    held, now = context.held, context.received_at
    if held is None:  # pragma: no cover - denied before
        return
    held.settle(now)
    match claim.action:
        case "draw":
            wield(context.actor, claim.weapon, context.ledger, now, at_once=False)
        case "reload":
            held.reload(now)
        case "charge":
            held.charge(now)
        case _:
            held.put_away()
