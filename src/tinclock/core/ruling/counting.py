"""Many claims at once for somebody who only counts what comes of them, by rules of his own: see `many`.

No ruling is made of a plain claim, and no receipt kept. Several such referees of one match share the rows of its
claims: the first to find one plain puts it there for all.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.ruling.many import Together
from tinclock.core.ruling.quick import SUITS

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from tinclock.core.combat.roster import Connection
    from tinclock.core.ruling.many import Waiting
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.ruling.short_way import Counted

Rows = dict[int, bytes]
"""The rows of claims that were found plain, by the claims' `id`: good for as long as the claims are held."""


class Counting(Together):
    """Rules on many claims of one match; tells of each what counts: `Counted`, or its ruling where it wasn't plain."""

    _rows: Rows

    def count(
        self, claims: Iterable[tuple[str, object, float]], rows: Rows, connections: dict[str, Connection],
        done: Callable[[Ruling | Counted], None],
    ) -> None:  # fmt: skip
        """`rule`; rows : of these claims, shared by all who rule on them, empty for the first"""
        self._rows = rows
        self.rule(claims, connections, done)

    def _takes(self, connection: Connection | None, claim: Any, now: float) -> Quick | None:
        row, here = self._rows.get(id(claim)), self._claim_rows[len(self._waiting)]
        if row is None:
            found = super()._takes(connection, claim, now)
            if found is not None:
                self._rows[id(claim)] = bytes(here)
            return found
        if connection is None:
            return None
        quick: Quick | None = connection.quick
        if quick is None or not quick.fits():
            quick = self._checking.quick_of(connection)
        sequence = claim.sequence
        if (
            quick is None
            or not SUITS[type(claim)](claim, quick)
            or connection.sequences[sequence % REMEMBERED_RECEIPTS] == sequence
        ):
            return None
        here.cast("B")[:] = row
        return quick

    def _settle_rows(self, waiting: list[Waiting], begin: int, end: int, done: Callable[[Any], None]) -> None:
        for row in range(begin, end):
            done(self._short_way.count(*waiting[row], self._found_rows[row]))
