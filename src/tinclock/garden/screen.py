"""Screen of a client. Nothing here is shared with the core: interpolation is written a second time, as a check."""

from __future__ import annotations

import bisect
import math
from collections import deque
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.vectors import Triple

NO_DISTANCE = math.inf


class GameState(NamedTuple):
    """State of a barrow run that a snapshot carries.

    rides : vehicle of each rider; water : litres in each watering can
    thrown : server time and velocity, metres a second, of the last push of each body
    """

    phase: str
    rides: dict[int, int]
    thrown: dict[int, tuple[float, Triple]]
    water: dict[int, float]


class SentSnapshot(NamedTuple):
    """Snapshot of the server: for each entity its life and its bones (bones, 7), xyz + quaternion xyzw."""

    tick: int
    server_time: float
    bodies: dict[int, tuple[int, NDArray[np.float64]]]
    health: dict[int, float]
    game: GameState | None = None


Shown = tuple[SentSnapshot, SentSnapshot, float]
"""View of a screen: two snapshots and the fraction between them."""


class OnCrosshair(NamedTuple):
    """Target of a crosshair: nobody (victim 0) or a part of a body, at a distance in metres.

    kept : share of the shot's damage that is left there, after what it passes
    """

    victim: int
    part: str
    zone: str
    distance_m: float
    kept: float = 1.0


class Playout:
    """Snapshots that a client draws between. It keeps those that arrived and follows the fastest arrivals."""

    WINDOW_S = 2.0
    KEPT = 64

    def __init__(self, delay_s: float) -> None:
        self.delay_s = delay_s
        self._times: list[float] = []
        self._held: list[SentSnapshot] = []
        self._trips: deque[tuple[float, float]] = deque()

    def take(self, snapshot: SentSnapshot, client_time: float) -> None:
        """A snapshot arrived at a time of the client's own clock."""
        trip = client_time - snapshot.server_time
        place = bisect.bisect_left(self._times, snapshot.server_time)
        if place < len(self._times) and self._times[place] == snapshot.server_time:
            return  # it came twice
        self._times.insert(place, snapshot.server_time)
        self._held.insert(place, snapshot)
        while self._trips and self._trips[-1][1] >= trip:
            self._trips.pop()
        self._trips.append((client_time, trip))
        while self._trips[0][0] < client_time - self.WINDOW_S:
            self._trips.popleft()
        if len(self._held) > self.KEPT:
            del self._held[0], self._times[0]

    def view(self, client_time: float) -> tuple[SentSnapshot, SentSnapshot, float] | None:
        """(from, to, fraction) at a time of the client's clock; the newest one, held, when nothing newer came."""
        if not self._trips:
            return None
        drawn_at = client_time - self._trips[0][1] - self.delay_s
        place = bisect.bisect_right(self._times, drawn_at)
        if place == 0:
            return None
        a = self._held[place - 1]
        if place == len(self._held):
            return a, a, 0.0
        b = self._held[place]
        return a, b, (drawn_at - a.server_time) / (b.server_time - a.server_time)


def point_of(view: tuple[SentSnapshot, SentSnapshot, float], entity: int, bone: int) -> tuple[float, float, float]:
    """Return the drawn position of a bone of an entity in the view's first snapshot."""
    a, b, fraction = view
    life, here = a.bodies[entity]
    x, y, z = here[bone, :3].tolist()
    there = b.bodies.get(entity)
    if fraction == 0.0 or there is None or there[0] != life:
        return x, y, z
    u, v, w = there[1][bone, :3].tolist()
    return x + fraction * (u - x), y + fraction * (v - y), z + fraction * (w - z)


def drawn(view: tuple[SentSnapshot, SentSnapshot, float], entity: int) -> NDArray[np.float64] | None:
    """An entity's bones as drawn at a view; None when it isn't there.

    Returns (bones, 7) float64, metres and quaternion xyzw.
    """
    a, b, fraction = view
    if entity not in a.bodies:
        return None
    life, here = a.bodies[entity]
    first = here.copy()
    if fraction == 0.0 or entity not in b.bodies or b.bodies[entity][0] != life:
        first[:, 3:] /= np.linalg.norm(first[:, 3:], axis=1, keepdims=True)
        return first
    last = b.bodies[entity][1]
    out = (1.0 - fraction) * first + fraction * last
    out[:, 3:] = _between(first[:, 3:], last[:, 3:], fraction)
    return out


def _between(a: NDArray[np.float64], b: NDArray[np.float64], fraction: float) -> NDArray[np.float64]:
    """Rotations (n, 4) along the shorter arc from a to b, by the half-angle of their difference."""
    a = a / np.linalg.norm(a, axis=1, keepdims=True)
    b = b / np.linalg.norm(b, axis=1, keepdims=True)
    b = np.where((a * b).sum(1, keepdims=True) < 0.0, -b, b)
    apart = 2.0 * np.arctan2(np.linalg.norm(a - b, axis=1), np.linalg.norm(a + b, axis=1))[:, None]
    still = apart[:, 0] < 1e-9
    safe = np.where(still[:, None], 1.0, np.sin(apart))
    mixed = np.sin((1.0 - fraction) * apart) / safe * a + np.sin(fraction * apart) / safe * b
    return np.where(still[:, None], a, mixed)
