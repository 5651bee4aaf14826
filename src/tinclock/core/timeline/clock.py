"""Estimate of a connection's clock and path by the server, from ping exchanges that a client can't hurry.

Each ping carries a nonce that the client can't guess, so an answer proves that the ping arrived: a client can hold
an answer back (its round trip looks longer) but never send it early. From each answer the server learns an interval in
which the client's clock offset must lie, whatever the split of the trip between the two directions:

    client_time - received_at  <=  offset  <=  client_time - sent_at

Intersecting the intervals of a window (Marzullo, 1984; Cristian, 1989), widened for clock drift, gives the offset as
the middle of what remains. Its error is at most half the width, `offset_bound_s`, and that is at most half the shortest
round trip of the window plus drift. Jitter is RFC 3550's estimator (section 6.4.1), but over round trips, by the
server's clock alone: a client's stamps widen nothing. Both directions vary, so it is divided by the root of two.
"""

from __future__ import annotations

import hashlib
import math
from collections import deque
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from tinclock.core.errors import BadNumberError
from tinclock.core.kernels.dtypes import LINE
from tinclock.core.packed import Integer, Number, memory_of
from tinclock.core.plain import plain_number
from tinclock.core.timeline.least import Least

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.packed import Numbers

TRANSITS_S = 20.0
"""For how long the stamps of pongs and of other messages are compared."""
USUAL_ANSWERS, MAX_APART_S = 8.0, 1.0
"""Over about so many answers it is taken how far apart they come; a longer pause counts as this, seconds."""
Verdict = Literal["used", "unknown_nonce", "repeated_nonce", "late", "early", "malformed"]


class ClockSettings(NamedTuple):
    """Windows and limits of a clock estimate, in seconds."""

    window_s: float = 10.0
    """Time for which a sample counts."""
    long_window_s: float = 60.0
    """Time for which the shortest round trip bounds the snapshots that can have arrived."""
    timeout_s: float = 2.0
    """An unanswered ping older than this is lost."""
    max_drift_fraction: float = 2e-4
    """Maximum drift of the client's clock, seconds per second (quartz stays under 1e-4)."""
    route_samples: int = 6
    """Number of answers in a row above the old minimum that mean a new route, not a burst."""
    route_step_s: float = 0.015
    """Minimum difference of all of them from the old minimum."""


