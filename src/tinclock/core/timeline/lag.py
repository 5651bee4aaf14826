"""A connection's lag: how far its screen runs behind the server, followed from what it says before it shoots.

An honest client draws at a nearly constant lag: the trip of its fastest snapshots plus its interpolation delay. So the
time of its own clock less the time that its screen shows hardly changes from one message to the next. What it says of
both in its move reports, its status reports and its `seen` messages is taken down before the player knows where the
next shot will go; a shot is then held against that. The mean of the middle half of the last second's follows a buffer
that adapts, a new route and a client's clock that jumps within a second, and nothing faster: one more message moves it
by little, whatever it says, where a median would leap between two lags that are told in turn.

What a client that has run out of snapshots shows stands still: its lag grows as its clock goes on. Such views don't
count for that mean, and a shot may have one, but never one older than the last that was said a moment before. A client
whose screen stands still more often than its line explains is ruled at the tracked lag then too.

A claim's own stamp is the client's word too. It must lie between those of the messages with the sequences around its
own, and can't be later than the fastest trip up allows.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.kernels.hearing import MOST_SAID, SAID_FIELDS, SEQUENCE, STAMP, STILL, forget_of, take_said_of
from tinclock.core.kernels.rows import LINE
from tinclock.core.packed import Number, Row, Whole, address_of, memory_of, set_fields

if TYPE_CHECKING:
    from tinclock.core.packed import Numbers
    from tinclock.core.plain import Fields


class Said(NamedTuple):
    """What one message said: the client's clock, what its screen showed then, and when it came; seconds.

    still : whether it had run out of snapshots
    sequence : the claim's that said it; 0 for a message that isn't counted
    """

    client_time: float
    view_time: float
    received_at: float
    still: bool
    sequence: int = 0

    @property
    def lag_s(self) -> float:
        """By the client's own clock: off by that clock's offset, which a difference of two doesn't have."""
        return self.client_time - self.view_time


class LagTracker:
    """Follows one connection's lag.

    last : what the newest message said, None before the first
    lag_s : of the last second, by the client's clock; nan until enough was said
    still : the share of its messages, lately, that show a screen that stands still
    """

    __slots__ = ("_line", "_ring", "_said", "numbers", "said_at")

    lag_s = Number(LINE.lag_s)
    still = Number(LINE.still)
    newest_sequence = Whole(LINE.said_sequence)
    """Of the newest message that is counted, 0 for none; while it counts for the lag."""

    def __init__(self, line: Row | None = None) -> None:
        self._line = Row(len(LINE)) if line is None else line
        self.numbers = self._line.numbers
        self._ring = np.zeros(MOST_SAID * SAID_FIELDS)
        self._said: Numbers = memory_of(self._ring)
        self.said_at = address_of(self._ring)
        forget_of(self._line.at)

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: the ring lies elsewhere now."""
        set_fields(self, state)
        self.said_at = address_of(self._ring)

    @property
    def last(self) -> Said | None:
        """What the newest message said."""
        row = self.numbers
        if row[LINE.said_received_at] == float("-inf"):
            return None
        newest = SAID_FIELDS * (int(row[LINE.said_begin] + row[LINE.said_count] - 1) % MOST_SAID)
        still, sequence = bool(self._said[newest + STILL]), int(self._said[newest + SEQUENCE])
        return Said(row[LINE.said_client_time], row[LINE.said_view_time], row[LINE.said_received_at], still, sequence)

    def take(self, said: Said) -> None:
        """Take down what a message said. One that was overtaken says nothing any more."""
        take_said_of(self._line.at, self.said_at, *said)

    def stamps(self, sequence: int) -> tuple[float, float]:
        """Between which times of the client's clock a claim of a sequence was made, by those around it that came."""
        lowest, highest = float("-inf"), float("inf")
        begin, count = int(self.numbers[LINE.said_begin]), int(self.numbers[LINE.said_count])
        for place in range(begin + count - 1, begin - 1, -1):
            at = SAID_FIELDS * (place % MOST_SAID)
            said = self._said[at + SEQUENCE]
            if said > sequence:
                highest = self._said[at + STAMP]
            elif said:
                lowest = self._said[at + STAMP]
                break
        return lowest, highest
