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

from collections import deque
from statistics import fmean
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.kernels.rows import LINE
from tinclock.core.packed import Number, blank_row

if TYPE_CHECKING:
    from tinclock.core.packed import Numbers

WINDOW_S = 1.0
"""How long what was said counts, by the client's clock."""
ENOUGH = 8
"""So many messages are needed before a shot is held against them."""
STILL_FORGOTTEN = 64
"""Over about so many messages that share is taken."""
CLOCK_JUMP_S = 0.1
"""A lag that moves by more than this at once, without the views' age at arrival moving, is a client's clock that was
set: what was said before it is forgotten."""


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

    __slots__ = ("_said", "last", "numbers")

    lag_s = Number(LINE.lag_s)
    still = Number(LINE.still)

    newest_sequence = Number(LINE.said_sequence)
    """Of the newest message that is counted, 0 for none; while it counts for the lag."""

    def __init__(self, numbers: Numbers | None = None) -> None:
        self.numbers = blank_row(len(LINE)) if numbers is None else numbers
        self._said: deque[Said] = deque()
        self.last: Said | None = None
        self.still = 0.0
        self._forget()

    def take(self, said: Said) -> None:
        """Take down what a message said. One that was overtaken says nothing any more."""
        last = self.last
        if last is not None:
            if said.client_time <= last.client_time:
                if last.client_time - said.client_time < WINDOW_S:
                    return
                self._forget()  # its clock was set back
            elif self._clock_was_set(said, last):
                self._forget()
        self.last, numbers = said, self.numbers
        numbers[LINE.said_client_time], numbers[LINE.said_view_time] = said.client_time, said.view_time
        numbers[LINE.said_received_at] = said.received_at
        if said.sequence:
            numbers[LINE.said_sequence], numbers[LINE.said_counted_at] = said.sequence, said.client_time
        elif numbers[LINE.said_counted_at] < said.client_time - WINDOW_S:
            numbers[LINE.said_sequence] = 0.0
        self.still += (said.still - self.still) / STILL_FORGOTTEN
        self._said.append(said)
        while self._said and self._said[0].client_time < said.client_time - WINDOW_S:
            self._said.popleft()
        moving = sorted(one.lag_s for one in self._said if not one.still)
        if len(moving) >= ENOUGH:
            outer = len(moving) // 4
            self.lag_s = fmean(moving[outer : len(moving) - outer])
        elif len(moving) == len(self._said):  # too little; but one that ran out of snapshots keeps what it had said
            self.lag_s = float("nan")

    def _forget(self) -> None:
        self._said.clear()
        self.last, self.lag_s = None, float("nan")
        self.numbers[LINE.said_received_at], self.numbers[LINE.said_sequence] = float("-inf"), 0.0

    @staticmethod
    def _clock_was_set(said: Said, last: Said) -> bool:
        moved = said.lag_s - last.lag_s
        aged = (said.received_at - said.view_time) - (last.received_at - last.view_time)
        return abs(moved - aged) > CLOCK_JUMP_S and abs(aged) < CLOCK_JUMP_S

    def stamps(self, sequence: int) -> tuple[float, float]:
        """Between which times of the client's clock a claim of a sequence was made, by those around it that came."""
        lowest, highest = float("-inf"), float("inf")
        for one in reversed(self._said):
            if one.sequence > sequence:
                highest = one.client_time
            elif one.sequence:
                lowest = one.client_time
                break
        return lowest, highest
