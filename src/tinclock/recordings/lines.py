"""Round trips and jitter of each connection, from a recording's pings."""

from __future__ import annotations

import math
from collections import deque
from typing import Any

import msgspec
import numpy as np

from tinclock.core.evidence.measured import MeasuredLine

LINE_WINDOW_S = 10.0
TOGETHER_S, PLAYING_S = 0.001, 0.5


class Lines:
    """Each connection's shortest round trip of the last while, and its jitter, as `ClockEstimate` has them."""

    def __init__(self) -> None:
        self.now: dict[str, MeasuredLine] = {}
        self._trips: dict[str, deque[tuple[float, float]]] = {}
        self._trip: dict[str, float] = {}
        self._asked: dict[int, float] = {}
        self._every: dict[str, float] = {}

    def take(self, pings: Any) -> None:
        """A flush's table of pings and pongs."""
        for name, text, answer in zip(*(pings[c].to_pylist() for c in ("call", "arguments", "answer")), strict=True):
            given = msgspec.json.decode(text)
            if name == "ping":
                self._asked[int(answer)] = given["sent_at"]
            elif answer == '"used"' and given["nonce"] in self._asked:
                sent = self._asked.pop(given["nonce"])
                self.answer(given["connection"], sent, given["received_at"])

    def answer(self, connection: str, sent_at: float, received_at: float) -> None:
        """An answer to a ping. Of the trips only those are kept that are shorter than all later ones."""
        trips, trip = self._trips.setdefault(connection, deque()), received_at - sent_at
        while trips and trips[-1][1] >= trip:
            trips.pop()
        trips.append((received_at, trip))
        while trips[0][0] < received_at - LINE_WINDOW_S:
            trips.popleft()
        jitter = self.now[connection].jitter_s if connection in self.now else 0.0
        apart = abs(trip - self._trip.get(connection, trip)) / math.sqrt(2.0)
        self._trip[connection] = trip
        every = self._every.get(connection, 0.0)
        self.now[connection] = MeasuredLine(trips[0][1], jitter + (apart - jitter) / 16.0, every)

    def arrivals(self, connections: list[str], times: list[float]) -> None:
        """Median time between claims, kept as they arrive."""
        came: dict[str, list[float]] = {}
        for connection, at in zip(connections, times, strict=True):
            came.setdefault(connection, []).append(at)
        for connection, each in came.items():
            pauses = np.diff(np.array(each))
            pauses = pauses[(pauses > TOGETHER_S) & (pauses < PLAYING_S)]
            if len(pauses):
                self._every[connection] = float(np.median(pauses))
