"""Comparison of a client's reported result with the server's. Never used for the result."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import MeleeClaim, ShotClaim
    from tinclock.core.ruling.work import AimedWork

DAMAGE_SLACK = 0.5
"""Points. A client may round its damage for display."""


def check_claimed_damage(claim: ShotClaim | MeleeClaim, work: AimedWork) -> Finding | None:
    """Find `damage_differs` when more damage is claimed than the most that the weapon does to anybody.

    Against the weapon's largest number, not against this hit: a client that missed by a hair isn't lying about damage.
    """
    if claim.damage is None:
        return None
    most = work.weapon.max_damage * work.ledger.boosted(work.actor.entity, work.received_at)
    work.steps.append(Measure.CLAIMED_DAMAGE.step(claim.damage, most))
    if not 0.0 <= claim.damage <= most + DAMAGE_SLACK:
        return work.find("damage_differs", claim.damage, most)
    return None


def check_claimed_victim(claim: ShotClaim | MeleeClaim, work: AimedWork) -> Finding | None:
    """Find `victim_differs` when the claim names a victim that the server did not find hit."""
    if claim.victim is None or (claim.victim > 0 and claim.victim in work.cover):
        return None  # a client may well say that it hit the door
    victims = [hit.victim for hit in work.hits]
    found = claim.victim if claim.victim in victims else victims[0] if victims else None
    work.steps.append(Measure.CLAIMED_VICTIM.step(claim.victim, found or "nobody"))
    if claim.victim == found:
        return None
    return work.find("victim_differs", detail=f"claimed entity {claim.victim}, found {found or 'nobody'}")


def check_claimed_part(claim: ShotClaim | MeleeClaim, work: AimedWork) -> Finding | None:
    """Find `part_differs` when the victim is right and the part is not."""
    if claim.part is None:
        return None
    parts = [hit.part for hit in work.hits if hit.victim == claim.victim]
    if not parts:
        return None
    found = claim.part if claim.part in parts else parts[0]
    work.steps.append(Measure.CLAIMED_PART.step(claim.part, found))
    if claim.part == found:
        return None
    return work.find("part_differs", detail=f"claimed {claim.part[:40]!a}, found {found}")
