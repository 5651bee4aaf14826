"""Previews: the checks of a claim as they stand, for checks of the game's own. Nothing changes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.ruling.checks.form import is_count, misfit
from tinclock.core.ruling.checks.sender import actor_named
from tinclock.core.ruling.claims import as_claim, exact
from tinclock.core.ruling.outcome import named, ruling_on
from tinclock.core.ruling.procedures import PREVIEWS, PROCEDURES, procedure_of
from tinclock.core.ruling.relative import in_world

if TYPE_CHECKING:
    from tinclock.core.ruling.pipeline import ClaimPipeline
    from tinclock.core.ruling.records import Ruling


def preview(match: ClaimPipeline, sender: str, claim: Any, received_at: float) -> Ruling | None:
    """Return the ruling that a claim's checks lead to, without hits, numbered 0.

    None where there is nothing to check: a connection that doesn't play, a malformed claim, a repeat.
    """
    connection = match.roster.connections.get(sender) if type(sender) is str else None
    own = None if connection is None else match.roster.actors.get(connection.entity)
    if connection is None or own is None:
        return None
    claim = exact(claim if type(claim) in PROCEDURES else as_claim(claim))
    procedure = procedure_of(match.roster, claim, own)
    if procedure is None or not is_count(claim.sequence) or claim.sequence < 1 or misfit(claim, needs_view=True):
        return None
    if connection.receipt_of(claim.sequence) is not None:
        return None
    if getattr(claim, "relative_to", None) is not None:
        actor, _ = actor_named(claim.actor, own, connection, match.roster, received_at)
        claim = in_world(match.world, claim, actor, received_at)
        if claim is None:
            return None
    trial, checking = PREVIEWS[id(procedure)], match.checking
    work = procedure.work(match.world, connection, own, received_at)
    work.sequence = claim.sequence
    line: Any = connection.numbers  # checks take down the bounds of the view that they worked out
    kept = line.tobytes()
    begun = checking.begin(trial, claim, connection, own, received_at, is_well_formed=True)
    outcome = checking.compare((), claim, work) if checking.passes(trial, claim, work, begun) else "rejected"
    line.cast("B")[:] = kept
    return ruling_on(work, 0, procedure.kind, outcome, named(getattr(claim, "weapon", None), work), None)
