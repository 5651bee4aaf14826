"""Status reports: what a client believes of itself, against what the server held while news was under way."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.kernels.dtypes import BODY
from tinclock.core.ruling.check_results import Measure, MeasureKind
from tinclock.core.ruling.checks.lag import hear, screen_sent_at
from tinclock.core.ruling.checks.view import ages
from tinclock.core.ruling.work import Work

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import StatusClaim


NEWS_S = 2.0
"""News of a change have reached a client by the time that it draws a snapshot which was sent so much later."""


class StatusWork(Work):
    """A client's report of its own state."""


def _oldest(work: StatusWork) -> float:
    """Server time of the oldest news that the client may still believe: trip, jitter and allowance ago."""
    _, age = ages(work.connection, work.world.numbers, work.history.snapshot_spacing_s)
    return work.received_at - min(age, max(work.rules.match.history_s, 1.0))


def _beyond(claimed: float, known: Sequence[float]) -> tuple[float, float]:
    """Return the distance of a reported value from everything that was true lately, and the nearest true value."""
    low, high = min(known), max(known)
    nearest = min(max(claimed, low), high)
    return abs(claimed - nearest), nearest


def _compare(
    work: StatusWork, measure: MeasureKind, code: str, claimed: float, known: Sequence[float], slack: float
) -> Finding | None:
    beyond, nearest = _beyond(claimed, known)
    work.steps.append(measure.step(claimed, nearest))
    if beyond <= slack:
        return None
    return work.find(code, claimed, nearest)


def check_health(claim: StatusClaim, work: StatusWork) -> Finding | None:
    """Find `health_differs`."""
    if claim.health is None:
        return None
    known = [level.health for level in work.ledger.levels(work.actor.entity, _oldest(work))] or [0.0]
    return _compare(
        work, Measure.REPORTED_HEALTH, "health_differs", claim.health, known, work.rules.status.health_tolerance
    )


def check_news(claim: StatusClaim, work: StatusWork) -> Finding | None:
    """Find `stale_health` where the status itself names a snapshot that was sent long after its health had changed."""
    sent_at = screen_sent_at(work.history, work.connection, claim.view, work.received_at)
    if claim.health is None or sent_at is None:
        return None
    known = [level.health for level in work.ledger.levels(work.actor.entity, sent_at - NEWS_S)] or [0.0]
    beyond, nearest = _beyond(claim.health, known)
    if beyond <= work.rules.status.health_tolerance:
        return None
    work.steps.append(Measure.HEALTH_ON_ITS_SCREEN.step(claim.health, nearest))
    return work.find("stale_health", claim.health, nearest)


def check_armour(claim: StatusClaim, work: StatusWork) -> Finding | None:
    """Find `armour_differs`."""
    if claim.armour is None:
        return None
    known = [level.armour for level in work.ledger.levels(work.actor.entity, _oldest(work))] or [0.0]
    return _compare(
        work, Measure.REPORTED_ARMOUR, "armour_differs", claim.armour, known, work.rules.status.health_tolerance
    )


def check_rounds(claim: StatusClaim, work: StatusWork) -> Finding | None:
    """Find `ammunition_differs` for more than the magazine holds: fewer may be shots that are still under way."""
    held = work.actor.weapons.get(work.actor.wielded)
    if claim.ammunition is None or held is None or held.magazine is None:
        return None
    rounds = held.rounds_at(work.received_at + work.rules.fire_rate.tolerance_s)[0] or 0
    full = held.weapon.rules.magazine or 0
    seen = work.received_at - _oldest(work)
    in_flight = math.ceil(seen / held.fire_rate.interval_s) if claim.ammunition > rounds else 0
    known = [0.0, float(min(full, rounds + in_flight))]
    return _compare(
        work,
        Measure.REPORTED_AMMUNITION,
        "ammunition_differs",
        float(claim.ammunition),
        known,
        work.rules.status.ammunition_tolerance,
    )


def check_place(claim: StatusClaim, work: StatusWork) -> Finding | None:
    """Find `position_differs` for a place far from everywhere the server had the body lately."""
    accepted, rules = work.actor.accepted, work.rules
    if claim.position is None or accepted is None or rules.movement is None:
        return None
    since, row = _oldest(work), work.actor.numbers
    if max(row[BODY.rode_until], row[BODY.free_until], row[BODY.push_until]) > since:
        return None  # its vehicle or the server moved it, and its screen shows that late
    apart = min(math.dist(claim.position, place) for place in accepted.places(since))
    ahead = rules.movement.speed_m_s * (work.received_at - since)
    limit = rules.status.position_tolerance_m + ahead
    work.steps.append(Measure.REPORTED_POSITION_OFF_BY.step(apart, limit))
    return work.find("position_differs", apart, limit) if apart > limit else None


def commit_status(claim: StatusClaim, work: StatusWork) -> None:
    """Take down the lag that it tells. Nothing else changes: the receipt says what is true."""
    hear(work.history, work.connection, claim.view, claim.client_time, work.received_at, claim.sequence)
