"""Move reports. Their checks are compiled, and so is what they change: `kernels.checks.move`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.kernels.rows import FOUND
from tinclock.core.plain import Fields
from tinclock.core.ruling.work import Work

if TYPE_CHECKING:
    from tinclock.core.ruling.claims import MoveClaim
    from tinclock.core.vectors import Triple


class MoveWork(Work):
    """A move report.

    position : metres, where the report leaves the body; heard : whether what it says of its client's lag can be true
    """

    position: Triple | None = None
    heard = False

    def take(self, found: Any, claim: object) -> None:
        """Take over where the body ends."""
        if found[FOUND.is_placed]:
            self.position = found[FOUND.place_x], found[FOUND.place_y], found[FOUND.place_z]
            self.heard = bool(found[FOUND.heard])

    def found(self) -> Fields:
        """Where the body ends."""
        return {"position": self.position}


def commit_move(claim: MoveClaim, work: MoveWork) -> None:
    """Keep what follows from a move that the kernel accepted: where the body was, and when its message came."""
    accepted, now = work.actor.accepted, work.received_at
    if accepted is None or work.position is None:
        raise AssertionError("a move without a place was accepted")
    if work.heard:
        work.connection.transits.take(now, now - claim.client_time)
    accepted.past.append((now, work.position))
