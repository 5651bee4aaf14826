"""Each sequence number is ruled once. A repeat is answered from memory before any check runs; the rest is here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.roster import REMEMBERED_RECEIPTS
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import Claim
    from tinclock.core.records import Finding

FURTHEST_SKIP = 4096


def check_sequence(claim: Claim, context: Context) -> Finding | None:
    """Find `stale_sequence` for one that is no longer remembered, `skipped_sequence` for a leap ahead."""
    highest = context.line.highest_sequence
    context.steps.append(Step("sequence", claim.sequence, highest + 1))
    if claim.sequence <= max(0, highest - REMEMBERED_RECEIPTS):
        return context.find("stale_sequence", claim.sequence, max(1, highest - REMEMBERED_RECEIPTS + 1))
    if claim.sequence > highest + FURTHEST_SKIP:
        return context.find("skipped_sequence", claim.sequence, highest + FURTHEST_SKIP)
    return None
