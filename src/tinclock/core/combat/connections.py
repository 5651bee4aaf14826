"""One connection: its clock, how its client draws, what it sent, and the receipts for repeats."""

from __future__ import annotations

from math import isfinite
from typing import TYPE_CHECKING, Any, Final, Protocol

from tinclock.core.combat.receipts import Receipt
from tinclock.core.kernels.call_rows import MAX_AT_ONCE
from tinclock.core.kernels.checks.lag import trip_of
from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.kernels.dtypes import LINE
from tinclock.core.kernels.hearing import announced_by
from tinclock.core.packed import Integer, Number, Row
from tinclock.core.timeline.clock import TRANSITS_S, ClockEstimate
from tinclock.core.timeline.lag import LagTracker
from tinclock.core.timeline.least import Least

if TYPE_CHECKING:
    from tinclock.core.findings import GameFinding
    from tinclock.core.plain import Fields
    from tinclock.core.timeline.views import Interpolation

_REMEMBERED: Final = (
    LINE.buffer_s, LINE.jitter_s, LINE.late_s, LINE.gap_s, LINE.uneven_s, LINE.restarts, LINE.restarted_at, LINE.still,
    LINE.still_shots,
)  # fmt: skip
_OF_CLOCK: Final = slice(LINE.samples, LINE.pong_ring + 1)
"""Fields of a connection's row that its clock's estimate writes."""


class _MakesReceipt(Protocol):
    def receipt(self) -> Receipt: ...


class Connection(Row):
    """A connection: its clock, how it draws, what it sent. A spectator's has entity 0, the server's own no name.

    since : server time of its admission: nothing that was sent before can be on its screen
    transits : of what its messages' own stamps say of their trip up: server time of arrival less the client's clock
    shortest_s, latest_s, back_s : what bounded its last view, seconds: the least time between sending a snapshot and
        receiving a claim that has seen it; the greatest age that the connection explains; how far a view may lie before
        an earlier claim's
    """

    __slots__ = (
        "_interpolation",
        "account",
        "clock",
        "entity",
        "game_findings",
        "lag",
        "name",
        "quick",
        "receipts",
        "sequences",
        "transits",
    )

    since = Number(LINE.since)
    highest_sequence = Integer(LINE.highest_sequence)
    newest_view_time = Number(LINE.newest_view_time)
    shortest_s = Number(LINE.shortest_s)
    latest_s = Number(LINE.latest_s)
    back_s = Number(LINE.back_s)

    def __init__(
        self,
        name: str,
        account: str,
        entity: int,
        interpolation: Interpolation,
        key: bytes,
        since: float = float("-inf"),
    ) -> None:
        super().__init__(len(LINE))
        self.name, self.account, self.entity, self.interpolation = name, account, entity, interpolation
        self.since = since
        self.numbers[LINE.is_servers] = not name
        self.clock = ClockEstimate(key, row=self.owner)
        self.newest_view_time = float("-inf")
        self.numbers[LINE.heard_at] = self.numbers[LINE.restarted_at] = since
        self.numbers[LINE.buffer_s] = self.numbers[LINE.late_s] = float("nan")
        self.numbers[LINE.announced_s], self.numbers[LINE.announced_at] = interpolation.interpolation_delay_s, since
        self.lag = LagTracker(self)
        self.transits = Least(TRANSITS_S, self.owner, LINE.claim_trip, MAX_AT_ONCE)
        self.sequences = [0] * REMEMBERED_RECEIPTS
        """Of the receipts that are remembered."""
        self.receipts: list[_MakesReceipt | Receipt | None] = [None] * REMEMBERED_RECEIPTS
        self.game_findings: dict[int, list[GameFinding]] = {}
        """Findings of the game's own for claims to come, by their sequence."""
        self.quick: Any = None
        """Rows that its claims are checked against in the short way, see `ruling.quick`."""

    def __getstate__(self) -> tuple[None, Fields]:
        """For a checkpoint: what its claims are held against is put together anew."""
        slots = (*Row.__slots__, *Connection.__slots__)
        return None, {name: None if name == "quick" else getattr(self, name) for name in slots}

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint, which holds the receipts packed together."""
        super().__setstate__(state)
        packed: Any = self.receipts
        self.receipts = packed.unpacked()

    @property
    def interpolation(self) -> Interpolation:
        """Interpolation settings of its client."""
        return self._interpolation

    @interpolation.setter
    def interpolation(self, interpolation: Interpolation) -> None:
        row, self._interpolation = self.numbers, interpolation
        row[LINE.interpolation_delay_s], row[LINE.extrapolate_s] = (
            interpolation.interpolation_delay_s,
            interpolation.extrapolate_s,
        )
        row[LINE.shows_nearest] = interpolation.between == "nearest"
        row[LINE.extrapolates] = interpolation.when_late == "extrapolate"

    def draw_by(self, interpolation: Interpolation, now: float) -> None:
        """Let its client draw in another way from a server time on: a longer delay counts little by little."""
        row = self.numbers
        row[LINE.announced_s], row[LINE.announced_at] = announced_by(self.at, now), now
        self.interpolation = interpolation

    def memory(self, now: float) -> tuple[float, ...]:
        """Return the numbers of its lag that the account keeps when it comes back on another connection."""
        trip, row = trip_of(self.at), self.numbers
        return (
            trip if isfinite(trip) else 0.0, announced_by(self.at, now),
            *(row[place] for place in _REMEMBERED),
        )  # fmt: skip

    def recall(self, memory: tuple[float, ...], now: float) -> None:
        """Go on with the lag that the account had on another connection."""
        row = self.numbers
        row[LINE.trip_before_s], row[LINE.announced_s], row[LINE.announced_at] = *memory[:2], now
        for place, value in zip(_REMEMBERED, memory[2:], strict=True):
            row[place] = value

    def share(self, clock: ClockEstimate) -> None:
        """Go by the clock of the same line in another referee of this match, as it is now."""
        self.clock = clock
        own: Any = self.numbers
        known: Any = clock.numbers
        if known is not own:
            own[_OF_CLOCK] = known[_OF_CLOCK]

    def remember(self, receipt: Receipt) -> None:
        """Keep a receipt for repeats of its sequence number (not the ruling: that is many times as large)."""
        self.keep(receipt.sequence, receipt)
        if receipt.sequence > self.highest_sequence:
            self.highest_sequence = receipt.sequence

    def keep(self, sequence: int, receipt: _MakesReceipt | Receipt) -> None:
        """Keep a receipt, or what makes it, for repeats of a sequence number that is counted already."""
        place = sequence % REMEMBERED_RECEIPTS
        self.sequences[place], self.receipts[place] = sequence, receipt

    def is_new(self, sequence: int) -> bool:
        """True if no receipt of a sequence number is remembered."""
        return self.sequences[sequence % REMEMBERED_RECEIPTS] != sequence

    def receipt_of(self, sequence: int) -> Receipt | None:
        """Return the receipt of an earlier claim with this sequence number; None for a new or forgotten number."""
        kept = None if self.is_new(sequence) else self.receipts[sequence % REMEMBERED_RECEIPTS]
        return kept if kept is None or isinstance(kept, Receipt) else kept.receipt()
