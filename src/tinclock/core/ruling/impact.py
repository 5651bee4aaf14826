"""Impact claims: what a client says its projectile hit, against the server's own flight."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.flights import Awaited
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.checks.form import as_triple
from tinclock.core.ruling.flying import burst_there, claimed_words, damage_directly, work_of
from tinclock.core.ruling.work import DamageWork

if TYPE_CHECKING:
    from tinclock.core.combat.flights import Impact, Projectile
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import ImpactClaim


MAX_AHEAD_S = 0.25
"""A claim is never held against more of the future than this: nobody can have drawn it yet."""
MAX_AWAITED = 8
"""Maximum number of claims of one projectile that wait for the server's flight; further ones get the same answer."""


class ImpactWork(DamageWork):
    """An impact claim. projectile : what it is about; impact : the server's own that is meant, None: still to come."""

    projectile: Projectile
    impact: Impact | None = None


def check_projectile(claim: ImpactClaim, work: ImpactWork) -> Finding | None:
    """Find `unknown_projectile` or `wrong_projectile`."""
    flights = work.flights
    one = flights.live.get(claim.projectile) or flights.past.get(claim.projectile)
    work.steps.append(Measure.PROJECTILE.step(claim.projectile, flights.issued))
    if one is None:
        return work.find("unknown_projectile", claim.projectile, flights.issued)
    if one.actor is not work.actor:
        return work.find("wrong_projectile", detail=f"of entity {one.actor.entity}")
    work.projectile, work.weapon = one, one.weapon
    return None


def check_impact(claim: ImpactClaim, work: ImpactWork) -> Finding | None:
    """Find `projectile_over` or `no_impact`; works out the server's own impact that is meant."""
    one = work.projectile
    rules, at = one.rules, one.started + float(claim.flight_time_s)
    bodies = [impact for impact in one.impacts if impact.victim]
    impact = min(bodies, key=lambda found: abs(found.server_time - at), default=None)
    if impact is not None and abs(impact.server_time - at) <= max(rules.claim_time_tolerance_s, rules.claim_window_s):
        work.impact = impact
        return None
    if (
        not one.over
        and work.flights.flown_to(one) <= at + rules.claim_time_tolerance_s
        and at <= work.received_at + MAX_AHEAD_S
    ):
        return _await(claim, one, at, work)
    if one.over:
        work.steps.append(Measure.PROJECTILE_ENDED_AT.step(one.ended_at, at))
        if at > one.ended_at + rules.claim_time_tolerance_s:
            return work.find("projectile_over", at, one.ended_at, one.over)
    work.steps.append(Measure.IMPACT_OF_THE_SERVERS_OWN.step("none", "one"))
    said = claimed_words(claim.victim, float(claim.flight_time_s))
    off = work.flights.off_its_way(one, as_triple(claim.position) or one.origin, at, rules.claim_time_tolerance_s)
    if off is None:
        return work.find("no_impact", detail=said)
    work.steps.append(Measure.CLAIM_OFF_ITS_WAY_BY.step(off, rules.claim_position_tolerance_m))
    if off <= rules.claim_position_tolerance_m:
        return work.find("no_impact", detail=said)
    return work.find("no_impact", off, rules.claim_position_tolerance_m, said)


def _await(claim: ImpactClaim, one: Projectile, at: float, work: ImpactWork) -> Finding | None:
    """Leave a claim that is ahead of the flight until the server gets there: an answer now would tell the future.

    Only a place that the projectile never passes is found at once: its way is no secret.
    """
    work.steps.append(Measure.IMPACT_AHEAD_OF_THE_POSES_BY.step(max(0.0, at - work.flights.flown_to(one))))
    off, limit = (
        work.flights.off_its_way(one, as_triple(claim.position) or one.origin, at, one.rules.claim_time_tolerance_s),
        (one.rules.claim_position_tolerance_m),
    )
    if off is not None and off > limit:
        work.steps.append(Measure.CLAIM_OFF_ITS_WAY_BY.step(off, limit))
        return work.find("no_impact", off, limit, claimed_words(claim.victim, float(claim.flight_time_s)))
    return None


def check_impact_time(claim: ImpactClaim, work: ImpactWork) -> Finding | None:
    """Find `impact_time_differs` for a claim that is further off in time than the rules allow."""
    one, impact = work.projectile, work.impact
    if impact is None:
        return None
    off, limit = abs(one.started + float(claim.flight_time_s) - impact.server_time), one.rules.claim_time_tolerance_s
    work.steps.append(Measure.IMPACT_OFF_IN_TIME_BY.step(off, limit))
    return work.find("impact_time_differs", off, limit) if off > limit else None


def check_impact_place(claim: ImpactClaim, work: ImpactWork) -> Finding | None:
    """Find `impact_position_differs` for a claim that is further off in place than the rules allow."""
    one, impact = work.projectile, work.impact
    if impact is None:
        return None
    off = math.dist(as_triple(claim.position) or (0.0, 0.0, 0.0), impact.position)
    limit = one.rules.claim_position_tolerance_m
    work.steps.append(Measure.IMPACT_OFF_IN_PLACE_BY.step(off, limit))
    return work.find("impact_position_differs", off, limit) if off > limit else None


def commit_impact(claim: ImpactClaim, work: ImpactWork) -> None:
    """Do the damage that waited for this claim, by the server's own result, in the present."""
    one, impact = work.projectile, work.impact
    if impact is None:
        if len(one.awaited) < MAX_AWAITED:
            at = one.started + float(claim.flight_time_s)
            one.awaited.append(Awaited(claim.sequence, at, claim.victim, claim.part))
        work.steps.append(Measure.DAMAGE_APPLIED.step("when the poses get there"))
        return
    pending = next((waiting for waiting in one.pending if waiting is impact), None)
    if pending is None:
        work.steps.append(Measure.DAMAGE_APPLIED.step("was done before"))
        return
    one.pending.remove(pending)
    if work.received_at - pending.server_time > one.rules.claim_window_s:
        work.steps.append(Measure.DAMAGE_APPLIED.step("lapsed", one.rules.claim_window_s))
        return
    then = work_of(work.world, one, pending.server_time)
    work.slots, work.view, work.view_time = then.slots, then.view, then.view_time
    work.charge = one.charge
    if pending.victim in work.roster.actors:
        parts = work.history.rig_of(pending.victim).parts
        part = next(part for part in parts if part.name == pending.part)
        damage_directly(one, work, pending.victim, part, impact.position)
    else:
        work.steps.append(Measure.DAMAGE_APPLIED.step("its victim has left"))
    if one.over:
        burst_there(one, work, impact.position, pending.victim)


def check_impact_victim(claim: ImpactClaim, work: ImpactWork) -> Finding | None:
    """Find `victim_differs` or `part_differs`: the server's own result stands."""
    impact = work.impact
    if impact is None:
        return None
    work.steps.append(Measure.CLAIMED_VICTIM.step(claim.victim, impact.victim))
    if claim.victim != impact.victim:
        return work.find("victim_differs", detail=f"claimed entity {claim.victim}, found {impact.victim}")
    if claim.part is not None and claim.part != impact.part:
        work.steps.append(Measure.CLAIMED_PART.step(claim.part, impact.part))
        return work.find("part_differs", detail=f"claimed {claim.part[:40]!a}, found {impact.part}")
    return None
