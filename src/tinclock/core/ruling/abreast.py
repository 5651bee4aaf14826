"""Claims of one match, ruled by several referees side by side who only count what comes of them, each by its own rules.

Plain claims stand in rows as in `many`, those of all referees together: the first to find one plain packs it for all,
one kernel call rules on all of them, and no ruling is made and no receipt kept.
"""

from __future__ import annotations

from itertools import groupby
from typing import TYPE_CHECKING, Any

from tinclock.core.kernels.call_rows import MAX_AT_ONCE
from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.ruling.quick import PACKS, SUITS
from tinclock.core.ruling.side_by_side import SideBySide

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.ruling.pipeline import ClaimPipeline
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.ruling.short_way import Counted

Sent = tuple[str, object, float]
"""A claim: its connection, what was sent, and when it came, server time in seconds."""


class Abreast:
    """Rules on claims for several referees; what they share is memory for rows."""

    def __init__(self) -> None:
        self._rows = SideBySide()
        self._claim_bytes = [row.cast("B") for row in self._rows.claim_rows]
        self._waiting: list[tuple[ClaimPipeline, list[Counted | Ruling], Quick, Any, float]] = []

    def count(self, claims: Sequence[Sent], pipelines: Sequence[ClaimPipeline]) -> list[list[Counted | Ruling]]:
        """Return the result of each claim by each referee: `Counted`, or the ruling of a claim that isn't plain.

        A claim sees the match as the one before left it.
        """
        told: list[list[Counted | Ruling]] = [[] for _ in pipelines]
        for may_be_plain, run in groupby(claims, lambda sent: type(sent[1]) in PACKS):
            together = list(run)
            packed: list[bytes | None] = [None] * len(together)
            for pipeline, out in zip(pipelines, told, strict=True):
                if len(self._waiting) + len(together) > MAX_AT_ONCE:
                    self._flush()
                begin = len(self._waiting)
                if not (may_be_plain and self._takes(together, packed, pipeline, out)):
                    del self._waiting[begin:]
                    pipeline.rule_many(together, out.append)
            self._flush()
        return told

    def _takes(
        self, claims: Sequence[Sent], packed: list[bytes | None], pipeline: ClaimPipeline, out: list[Counted | Ruling]
    ) -> bool:
        """Put all claims into the next rows for one referee; returns False where one isn't plain, or was ruled before.

        packed : the rows of those that were plain for another
        """
        if not pipeline.ledger.enforces or len(claims) > MAX_AT_ONCE:
            return False
        waiting, newest, world = self._waiting, dict[str, int](), pipeline.world_at
        connections, quick_of = pipeline.roster.connections, pipeline.quick_of
        for place, (sender, claim, now) in enumerate(claims):
            connection, kind = connections.get(sender), type(claim)
            if connection is None or kind not in PACKS:
                return False
            known: Any = claim
            quick = connection.quick
            if quick is None or not quick.fits():
                quick = quick_of(connection)
            row, ready = len(waiting), packed[place]
            if quick is None:
                return False
            if ready is not None:
                if not SUITS[kind](known, quick):
                    return False
                self._claim_bytes[row][:] = ready
            elif PACKS[kind](known, quick, now, self._rows.claim_rows[row]):
                packed[place] = bytes(self._claim_bytes[row])
            else:
                return False
            sequence = known.sequence
            if connection.sequences[sequence % REMEMBERED_RECEIPTS] == sequence or sequence <= newest.get(sender, 0):
                return False
            newest[sender] = sequence
            self._rows.put(row, quick, kind, world)
            waiting.append((pipeline, out, quick, claim, now))
        return True

    def _flush(self) -> None:
        """Rule on what waits."""
        waiting, rows = self._waiting, self._rows.found_rows
        for begin, end in self._rows.run(len(waiting)):
            for row in range(begin, end):
                pipeline, out, quick, claim, now = waiting[row]
                out.append(pipeline.short_way.count(quick, claim, now, rows[row]))
            if end < len(waiting):
                pipeline, out, quick, claim, now = waiting[end]
                out.append(pipeline.go_on(quick, claim, now, self._rows.call_at(end), rows[end]))
        waiting.clear()
