"""Ruling beside a server that applies results of its own (`match.mode = "shadow"`)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.dtypes import MOVED
from tinclock.core.ruling.checks.form import as_triple
from tinclock.core.ruling.claims import MoveClaim

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.records import Ruling


def follow_its_client(ruling: Ruling, claim: object, actor: Participant) -> None:
    """A move was refused or cut down, but another server moves the bodies: this one is where its client says.

    Otherwise every report after the first that was refused would be held against a place where nobody is.
    """
    accepted = actor.accepted
    if not ruling.findings or not isinstance(claim, MoveClaim) or accepted is None:
        return
    if claim.relative_to is not None or ruling.direction is not None:  # not a place in the world, or a prediction
        return
    place = as_triple(claim.position)
    if place is not None:
        row = accepted.numbers
        speed = row[MOVED.velocity_x], row[MOVED.velocity_y]
        accepted.put(place, ruling.received_at)
        row[MOVED.velocity_x], row[MOVED.velocity_y] = speed
