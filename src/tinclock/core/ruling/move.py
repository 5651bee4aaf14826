"""Move reports. Their checks are compiled, and so is what they change: `kernels.checks.move`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.kernels.dtypes import FOUND
from tinclock.core.plain import Fields
from tinclock.core.ruling.work import Work

if TYPE_CHECKING:
    from tinclock.core.ruling.claims import MoveClaim
    from tinclock.core.vectors import Triple


class MoveWork(Work):
    """A move report.

    position : metres, where the report leaves the body
    needs_room : whether the ring that keeps when its connection's messages came is nearly full
    """

    position: Triple | None = None
    needs_room = False

    def take(self, found: Any, claim: object) -> None:
        """Take over where the body ends."""
        if found[FOUND.is_placed]:
            self.position = found[FOUND.place_x], found[FOUND.place_y], found[FOUND.place_z]
            self.needs_room = found[FOUND.heard] == 2.0

    def found(self) -> Fields:
        """Return the end of the way."""
        return {"position": self.position}


def commit_move(claim: MoveClaim, work: MoveWork) -> None:
    """Tell the consequences of a move that the kernel accepted and committed."""
    if work.needs_room:
        work.connection.transits.make_room()
