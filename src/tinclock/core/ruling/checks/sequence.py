"""Each sequence number is ruled once. A repeat is answered from memory before any check runs; the rest is here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.roster import REMEMBERED_RECEIPTS
from tinclock.core.ruling.steps import Measure

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.work import Work

FURTHEST_SKIP = 4096


def check_sequence(claim: Claim, work: Work) -> Finding | None:
    """Find `stale_sequence` for one that is no longer remembered, `skipped_sequence` for a leap ahead."""
    highest = work.connection.highest_sequence
    work.steps.append(Measure.SEQUENCE.step(claim.sequence, highest + 1))
    if claim.sequence <= max(0, highest - REMEMBERED_RECEIPTS):
        return work.find("stale_sequence", claim.sequence, max(1, highest - REMEMBERED_RECEIPTS + 1))
    if claim.sequence > highest + FURTHEST_SKIP:
        return work.find("skipped_sequence", claim.sequence, highest + FURTHEST_SKIP)
    return None
