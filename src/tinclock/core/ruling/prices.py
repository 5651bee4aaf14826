"""Prices of weapons and items in counters of the game's own: checked before the commit, and paid with it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.work import Work


def check_price(claim: object, work: Work) -> Finding | None:
    """Find `cannot_afford` for a counter that the price would take below its minimum."""
    counters = work.ledger.counters(work.actor.entity)
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
