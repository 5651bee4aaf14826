"""Prices of weapons and items in counters of the game's own, and conditions; a price is paid with the commit."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.work import Work


def check_price(claim: object, work: Work) -> Finding | None:
    """Find `cannot_afford` for a counter that the price would take below its minimum, or `condition_not_met`."""
    priced, counters = work.priced(), work.ledger.counters(work.actor.entity)
    if priced is not None:
        for name, least in priced.requires.items():
            work.steps.append(Measure.CONDITION.step(counters[name], least))
            if counters[name] < least:
                return work.find("condition_not_met", counters[name], least, name)
        effects = work.ledger.effects(work.actor.entity) if priced.blocked_by else {}
        for effect in priced.blocked_by:
            if effect in effects and effects[effect][0] > work.received_at:
                work.steps.append(Measure.BLOCKED_BY.step(effect))
                return work.find("condition_not_met", detail=effect)
    for name, price in work.costs().items():
        left = counters[name] - work.rules.counters[name].min_value
        work.steps.append(Measure.PRICE.step(left, price))
        if left < price:
            return work.find("cannot_afford", left, price, name)
    return None


def pay(work: Work, cause: str) -> None:
    """Take the price of a claim that is committed from its actor's counters, and tell it."""
    ledger, entity = work.ledger, work.actor.entity
    for name, price in work.costs().items():
        ledger.count(entity, name, ledger.counters(entity)[name] - price, work.received_at, cause)
