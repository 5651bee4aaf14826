"""The short way of claims that come all the time: shots with the weapon in hand, and move reports.

One look says whether a claim is of that kind, one kernel call checks it, casts its ray and commits it, and its ruling
is made of the row of numbers when somebody reads it. One that turns out otherwise goes on in the long way, from where
it got to.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.kernels.call_rows import WHO
from tinclock.core.kernels.checks.sender import FARTHEST_M
from tinclock.core.kernels.dtypes import CLAIM, IN_HAND, LINE, OWN
from tinclock.core.packed import address_of
from tinclock.core.ruling.checks.form import HIGHEST_INTEGER, claims_plainly
from tinclock.core.ruling.claims import MoveClaim, ShotClaim
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.combat.connections import Connection
    from tinclock.core.combat.held import Held
    from tinclock.core.combat.roster import Participant
    from tinclock.core.plain import Fields

NAN: Final = float("nan")
_NEWEST: Final = LINE.said_sequence
_PACK: Final = struct.Struct(f"={CLAIM.push}d").pack_into
"""Everything of a claim but the push of a move report, which is NaN: such a report isn't plain."""


class Quick:
    """A connection, its own entity and the weapon in its hand, with all rows that their claims are held against.

    It holds as long as `fits`. calls : what the kernel takes, by the kind of the claim
    """

    __slots__ = (
        "accepted", "actor", "calls", "connection", "entity", "held", "line", "name", "who", "who_at", "wielded"
    )  # fmt: skip

    def __init__(self, connection: Connection, actor: Participant, held: Held | None, column: int) -> None:
        self.connection, self.actor, self.held, self.wielded = connection, actor, held, actor.wielded
        self.accepted, self.entity = actor.accepted, actor.entity
        self.name, self.line = connection.name, connection.numbers
        self.calls: dict[type, Any] = {}
        self.who = who = np.zeros(len(WHO), np.int64)
        self.who_at = address_of(who)
        who[WHO.line], who[WHO.body], who[WHO.column] = connection.at, actor.at, column
        who[WHO.said] = connection.lag.said_at
        if held is not None:
            who[WHO.held], who[WHO.weapon] = held.at, held.weapon.at
        if self.accepted is not None:
            who[WHO.moved] = self.accepted.at

    def __getstate__(self) -> tuple[None, Fields]:
        """For a checkpoint: what receipts are made of. Nothing is ruled with it any more."""
        return None, {"actor": self.actor, "held": self.held, "wielded": self.wielded, "entity": self.entity}

    def fits(self) -> bool:
        """True if everything is as it was."""
        actor = self.actor
        return actor.wielded is self.wielded and actor.accepted is self.accepted and actor.connection == self.name


def packs_shot(claim: ShotClaim, quick: Quick, now: float, claim_row: Any) -> bool:
    """True if a shot is plain: well formed, of its connection's own entity, with the weapon in hand, in order.

    If so, it stands in its row.
    """
    view, origin, direction, sequence = claim.view, claim.origin, claim.direction, claim.sequence
    if not (
        type(view) is View
        and claim.relative_to is None
        and type(origin) is tuple
        and type(direction) is tuple
        and len(origin) == 3
        and len(direction) == 3
        and type(claim.weapon) is str
        and claim.weapon == quick.wielded
        and quick.held is not None
        and type(claim.actor) is int
        and claim.actor == quick.entity
        and type(sequence) is int
    ):
        return False
    (x, y, z), (a, b, c) = origin, direction
    from_tick, to_tick, fraction = view.from_tick, view.to_tick, view.fraction
    if not (
        type(x) is type(y) is type(z) is type(a) is type(b) is type(c) is type(fraction) is float
        and type(from_tick) is type(to_tick) is int
        and 0 <= from_tick <= HIGHEST_INTEGER
        and 0 <= to_tick <= HIGHEST_INTEGER
        and 0 < sequence <= HIGHEST_INTEGER
        and sequence >= quick.line[_NEWEST]
    ):
        return False
    stamp, shot, charge = claim.client_time, claim.shot, claim.charge
    if stamp is None:
        stamp = NAN
    elif not (type(stamp) is float and -1e15 < stamp < 1e15):
        return False
    if shot is not None and not (type(shot) is int and 0 <= shot <= HIGHEST_INTEGER):
        return False
    if charge is not None and not (type(charge) is float and -FARTHEST_M <= charge <= FARTHEST_M):
        return False
    if (claim.victim is not None or claim.part is not None or claim.damage is not None) and not claims_plainly(claim):
        return False
    _PACK(
        claim_row, 0, sequence, claim.actor, now, 1.0, x, y, z, a, b, c, 1.0, from_tick, to_tick, fraction, stamp,
        NAN if shot is None else shot, NAN if charge is None else charge, NAN, NAN, OWN, IN_HAND, 1.0,
    )  # fmt: skip
    return True


def packs_move(claim: MoveClaim, quick: Quick, now: float, claim_row: Any) -> bool:
    """True if a move report is plain: well formed, of its connection's own entity. If so, it stands in its row."""
    view, position, stamp, sequence = claim.view, claim.position, claim.client_time, claim.sequence
    if not (
        type(position) is tuple
        and len(position) == 3
        and claim.push is None
        and claim.relative_to is None
        and type(stamp) is float
        and -1e15 < stamp < 1e15
        and type(claim.actor) is int
        and claim.actor == quick.entity
        and type(sequence) is int
        and 0 < sequence <= HIGHEST_INTEGER
    ):
        return False
    x, y, z = position
    from_tick, to_tick, fraction, has_view = 0, 0, 0.0, 0.0
    if view is not None:
        if type(view) is not View:
            return False
        from_tick, to_tick, fraction, has_view = view.from_tick, view.to_tick, view.fraction, 1.0
    if not (
        type(x) is type(y) is type(z) is type(fraction) is float
        and type(from_tick) is type(to_tick) is int
        and 0 <= from_tick <= HIGHEST_INTEGER
        and 0 <= to_tick <= HIGHEST_INTEGER
    ):
        return False
    _PACK(
        claim_row, 0, sequence, claim.actor, now, 1.0, x, y, z, 1.0, 0.0, 0.0, has_view, from_tick, to_tick, fraction,
        stamp, NAN, NAN, NAN, NAN, OWN, 0.0, 0.0,
    )  # fmt: skip
    return True


def suits_shot(claim: ShotClaim, quick: Quick) -> bool:
    """True if a shot that stood in a row once, of another referee of the same match, is plain for this one too."""
    return (
        claim.weapon == quick.wielded
        and quick.held is not None
        and claim.actor == quick.entity
        and claim.sequence >= quick.line[_NEWEST]
    )


def suits_move(claim: MoveClaim, quick: Quick) -> bool:
    """The same of a move report."""
    return claim.actor == quick.entity


PACKS: Final[dict[type, Callable[[Any, Quick, float, Any], bool]]] = {ShotClaim: packs_shot, MoveClaim: packs_move}
"""Of the claims that come all the time: whether one is plain, and then stands in its row."""
SUITS: Final[dict[type, Callable[[Any, Quick], bool]]] = {ShotClaim: suits_shot, MoveClaim: suits_move}
"""Conditions of `PACKS` besides the claim itself."""
