"""Impact claims: what a client says its projectile hit, against the server's own flight."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.acts.flight import context_of, harm_directly
from tinclock.core.acts.splash import burst
from tinclock.core.checks.form import as_triple
from tinclock.core.combat.flights import Impact
from tinclock.core.records import Step
from tinclock.core.timeline import flown

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import ImpactClaim
    from tinclock.core.combat.flights import Projectile
    from tinclock.core.records import Finding


MOST_AHEAD_S = 0.25
"""A claim is never held against more of the future than this: nobody can have drawn it yet."""


def _claimed(claim: ImpactClaim, context: Context) -> Projectile:
    flights = context.flights
    return flights.live.get(claim.projectile) or flights.past[claim.projectile]


def check_projectile(claim: ImpactClaim, context: Context) -> Finding | None:
    """Find `unknown_projectile` or `foreign_projectile`."""
    flights = context.flights
    one = flights.live.get(claim.projectile) or flights.past.get(claim.projectile)
    context.steps.append(Step("projectile", claim.projectile, flights.issued))
    if one is None:
        return context.find("unknown_projectile", claim.projectile, flights.issued)
    if one.actor is not context.actor:
        return context.find("foreign_projectile", detail=f"of entity {one.actor.entity}")
    context.weapon = one.weapon
    return None


def check_impact(claim: ImpactClaim, context: Context) -> Finding | None:
    """Find `flight_over` or `no_impact`; works out the server's own impact that is meant."""
    one = _claimed(claim, context)
    rules, at = one.flight, one.started + float(claim.flown_s)
    bodies = [impact for impact in one.impacts if impact.victim]
    impact = min(bodies, key=lambda found: abs(found.server_time - at), default=None)
    if impact is not None and abs(impact.server_time - at) <= max(rules.claim_time_s, rules.claim_window_s):
        context.impact = impact
        return None
    if not one.over and (impact := _foreseen(one, at, context)) is not None:
        context.impact = impact
        return None
    if one.over:
        context.steps.append(Step("flight was over at", one.ended_at, at, "s"))
        if at > one.ended_at + rules.claim_time_s:
            return context.find("flight_over", at, one.ended_at, "s", one.over)
    context.steps.append(Step("impact of the server's own", "none", "one"))
    return context.find("no_impact", detail=f"claimed entity {claim.victim} after {float(claim.flown_s):.3f} s")


def _foreseen(one: Projectile, at: float, context: Context) -> Impact | None:
    """The impact that the server will come to, for a claim that is ahead of the newest poses."""
    now = context.received_at
    until = min(max(at, now), now + MOST_AHEAD_S) + one.flight.claim_time_s
    contact = context.flights.foresee(one, until)
    if contact is None or contact.kind != flown.BODY:
        return None
    entity, _, part = context.history.columns.named(contact.column, contact.part_row)
    context.steps.append(Step("impact ahead of the poses by", contact.at - context.history.newest_time, unit="s"))
    return Impact(contact.at, context.flights.place_at(one, contact.at), entity, part.name)


def check_impact_time(claim: ImpactClaim, context: Context) -> Finding | None:
    """Find `impact_time_differs` for a claim that is further off in time than the rules allow."""
    one, impact = _claimed(claim, context), _meant(context)
    off, limit = abs(one.started + float(claim.flown_s) - impact.server_time), one.flight.claim_time_s
    context.steps.append(Step("impact off in time by", off, limit, "s"))
    return context.find("impact_time_differs", off, limit, "s") if off > limit else None


def check_impact_place(claim: ImpactClaim, context: Context) -> Finding | None:
    """Find `impact_place_differs` for a claim that is further off in place than the rules allow."""
    one, impact = _claimed(claim, context), _meant(context)
    off = math.dist(as_triple(claim.position) or (0.0, 0.0, 0.0), impact.place)
    limit = one.flight.claim_place_m
    context.steps.append(Step("impact off in place by", off, limit, "m"))
    return context.find("impact_place_differs", off, limit, "m") if off > limit else None


def _meant(context: Context) -> Impact:
    if context.impact is None:  # pragma: no cover - `check_impact` denies
        raise AssertionError("an impact is asked for only after check_impact")
    return context.impact


def perform_impact(claim: ImpactClaim, context: Context) -> None:
    """Do the harm that waited for this claim, by the server's own result, in the present."""
    one, impact = _claimed(claim, context), _meant(context)
    if impact not in one.impacts:
        one.claimed = True
        context.steps.append(Step("harm", "when the poses get there"))
        return
    pending = next((waiting for waiting in one.pending if waiting is impact), None)
    if pending is None:
        context.steps.append(Step("harm", "was done before"))
        return
    one.pending.remove(pending)
    if context.received_at - pending.server_time > one.flight.claim_window_s:
        context.steps.append(Step("harm", "lapsed", one.flight.claim_window_s, "s"))
        return
    then = context_of(context.world, one, pending.server_time)
    context.slots, context.view, context.view_time = then.slots, then.view, then.view_time
    context.charge = one.charge
    if pending.victim in context.roster.actors:
        parts = context.history.rig_of(pending.victim).parts
        part = next(part for part in parts if part.name == pending.part)
        harm_directly(one, context, pending.victim, part, impact.place)
    else:
        context.steps.append(Step("harm", "its victim has left"))
    if one.over and one.weapon.rules.splash is not None:
        burst(one, context, impact.place, pending.victim)


def check_impact_victim(claim: ImpactClaim, context: Context) -> Finding | None:
    """Find `victim_differs` or `part_differs`: the server's own result stands."""
    impact = _meant(context)
    context.steps.append(Step("claimed victim", claim.victim, impact.victim, "entity"))
    if claim.victim != impact.victim:
        return context.find("victim_differs", detail=f"claimed entity {claim.victim}, found {impact.victim}")
    if claim.part is not None and claim.part != impact.part:
        context.steps.append(Step("claimed part", claim.part, impact.part))
        return context.find("part_differs", detail=f"claimed {claim.part[:40]!a}, found {impact.part}")
    return None
