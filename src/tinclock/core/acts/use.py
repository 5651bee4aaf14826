"""Using an item: whether there is one, it is ready and does anything, and what it does by the server's table."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.checks.context import excerpt
from tinclock.core.checks.weapon import excerpt_name
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import UseClaim
    from tinclock.core.combat.roster import Participant
    from tinclock.core.records import Finding
    from tinclock.core.weapon_rules import ItemRules


def check_item(claim: UseClaim, context: Context) -> Finding | None:
    """Find `unknown_item`, `item_spent` or `item_cooling`."""
    stock = context.actor.items.get(claim.item)
    context.steps.append(Step("item", excerpt_name(claim.item)))
    if stock is None:
        return context.find("unknown_item", detail=excerpt(claim.item))
    context.item = claim.item
    context.steps.append(Step("items left", float(stock.count), 1.0))
    if stock.count < 1:
        return context.find("item_spent", 0.0, 1.0, "")
    early, allowance = stock.ready_at - context.received_at, context.rules.cadence.allowance_s
    if stock.rules.cooldown_s > 0.0:
        context.steps.append(Step("item cools for", max(0.0, early), allowance, "s"))
    return context.find("item_cooling", early, allowance, "s") if early > allowance else None


def check_target(claim: UseClaim, context: Context) -> Finding | None:
    """Find `target_far`: another than oneself, who is no team-mate, not here, or further off than the item reaches."""
    if claim.target is None or claim.target == context.actor.entity:
        return None
    target = context.roster.actors.get(claim.target)
    limit = context.actor.items[claim.item].rules.range_m
    friend = target is not None and target.team == context.actor.team != "" and context.ledger.alive(claim.target)
    apart = math.inf
    if friend:
        here, there = (context.history.eye_now(entity) for entity in (context.actor.entity, claim.target))
        apart = math.inf if here is None or there is None else math.dist(here, there)
    context.steps.append(Step("target", apart if friend else "no team-mate here", limit, "m"))
    if apart <= limit:
        return None
    return context.find("target_far", apart if math.isfinite(apart) else None, limit, "m", f"entity {claim.target}")


def _target(claim: UseClaim, context: Context) -> Participant:
    """Who gets the effect: oneself, where a target that was refused is only noted."""
    refused = any(finding.code == "target_far" for finding in context.findings)
    return context.actor if claim.target is None or refused else context.roster.actors[claim.target]


def check_useful(claim: UseClaim, context: Context) -> Finding | None:
    """Find `needless`: it would change nothing, and is not used up."""
    target, rules = _target(claim, context), context.actor.items[claim.item].rules
    ledger, entity = context.ledger, target.entity
    held = target.weapons.get(target.wielded)
    useless = {
        "repair": ledger.health(entity) >= ledger.full(entity),
        "armour": ledger.armour(entity) >= context.rules.harm.most_armour,
        "ammunition": held is None or held.reserve is None,
    }
    if not useless.get(rules.effect, False):
        return None
    context.steps.append(Step("effect", "none", rules.effect))
    return context.find("needless", detail=f"{rules.effect} would change nothing")


def perform_use(claim: UseClaim, context: Context) -> None:
    """Use it up, and do what it does."""
    stock, now = context.actor.items[claim.item], context.received_at
    stock.spend(now)
    changed = _effect(stock.rules, _target(claim, context), claim.item, context)
    context.steps.append(Step("effect", changed, stock.rules.effect, _UNITS[stock.rules.effect]))


_UNITS = {"repair": "points", "armour": "points", "shield": "s", "boost": "times", "ammunition": "shots"}


def _effect(rules: ItemRules, target: Participant, item: str, context: Context) -> float:
    ledger, entity, now = context.ledger, target.entity, context.received_at
    match rules.effect:
        case "repair":
            return ledger.repair(entity, rules.amount, now, context.actor.entity, item)
        case "armour":
            return ledger.reinforce(entity, rules.amount, now, context.actor.entity, item)
        case "shield" | "boost":
            ledger.grant(entity, rules.effect, now + rules.for_s, rules.amount, now, item)
            return rules.for_s if rules.effect == "shield" else rules.amount
        case _:
            held = target.weapons[target.wielded]
            held.reserve = (held.reserve or 0) + int(rules.amount)
            return rules.amount
