"""Receipts: what a client may be told of its claim."""

from __future__ import annotations

from typing import Literal

from tinclock.core.sparse import Sparse
from tinclock.core.vectors import Triple

Outcome = Literal["accepted", "adjusted", "rejected"]


class ActorState(Sparse, frozen=True, omit_defaults=True, gc=False):
    """Server's state of an actor after a claim, by which its client corrects itself.

    last_sequence : the highest that was ruled
    magazine, reserve : None where they never run out
    shots : how many of this weapon were spent, which numbers the next
    ready_in_s : until the weapon fires again
    position : where moves were accepted to; None where the server does the moving
    input : sequence of the newest input that the server simulated, where the server moves the body
    projectiles : ids of what a launch let fly, in the order of its pellets
    """

    entity: int
    last_sequence: int
    health: float
    armour: float = 0.0
    weapon: str = ""
    magazine: int | None = None
    reserve: int | None = None
    shots: int = 0
    ready_in_s: float = 0.0
    item: str = ""
    items_left: int = 0
    item_ready_in_s: float = 0.0
    position: Triple | None = None
    projectiles: tuple[int, ...] = ()
    input: int = 0


class ReceiptHit(Sparse, frozen=True, omit_defaults=True, gc=False):
    """Hits of the client: victim, part and points."""

    victim: int
    part: str
    damage: float
    lethal: bool = False


class Receipt(Sparse, frozen=True, omit_defaults=True, gc=False):
    """Answer to a client's claim: the result and the true state, never the reason of a check or its numbers."""

    sequence: int
    outcome: Outcome
    hits: tuple[ReceiptHit, ...] = ()
    state: ActorState | None = None
