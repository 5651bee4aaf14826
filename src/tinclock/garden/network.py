"""The network between a client and the server, as a seeded simulation: delay, jitter and loss in each direction."""

from __future__ import annotations

import heapq
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import numpy as np


class LineQuality(NamedTuple):
    """One connection: the shortest trip each way, the mean of the exponential jitter on top of it, the loss share."""

    up_s: float
    down_s: float
    jitter_s: float
    loss: float

    @property
    def round_trip_s(self) -> float:
        """The shortest round trip."""
        return self.up_s + self.down_s


class Parcel(NamedTuple):
    """Something under way. Parcels that arrive at the same instant arrive in the order they were sent."""

    arrives_at: float
    number: int
    client: int
    kind: str
    content: Any


class Post:
    """Everything under way to one end, in the order of arrival."""

    def __init__(self) -> None:
        self._heap: list[Parcel] = []
        self._sent = 0

    def send(self, now: float, trip_s: float, line: LineQuality, rng: np.random.Generator, *what: Any) -> None:
        """Send (client, kind, content); it is lost at the line's loss share."""
        lost, late = rng.random() < line.loss, rng.exponential(line.jitter_s)
        self._sent += 1
        if not lost:
            heapq.heappush(self._heap, Parcel(now + trip_s + late, self._sent, *what))

    def arrived(self, now: float) -> list[Parcel]:
        """What has arrived by now, in order."""
        out = []
        while self._heap and self._heap[0].arrives_at <= now:
            out.append(heapq.heappop(self._heap))
        return out
