"""Status reports: what a client believes of itself, against what the server held while news was under way."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.checks.view import latest_age, sparser_by
from tinclock.core.records import Step

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.checks.context import Context
    from tinclock.core.claims import StatusClaim
    from tinclock.core.records import Finding


def _oldest(context: Context) -> float:
    """Server time of the oldest news that the client may still believe: trip, jitter and allowance ago."""
    age = latest_age(context.line, context.rules) + sparser_by(context.history, context.rules)
    return context.received_at - min(age, max(context.rules.match.history_s, 1.0))


def _beyond(claimed: float, known: Sequence[float]) -> tuple[float, float]:
    """How far a belief lies outside everything that was true lately, and the nearest of it."""
    low, high = min(known), max(known)
    nearest = min(max(claimed, low), high)
    return abs(claimed - nearest), nearest


def _compare(context: Context, name: str, claimed: float, known: Sequence[float], slack: float) -> Finding | None:
    beyond, nearest = _beyond(claimed, known)
    context.steps.append(Step(f"believed {name}", claimed, nearest, "points" if name != "ammunition" else "shots"))
    if beyond <= slack:
        return None
    return context.find(f"{name}_differs", claimed, nearest, "points" if name != "ammunition" else "shots")


def check_health(claim: StatusClaim, context: Context) -> Finding | None:
    """Find `health_differs`."""
    if claim.health is None:
        return None
    known = [level.health for level in context.ledger.levels(context.actor.entity, _oldest(context))] or [0.0]
    return _compare(context, "health", claim.health, known, context.rules.status.health_slack)


def check_armour(claim: StatusClaim, context: Context) -> Finding | None:
    """Find `armour_differs`."""
    if claim.armour is None:
        return None
    known = [level.armour for level in context.ledger.levels(context.actor.entity, _oldest(context))] or [0.0]
    return _compare(context, "armour", claim.armour, known, context.rules.status.health_slack)


def check_rounds(claim: StatusClaim, context: Context) -> Finding | None:
    """Find `ammunition_differs` for more than the magazine holds: fewer may be shots that are still under way."""
    held = context.actor.weapons.get(context.actor.wielded)
    if claim.ammunition is None or held is None or held.magazine is None:
        return None
    rounds = held.rounds_at(context.received_at + context.rules.cadence.allowance_s)[0] or 0
    full = held.weapon.rules.magazine or 0
    seen = context.received_at - _oldest(context)
    in_flight = math.ceil(seen / held.cadence.interval_s) if claim.ammunition > rounds else 0
    known = [0.0, float(min(full, rounds + in_flight))]
    return _compare(context, "ammunition", float(claim.ammunition), known, context.rules.status.ammunition_slack)


def check_place(claim: StatusClaim, context: Context) -> Finding | None:
    """Find `position_differs` for a place far from everywhere the server had the body lately."""
    stride, rules = context.actor.stride, context.rules
    if claim.position is None or stride is None or rules.movement is None:
        return None
    since = _oldest(context)
    apart = min(math.dist(claim.position, place) for place in stride.places(since))
    ahead = rules.movement.speed_m_s * (context.received_at - since)
    limit = rules.status.position_slack_m + ahead
    context.steps.append(Step("believed place off by", apart, limit, "m"))
    return context.find("position_differs", apart, limit, "m") if apart > limit else None


def perform_status(claim: object, context: Context) -> None:
    """Nothing changes: the receipt says what is true."""
