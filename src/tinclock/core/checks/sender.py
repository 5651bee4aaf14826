"""Who acts is the connection, whatever the claim says."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim


def check_sender(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `foreign_actor` when the claim names an entity that the connection doesn't own."""
    own = context.actor.entity
    context.seen = (f"entity {claim.actor}", f"entity {own}", "")
    if claim.actor == own:
        return None
    return context.find("foreign_actor", detail=f"named entity {claim.actor}, owns {own}")


def check_actor(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `dead_actor` or `absent_actor`; works out the shooter's eye as the server has it now."""
    if not context.ledger.alive(context.actor.entity):
        context.seen = ("dead", "alive", "")
        return context.find("dead_actor")
    context.eye = context.history.eye_now(context.actor.entity)
    if context.eye is None:
        context.seen = ("absent", "present", "")
        return context.find("absent_actor")
    context.seen = ("alive", None, "")
    return None
