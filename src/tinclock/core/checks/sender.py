"""Who acts is the connection, whatever the claim says."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim


def check_sender(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `foreign_actor` when the claim names an entity that the connection doesn't own."""
    own = context.actor.entity
    context.steps.append(Step("sender", claim.actor, own, "entity"))
    if claim.actor == own:
        return None
    return context.find("foreign_actor", detail=f"named entity {claim.actor}, owns {own}")


def check_actor(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `dead_actor` or `absent_actor`; works out the shooter's eye as the server has it now."""
    if context.actor.entity in context.ledger.dead:
        context.steps.append(Step("actor", "dead", "alive"))
        return context.find("dead_actor")
    context.eye = context.history.eye_now(context.actor.entity)
    if context.eye is None:
        context.steps.append(Step("actor", "absent", "present"))
        return context.find("absent_actor")
    context.steps.append(Step("actor", "alive"))
    return None
