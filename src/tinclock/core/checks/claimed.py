"""What the client says it did, against what it did. Compared, never used."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim

DAMAGE_SLACK = 0.5
"""Points. A client may round its damage for display."""


def check_claimed_damage(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `damage_differs` when more damage is claimed than the most that the weapon does to anybody.

    Against the weapon's largest number, not against this hit: a client that missed by a hair isn't lying about damage.
    """
    if claim.damage is None or context.weapon is None:
        return None
    most = context.weapon.most_damage
    context.steps.append(Step("claimed damage", claim.damage, most, "points"))
    if not 0.0 <= claim.damage <= most + DAMAGE_SLACK:
        return context.find("damage_differs", claim.damage, most, "points")
    return None


def check_claimed_victim(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `victim_differs` when the claim names a victim that the server's ray did not hit."""
    if claim.victim is None:
        return None
    found = None if context.hit is None else context.hit.entity
    context.steps.append(Step("claimed victim", claim.victim, found or "nobody", "entity"))
    if claim.victim == found:
        return None
    return context.find("victim_differs", detail=f"claimed entity {claim.victim}, found {found or 'nobody'}")


def check_claimed_part(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `part_differs` when the victim is right and the part is not."""
    if claim.part is None or context.hit is None or claim.victim != context.hit.entity:
        return None
    context.steps.append(Step("claimed part", claim.part, context.hit.part.name))
    if claim.part == context.hit.part.name:
        return None
    return context.find("part_differs", detail=f"claimed {claim.part[:40]!a}, found {context.hit.part.name}")