class ClockEstimate:
    """The clock and path of one connection. Server times come from the caller; `key` makes the nonces.

    All in seconds:

    round_trip_s : the shortest round trip of the window, nan before the first answer
    min_round_trip_s : that of the long window: nothing sent can have come back sooner; 0 before the first answer
    jitter_s : RFC 3550's jitter, of the round trips, for one direction
    offset_s : client clock minus server time
    offset_bound_s : the largest error that `offset_s` can have, inf before the first answer
    answers : how many answers were used so far
    version : rises whenever any of these may have changed
    restarts : how often the client's clock jumped or contradicted itself, so that old samples were thrown away
    """

    jitter_s = Number(LINE.jitter_s)
    offset_s = Number(LINE.offset_s)
    round_trip_s = Number(LINE.round_trip_s)
    min_round_trip_s = Number(LINE.min_round_trip_s)
    answers = Integer(LINE.answers)
    samples = Integer(LINE.samples)
    """Answers in the window."""

    def __init__(
        self, key: bytes = b"", settings: ClockSettings | None = None, row: NDArray[np.float64] | None = None
    ) -> None:
        row = np.zeros(len(LINE)) if row is None else row
        self.numbers: Numbers = memory_of(row)
        self.settings = settings or ClockSettings()
        self._key = key
        self._count = 0
        self._open: dict[int, float] = {}
        self._answered: deque[int] = deque(maxlen=256)
        # of each answer in the window: when it came, its round trip, and the ends of its interval but for the drift
        # since then; side by side, so that the least and the greatest are found without a loop of our own
        self._came: deque[float] = deque()
        self._trips: deque[float] = deque()
        self._lows: deque[float] = deque()
        self._highs: deque[float] = deque()
        self._sent: deque[tuple[float, int]] = deque()
        self._lost: deque[float] = deque()
        self._least: deque[tuple[float, float]] = deque()
        self._high = 0
        self._now = -math.inf
        self._trip = math.nan
        self.transits = Least(TRANSITS_S, row, LINE.pong_trip)
        """Of what the pongs' own stamps say of their trip up: server time of arrival less the client's clock."""
        self.jitter_s = 0.0
        self.offset_s, self.offset_bound_s = 0.0, math.inf
        self.round_trip_s = math.nan
        self.min_round_trip_s = 0.0
        self.numbers[LINE.pong_at] = -math.inf
        self.answers = self.samples = self.restarts = self.version = 0

    def asks_as(self, other: ClockEstimate) -> bool:
        """True if another estimate sends the same nonces."""
        return self is other or self._key == other._key

    def ping(self, sent_at: float) -> int:
        """Open an exchange at a server time; returns the nonce to send (an integer below 2**48)."""
        self._advance(sent_at)
        self._count += 1
        self.numbers[LINE.asked] = self._count
        digest = hashlib.blake2b(self._count.to_bytes(8, "little"), key=self._key[:64], digest_size=6).digest()
        nonce = int.from_bytes(digest, "little")
        self._open[nonce] = sent_at
        self._sent.append((sent_at, nonce))
        return nonce

    def pong(self, nonce: object, client_time: object, received_at: float) -> Verdict:
        """Take an answer from the client: untrusted, so whatever comes is judged, never raised."""
        self._advance(received_at)
        nonce, said = plain_number(nonce), plain_number(client_time)
        if type(nonce) is not int or type(said) not in (float, int):
            return "malformed"
        if not -1e15 < said < 1e15:
            return "malformed"
        stamp = float(said)
        sent_at = self._open.pop(nonce, None)
        if sent_at is None:
            return "repeated_nonce" if nonce in self._answered else "unknown_nonce"
        self._answered.append(nonce)
        if received_at - sent_at > self.settings.timeout_s:
            return "late"
        if received_at < sent_at:  # stamped before its ping: nothing can be learned from it
            return "early"
        self._take(sent_at, received_at, stamp)
        return "used"

    def _advance(self, now: float) -> None:
        if not math.isfinite(now):
            raise BadNumberError("server time", "a finite number of seconds", now)
        self._now = now = max(now, self._now)  # another thread may have stamped it a moment before the last one
        while self._sent and self._sent[0][0] < now - self.settings.timeout_s:
            sent_at, nonce = self._sent.popleft()
            if self._open.pop(nonce, None) is not None:
                self._lost.append(sent_at)
                self._answered.append(nonce)
        horizon = now - self.settings.window_s
        while self._lost and self._lost[0] < horizon:
            self._lost.popleft()
        if self._came and self._came[0] < horizon:
            self._keep(max(1, sum(came >= horizon for came in self._came)))
            self._settle()

    def _take(self, sent_at: float, received_at: float, client_time: float) -> None:
        trip, drift = received_at - sent_at, self.settings.max_drift_fraction
        if not math.isnan(self._trip):
            self.jitter_s += (abs(trip - self._trip) / math.sqrt(2.0) - self.jitter_s) / 16.0
        self._trip = trip
        every, row = self.numbers[LINE.pong_every_s], self.numbers
        apart = min(received_at - row[LINE.pong_at], MAX_APART_S)
        row[LINE.pong_late_s] = max(0.0, apart - every) if self.answers else 0.0
        row[LINE.pong_every_s] = every + (apart - every) / USUAL_ANSWERS
        row[LINE.pong_at] = received_at
        self.transits.take(received_at, received_at - client_time)
        while self._least and self._least[-1][1] >= trip:
            self._least.pop()
        self._least.append((received_at, trip))
        while self._least[0][0] < received_at - self.settings.long_window_s:
            self._least.popleft()
        self.min_round_trip_s = self._least[0][1]
        self.answers += 1
        higher = not math.isnan(self.round_trip_s) and trip > self.round_trip_s + self.settings.route_step_s
        self._high = self._high + 1 if higher else 0
        self._came.append(self._now)
        self._trips.append(trip)
        self._lows.append(client_time - received_at + drift * received_at)
        self._highs.append(client_time - sent_at - drift * received_at)
        self.samples = len(self._came)
        if self._high >= self.settings.route_samples:
            self._keep(self._high)
            self._high = 0
        self._settle()

    def _keep(self, count: int) -> None:
        """Forget all answers but the last ones."""
        for _ in range(len(self._came) - count):
            for each in (self._came, self._trips, self._lows, self._highs):
                each.popleft()
        self.samples = len(self._came)

    def _settle(self) -> None:
        self.version += 1
        self.round_trip_s = min(self._trips)
        low, high = self._interval()
        if low > high:  # the client's clock jumped: only what it said since then can be true
            self.restarts += 1
            self.transits.clear()
            self._keep(1)
            self.round_trip_s = self._trips[0]
            low, high = self._interval()
        self.offset_s, self.offset_bound_s = (low + high) / 2, (high - low) / 2

    def _interval(self) -> tuple[float, float]:
        drifted = self.settings.max_drift_fraction * self._came[-1]
        return max(self._lows) - drifted, min(self._highs) + drifted

    @property
    def loss(self) -> float:
        """Share of the window's pings that stayed unanswered."""
        total = len(self._came) + len(self._lost)
        return len(self._lost) / total if total else 0.0

    @property
    def confidence(self) -> float:
        """From 0 to 1: n / (n + 4) for n samples, times the share answered, times trip / (trip + 2 jitter)."""
        if not self._came:
            return 0.0
        count = len(self._came)
        calm = self.round_trip_s / (self.round_trip_s + 2.0 * self.jitter_s) if self.round_trip_s > 0.0 else 1.0
        return count / (count + 4.0) * (1.0 - self.loss) * calm

    def server_time_of(self, client_time: float) -> float:
        """The server time at which the client's clock showed `client_time`, within `offset_bound_s`."""
        return client_time - self.offset_s
