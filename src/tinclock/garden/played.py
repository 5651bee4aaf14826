"""Results of a garden match: its rulings, and the truth about them."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from tinclock.core.combat.events import Event
    from tinclock.core.ruling.records import Ruling
    from tinclock.garden.scenario import Garden
    from tinclock.garden.seat import Seat, TrueShot


class ClockPoint(NamedTuple):
    """Estimate of a connection's clock after an answer, and the truth. Seconds."""

    server_time: float
    round_trip_s: float
    offset_low_s: float
    offset_high_s: float
    offset_s: float
    offset_bound_s: float
    true_offset_s: float
    shortest_s: float
    jitter_s: float


class BoundPoint(NamedTuple):
    """One claim's view against its bounds: ages on arrival, in seconds. ruled_s is nan where nothing was ruled."""

    server_time: float
    claimed_s: float
    ruled_s: float
    newest_s: float
    oldest_s: float
    rewind_limit_s: float


class Played(NamedTuple):
    """A match that was played.

    entities : the account of each player's entity, and what stands in the garden by itself
    clocks, bounds : by connection, in order of time
    shots : what each claim's shooter saw, by (connection, sequence)
    paths : (ticks, players, 2) float32, metres, nan where dead: places in the plane, server's view
    trails : how many ticks each player's body on the server is behind its own screen
    """

    garden: Garden
    seats: list[Seat]
    entities: dict[int, str]
    rulings: list[Ruling]
    shots: dict[tuple[str, int], TrueShot]
    events: list[Event]
    paths: NDArray[np.float32]
    seed: int
    seconds: float
    clocks: dict[str, list[ClockPoint]]
    bounds: dict[str, list[BoundPoint]]
    trails: list[int]

    def shot_of(self, ruling: Ruling) -> TrueShot | None:
        """Return the view of a ruling's shooter; None for a claim nobody fired."""
        return self.shots.get((ruling.connection, ruling.sequence))

    def cheat_of(self, account: str) -> str:
        """Return that an account is honest, or its cheats."""
        return next(seat.cheat for seat in self.seats if seat.account == account)
