"""A connection's lag: how far its screen runs behind the server.

Three lags are kept. All count as the age of a view when the connection's fastest message arrives:

- Explained: shortest round trip plus the announced interpolation delay, by the server's clock alone.
- Told: by the messages of the last second. Move reports, status reports and `view_report` messages hold a view and the
  client's time. The server takes them down before the player knows where the next shot will go.
- Tracked: follows the told lag beside the round trip. It falls by at most 50 ms per second, rises by at most 3 ms per
  second and never exceeds the explained lag by more than a snapshot's spacing and half the jitter. It survives silence,
  restarts of the client's clock and new connections of the account.

An honest client's time less the time that its screen shows hardly changes. A shot is compared with the mean of the
middle half of the last second: one more message moves that mean by little, while a median would leap between two lags
that are told in turn. Whatever a shot's stamp says, its view must have an age that the estimated display
delay explains.

Views of a client that has run out of snapshots don't count for the mean. A shot may have such a view, but none older
than the last that was told. A client whose screen stands still more often than its line explains is excused no more.

A shot's stamp must lie between those of the messages around its sequence, and within the delay that the line and the
gap between messages explain.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.kernels.dtypes import LINE
from tinclock.core.kernels.hearing import MAX_SAID, SAID_FIELDS, SEQUENCE, STAMP, STILL, forget_of, take_said_of
from tinclock.core.packed import Integer, Number, Row, address_of, memory_of, set_fields

if TYPE_CHECKING:
    from tinclock.core.packed import Numbers
    from tinclock.core.plain import Fields


class Said(NamedTuple):
    """One message of a client: its clock, the time that its screen showed, and the arrival; seconds.

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
    newest_sequence = Integer(LINE.said_sequence)
    """Of the newest message that is counted, 0 for none; while it counts for the lag."""

    def __init__(self, line: Row | None = None) -> None:
        self._line = Row(len(LINE)) if line is None else line
        self.numbers = self._line.numbers
        self._ring = np.zeros(MAX_SAID * SAID_FIELDS)
        self._said: Numbers = memory_of(self._ring)
        self.said_at = address_of(self._ring)
        forget_of(self._line.at)

    def __setstate__(self, state: tuple[Fields | None, Fields]) -> None:
        """Come back from a checkpoint: the ring lies elsewhere now."""
        set_fields(self, state)
        self.said_at = address_of(self._ring)

    @property
    def last(self) -> Said | None:
        """Return the newest message."""
        row = self.numbers
        if row[LINE.said_received_at] == float("-inf"):
            return None
        newest = SAID_FIELDS * (int(row[LINE.said_begin] + row[LINE.said_count] - 1) % MAX_SAID)
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
            at = SAID_FIELDS * (place % MAX_SAID)
            said = self._said[at + SEQUENCE]
            if said > sequence:
                highest = self._said[at + STAMP]
            elif said:
                lowest = self._said[at + STAMP]
                break
        return lowest, highest
