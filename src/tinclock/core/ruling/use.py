"""Using an item: whether there is one, it is ready and does anything, and what it does by the server's table."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from msgspec.structs import replace

from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.prices import pay
from tinclock.core.ruling.work import Work
from tinclock.core.text import excerpt, excerpt_name

if TYPE_CHECKING:
    from tinclock.core.combat.items import Stock
    from tinclock.core.combat.receipts import ActorState
    from tinclock.core.combat.roster import Participant
    from tinclock.core.findings import Finding
    from tinclock.core.rules.weapons import ItemRules
    from tinclock.core.ruling.claims import UseClaim


class UseWork(Work):
    """An item that is used. item, stock : which, and what is left of it; target : who gets its effect."""

    stock: Stock

    target: Participant
    item = ""

    @property
    def used(self) -> str:
        """The item's name."""
        return self.item

    def priced(self) -> ItemRules:
        """Return the rules of the item."""
        return self.stock.rules

    def state(self, state: ActorState) -> ActorState:
        """Return the number of items left, and the time of their next use."""
        if not self.item:
            return state
        ready_in_s = max(0.0, self.stock.ready_at - self.received_at)
        return replace(state, item=self.item, items_left=self.stock.count, item_ready_in_s=ready_in_s)


def check_item(claim: UseClaim, work: UseWork) -> Finding | None:
    """Find `unknown_item`, `item_spent` or `item_cooling`."""
    stock = work.actor.items.get(claim.item)
    work.steps.append(Measure.ITEM.step(excerpt_name(claim.item)))
    if stock is None:
        return work.find("unknown_item", detail=excerpt(claim.item))
    work.item, work.stock = claim.item, stock
    work.steps.append(Measure.ITEMS_LEFT.step(float(stock.count), 1.0))
    if stock.count < 1:
        return work.find("item_spent", 0.0, 1.0)
    early, allowance = stock.ready_at - work.received_at, work.rules.fire_rate.tolerance_s
    if stock.rules.cooldown_s > 0.0:
        work.steps.append(Measure.ITEM_COOLS_FOR.step(max(0.0, early), allowance))
    return work.find("item_cooling", early, allowance) if early > allowance else None


def check_target(claim: UseClaim, work: UseWork) -> Finding | None:
    """Find `target_far`: another than oneself, who is no team-mate, not here, or further off than the item reaches.

    Works out the target: oneself, where one that was refused is only flagged.
    """
    work.target = work.actor
    if claim.target is None or claim.target == work.actor.entity:
        return None
    target, limit = work.roster.actors.get(claim.target), work.stock.rules.range_m
    friend = target is not None and target.team == work.actor.team != "" and work.ledger.alive(claim.target)
    apart = math.inf
    if friend:
        here, there = (work.history.eye_now(entity) for entity in (work.actor.entity, claim.target))
        apart = math.inf if here is None or there is None else math.dist(here, there)
    work.steps.append(Measure.TARGET.step(apart if friend else "no team-mate here", limit))
    if target is not None and apart <= limit:
        work.target = target
        return None
    return work.find("target_far", apart if math.isfinite(apart) else None, limit, f"entity {claim.target}")


def check_useful(claim: UseClaim, work: UseWork) -> Finding | None:
    """Find `no_effect`: it would change nothing, and is not used up."""
    target, rules, ledger = work.target, work.stock.rules, work.ledger
    held = target.weapons.get(target.wielded)
    useless = {
        "repair": ledger.health(target.entity) >= ledger.full(target.entity),
        "armour": ledger.armour(target.entity) >= work.rules.damage.max_armour,
        "ammunition": held is None or held.reserve is None,
    }
    if not useless.get(rules.effect, False):
        return None
    work.steps.append(Measure.EFFECT.step("none", rules.effect))
    return work.find("no_effect", detail=f"{rules.effect} would change nothing")


def commit_use(claim: UseClaim, work: UseWork) -> None:
    """Use it up, and do what it does."""
    work.stock.spend(work.received_at)
    pay(work, work.item)
    effect = work.stock.rules.effect
    work.steps.append(Measure.EFFECT.step(_effect(work), effect, unit=_UNITS[effect]))


_UNITS = {"repair": "points", "armour": "points", "shield": "s", "boost": "times", "ammunition": "shots"}


def _effect(work: UseWork) -> float:
    """Apply the item's effect; returns how much it changed, in the effect's unit."""
    rules, target, item = work.stock.rules, work.target, work.item
    ledger, entity, now = work.ledger, target.entity, work.received_at
    if not ledger.enforces:
        return 0.0
    match rules.effect:
        case "repair":
            return ledger.repair(entity, rules.amount, now, work.actor.entity, item)
        case "armour":
            return ledger.reinforce(entity, rules.amount, now, work.actor.entity, item)
        case "shield" | "boost":
            ledger.grant(entity, rules.effect, now + rules.duration_s, rules.amount, now, item)
            return rules.duration_s if rules.effect == "shield" else rules.amount
        case _:
            held = target.weapons[target.wielded]
            held.reserve = (held.reserve or 0) + int(rules.amount)
            return rules.amount
