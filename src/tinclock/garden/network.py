"""The network between a client and the server, as a seeded simulation, each direction by itself.

Loss comes in bursts from a chain of two states (Gilbert, Capacity of a burst-noise channel, 1960; Elliott, 1963).
Delays above the shortest are Lomax (Pareto of the second kind): mostly small, now and then large.
"""

from __future__ import annotations

import heapq
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import numpy as np

TAIL_SHAPE = 3.0
"""Of the Lomax delays: their variance is finite, their third moment is not."""
QUEUE_S = 0.5
"""Maximum backlog of a line with limited bandwidth; further packets are dropped."""


class LineQuality(NamedTuple):
    """One connection.

    up_s, down_s : the shortest trip each way
    jitter_s : the mean of what comes on top of it
    loss : the share of packets that are lost in a bad spell; bad_fraction : of the time that is one; spell : its mean
        length, in packets
    reorder, duplicate : shares of packets that overtake others, and that arrive twice
    bytes_per_s : what fits through in one direction
    stall_at_s, stall_s : when nothing goes through, and for how long
    route_at_s, route_step_s : when the path becomes longer, and by how much each way
    """

    name: str
    up_s: float
    down_s: float
    jitter_s: float
    loss: float = 0.0
    bad_fraction: float = 1.0
    spell: float = 1.0
    reorder: float = 0.0
    duplicate: float = 0.0
    bytes_per_s: float = float("inf")
    stall_at_s: float = float("inf")
    stall_s: float = 1.0
    route_at_s: float = float("inf")
    route_step_s: float = 0.0

    @property
    def round_trip_s(self) -> float:
        """The shortest round trip."""
        return self.up_s + self.down_s


QUALITIES = ("wired", "home_wireless", "mobile", "distant", "awful")
_RANGES: dict[str, dict[str, tuple[float, float]]] = {
    "wired": {"trip": (0.012, 0.05), "jitter": (0.0003, 0.001), "loss": (0.0, 0.3), "bad": (0.0, 0.002)},
    "home_wireless": {"trip": (0.02, 0.07), "jitter": (0.001, 0.004), "loss": (0.2, 0.5), "bad": (0.005, 0.02)},
    "mobile": {"trip": (0.05, 0.11), "jitter": (0.004, 0.012), "loss": (0.2, 0.5), "bad": (0.02, 0.05)},
    "distant": {"trip": (0.14, 0.2), "jitter": (0.001, 0.003), "loss": (0.1, 0.3), "bad": (0.01, 0.02)},
    "awful": {"trip": (0.1, 0.18), "jitter": (0.01, 0.025), "loss": (0.4, 0.8), "bad": (0.05, 0.1)},
}


def line_of(quality: str, seconds: float, rng: np.random.Generator) -> LineQuality:
    """A line of a named quality, drawn for a match of so many seconds."""
    low_high = _RANGES[quality]
    trip, jitter, loss, bad = (float(rng.uniform(*low_high[key])) for key in ("trip", "jitter", "loss", "bad"))
    share = float(rng.uniform(0.4, 0.6))
    poor = quality in ("mobile", "awful")
    awful = quality == "awful"
    return LineQuality(
        quality, trip * share, trip * (1.0 - share), jitter, loss, bad, float(rng.uniform(2.0, 6.0)),
        reorder=0.01 if poor else 0.0005,
        duplicate=0.005 if awful else 0.0005,
        bytes_per_s=500e3 if awful else 1e6 if poor else float("inf"),
        stall_at_s=float(rng.uniform(0.3, 0.8)) * seconds if awful else float("inf"),
        route_at_s=float(rng.uniform(0.2, 0.9)) * seconds if awful or quality == "distant" else float("inf"),
        route_step_s=float(rng.uniform(0.005, 0.02)),
    )  # fmt: skip


class Path:
    """One direction of a line."""

    __slots__ = ("_bad", "_free_at", "_last", "_line", "_rng", "_trip_s")

    def __init__(self, line: LineQuality, trip_s: float, rng: np.random.Generator) -> None:
        self._line, self._trip_s, self._rng = line, trip_s, rng
        self._bad = False
        self._free_at = self._last = float("-inf")

    def send(self, now: float, size: int) -> tuple[float, ...]:
        """Return the arrivals of a packet that is sent now: none, one or two."""
        line = self._line
        lost, turn, late, odd = self._rng.random(4).tolist()
        if line.loss > 0.0 and self._in_bad_spell(turn) and lost < line.loss:
            return ()
        start = now
        if line.stall_at_s <= now < line.stall_at_s + line.stall_s:
            start = line.stall_at_s + line.stall_s
        if line.bytes_per_s != float("inf"):
            start = max(start, self._free_at)
            if start - now > QUEUE_S + line.stall_s:
                return ()
            self._free_at = start = start + size / line.bytes_per_s
        trip = self._trip_s + (line.route_step_s if now >= line.route_at_s else 0.0)
        extra = line.jitter_s * (TAIL_SHAPE - 1.0) * ((1.0 - late) ** (-1.0 / TAIL_SHAPE) - 1.0)
        arrives = start + trip + extra
        if odd >= line.reorder:  # packets of one connection mostly stay behind each other
            arrives = max(arrives, self._last)
            self._last = arrives
        return (arrives, arrives + extra + 0.001) if odd > 1.0 - line.duplicate else (arrives,)

    def _in_bad_spell(self, turn: float) -> bool:
        line = self._line
        leave = 1.0 / max(1.0, line.spell)
        enter = leave * line.bad_fraction / max(1e-9, 1.0 - line.bad_fraction)
        self._bad = turn >= leave if self._bad else turn < enter
        return self._bad


class Parcel(NamedTuple):
    """Something under way. Parcels that arrive at the same instant arrive in the order they were sent."""

    arrives_at: float
    number: int
    client: int
    kind: str
    content: Any


class Post:
    """Everything under way to one end, in the order of arrival. paths : one for each client."""

    def __init__(self, paths: list[Path]) -> None:
        self._paths = paths
        self._heap: list[Parcel] = []
        self._sent = 0

    def send(self, now: float, client: int, kind: str, content: object, size: int = 120) -> None:
        """Send something of so many bytes over a client's path."""
        for at in self._paths[client].send(now, size):
            self._sent += 1
            heapq.heappush(self._heap, Parcel(at, self._sent, client, kind, content))

    def arrived(self, now: float) -> list[Parcel]:
        """Return the packets that have arrived by now, in order."""
        out = []
        while self._heap and self._heap[0].arrives_at <= now:
            out.append(heapq.heappop(self._heap))
        return out
