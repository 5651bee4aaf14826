"""Many claims at once: those that are plain stand in rows side by side, and one kernel call rules on all of them.

Every claim sees the match as the one before left it, as if each had come alone. One that isn't plain, or turns out not
to be of the usual kind, is ruled in its turn by itself, and the kernel goes on behind it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.kernels.call_rows import MAX_AT_ONCE
from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.kernels.dtypes import FOUND
from tinclock.core.ruling.brief import LOOKED_AT, TAIL, TAIL_BYTES, length_of
from tinclock.core.ruling.claims import as_claim
from tinclock.core.ruling.procedures import PROCEDURES
from tinclock.core.ruling.quick import PACKS
from tinclock.core.ruling.side_by_side import SideBySide

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from tinclock.core.combat.connections import Connection
    from tinclock.core.ruling.checking import Begun, Checking
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.ruling.short_way import ShortWay

    Waiting = tuple[Quick, Any, float]

FEW: Final = 6
"""Number of claims up to which reading them one by one is faster."""


class Together:
    """Rules on many claims of one match.

    alone : rules on one claim by itself; go_on : puts one that was begun through the rest of its way
    """

    def __init__(
        self, checking: Checking, short_way: ShortWay, alone: Callable[[str, object, float], Ruling],
        go_on: Callable[[Quick, Any, float, Begun], Ruling],
    ) -> None:  # fmt: skip
        self._checking, self._short_way, self._alone, self._go_on = checking, short_way, alone, go_on
        self._rows = SideBySide()
        self._waiting: list[Waiting] = []
        self._newest: dict[Connection, int] = {}
        """The highest sequence that waits, by its connection."""

    def rule(
        self, claims: Iterable[tuple[str, object, float]], connections: dict[str, Connection],
        done: Callable[[Ruling], None],
    ) -> None:  # fmt: skip
        """Rule on (connection, claim, server time of its arrival), in their order.

        done : called with each ruling once what follows from it is told, and nothing of a later one
        """
        waiting, newest, takes, wait = self._waiting, self._newest, self._takes, self._wait
        for sender, claim, now in claims:
            connection = connections.get(sender) if type(sender) is str else None
            if type(claim) not in PROCEDURES:
                claim = as_claim(claim)
            quick = takes(connection, claim, now)
            if quick is None or claim.sequence <= newest.get(connection, 0):  # type: ignore[attr-defined, arg-type]
                self._flush(done)
                if quick is None or takes(connection, claim, now) is None:
                    done(self._alone(sender, claim, now))
                    continue
            wait(quick, claim, now)
            if len(waiting) == MAX_AT_ONCE:
                self._flush(done)
        self._flush(done)

    def _takes(self, connection: Connection | None, claim: Any, now: float) -> Quick | None:
        """Put a plain claim into the next row; None for one that isn't, or was ruled before."""
        packs = PACKS.get(type(claim))
        if packs is None or connection is None:
            return None
        quick: Quick | None = connection.quick
        if quick is None or not quick.fits():
            quick = self._checking.quick_of(connection)
        if quick is None or not packs(claim, quick, now, self._rows.claim_rows[len(self._waiting)]):
            return None
        sequence = claim.sequence
        return quick if connection.sequences[sequence % REMEMBERED_RECEIPTS] != sequence else None

    def _wait(self, quick: Quick, claim: Any, now: float) -> None:
        self._rows.put(len(self._waiting), quick, type(claim), self._checking.world_at)
        self._waiting.append((quick, claim, now))
        self._newest[quick.connection] = claim.sequence

    def _flush(self, done: Callable[[Ruling], None]) -> None:
        """Rule on what waits."""
        waiting = self._waiting[:]
        self._waiting.clear()
        self._newest.clear()
        for begin, end in self._rows.run(len(waiting)):
            if end - begin > FEW:
                self._settle(waiting, begin, end, done)
            else:
                for row in range(begin, end):
                    done(self._short_way.settle_row(*waiting[row], self._rows.found_rows[row]))
            if end < len(waiting):
                quick, claim, now = waiting[end]
                found, at = self._rows.found_rows[end], self._rows.call_at(end)
                begun = self._short_way.begun(quick, claim, int(found[FOUND.place]), at, found)
                done(self._go_on(quick, claim, now, begun))

    def _settle(self, waiting: list[Waiting], begin: int, end: int, done: Callable[[Ruling], None]) -> None:
        """Tell the consequences of some rows' claims, which the kernel committed."""
        found, settle = self._rows.found[begin:end], self._short_way.settle
        lengths = (8 * length_of(found[:, FOUND.steps].astype(np.int64))).tolist()
        width = max(lengths)
        rows, tails = found[:, : width // 8].tobytes(), found[:, TAIL].tobytes()
        row, tail = 0, 0
        for place, looked, length in zip(range(begin, end), found[:, LOOKED_AT].tolist(), lengths, strict=True):
            quick, claim, now = waiting[place]
            own, kept = rows[row : row + length], tails[tail : tail + TAIL_BYTES]
            done(settle(quick, claim, now, self._rows.found_rows[place], looked, own, kept))
            row, tail = row + width, tail + TAIL_BYTES
