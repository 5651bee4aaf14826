"""Target of a crosshair: the truth that rulings are compared with.

Nothing here is shared with the core. Shapes and walls are written a second time, plainly, in NumPy.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.plain import Fields
from tinclock.garden.screen import NO_DISTANCE, OnCrosshair, SentSnapshot, drawn, point_of

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.rules.rigs import RigRules

FURTHEST_PART_M = 2.7
"""No part of a body in the garden lies further from its first bone, the door's included."""


def _matrices(q: NDArray[np.float64]) -> NDArray[np.float64]:
    """(n, 3, 3) rotation matrices."""
    x, y, z, w = q.T
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(row, -1) for row in rows], -2)


class Shapes:
    """One rig's parts as arrays."""

    def __init__(self, rig: RigRules) -> None:
        bone = {b.name: row for row, b in enumerate(rig.bones)}
        self.parts, self.blocks_only = rig.parts, rig.blocks_only
        self._bone = [bone[part.bone] for part in rig.parts]
        self._round = [k for k, part in enumerate(rig.parts) if part.shape != "box"]
        self._square = [k for k, part in enumerate(rig.parts) if part.shape == "box"]
        ends = [(p.start or p.centre or (0, 0, 0), p.end or p.centre or (0, 0, 0)) for p in rig.parts]
        self._start = np.array([start for start, _ in ends], float)
        self._end = np.array([end for _, end in ends], float)
        self._radius = np.array([p.radius_m or 0.0 for p in rig.parts])
        self._half = np.array([p.half_size_m or (0, 0, 0) for p in rig.parts], float)

    def distances(self, bones: NDArray[np.float64], origin: NDArray[np.float64], along: NDArray[np.float64]) -> Any:
        """Distance at which the ray enters each part of one drawn body, (parts,) float64, inf for a miss.

        bones : (bones, 7), metres and quaternion xyzw; origin, along : (3,), metres, and unit. Returns metres.
        """
        held = bones[self._bone]
        place, frame = held[:, :3], _matrices(held[:, 3:])
        out = np.full(len(self.parts), NO_DISTANCE)
        r = self._round
        if r:
            a = place[r] + np.einsum("nij,nj->ni", frame[r], self._start[r])
            b = place[r] + np.einsum("nij,nj->ni", frame[r], self._end[r])
            out[r] = _swollen_segments(a - origin, b - origin, along, self._radius[r])
        s = self._square
        if s:
            centre = np.array([self.parts[k].centre or (0, 0, 0) for k in s], float)
            local = np.einsum("nji,nj->ni", frame[s], origin - place[s]) - centre
            near, far = _slabs(local, np.einsum("nji,j->ni", frame[s], along), self._half[s])
            out[s] = np.where((near <= far) & (far >= 0.0), np.maximum(near, 0.0), NO_DISTANCE)
        return out


class Crosshair:
    """Tests a ray against drawn bodies and against the level's boxes. `rig_of` names the rig of each entity."""

    def __init__(
        self, rigs: Mapping[str, RigRules], rig_of: Mapping[int, str], boxes: list[Fields],
        surfaces: Fields,
    ) -> None:  # fmt: skip
        self._shapes = {name: Shapes(rig) for name, rig in rigs.items()}
        self.rig_of = rig_of
        self._middle = np.array([b["centre"] for b in boxes], float)
        self._size = np.array([b["size"] for b in boxes], float) / 2
        angle = np.radians([b.get("yaw_deg", 0.0) for b in boxes])
        self._cos, self._sin = np.cos(angle), np.sin(angle)
        self._resistance = np.array([surfaces[b["surface"]].get("resistance_per_m", 1e15) for b in boxes])

    def _crossings(self, origin: NDArray[np.float64], along: NDArray[np.float64]) -> tuple[Any, Any]:
        o, d = origin - self._middle, np.broadcast_to(along, self._middle.shape)
        cos, sin = self._cos, self._sin
        local = np.stack([cos * o[:, 0] + sin * o[:, 1], cos * o[:, 1] - sin * o[:, 0], o[:, 2]], 1)
        way = np.stack([cos * d[:, 0] + sin * d[:, 1], cos * d[:, 1] - sin * d[:, 0], d[:, 2]], 1)
        return _slabs(local, way, self._size)

    def passage(
        self, origin: NDArray[np.float64], along: NDArray[np.float64], range_m: float, penetration: float
    ) -> tuple[float, Any]:
        """Return the reach of a shot, and a function from distance to the fraction of its damage that is left there.

        origin, along : (3,) float64, metres, and unit.
        """
        near, far = self._crossings(origin, along)
        met = (near <= far) & (far >= 0.0)
        enter, leave, rate = np.maximum(near[met], 0.0), far[met], self._resistance[met]

        def used(distance: float) -> float:
            inside = np.clip(distance, enter, leave) - enter
            return float((inside * rate).sum())

        if penetration <= 0.0:
            return min(range_m, float(enter.min(initial=NO_DISTANCE))), lambda _: 1.0
        low, high = 0.0, range_m
        if used(high) >= penetration:
            for _ in range(44):  # to a hundred-millionth of a millimetre
                half = (low + high) / 2.0
                low, high = (half, high) if used(half) < penetration else (low, half)
        return high, lambda distance: 1.0 - used(distance) / penetration

    def look(
        self,
        view: tuple[SentSnapshot, SentSnapshot, float],
        me: int,
        origin: NDArray[np.float64],
        along: NDArray[np.float64],
        range_m: float,
        penetration: float,
        riding: int = 0,
    ) -> OnCrosshair:
        """Return the target of the crosshair, which is never the vehicle that one rides.

        origin, along : (3,) float64, metres, and unit.
        """
        reach, kept = self.passage(origin, along, range_m, penetration)
        best = OnCrosshair(0, "", "", reach)
        for entity in sorted(view[0].bodies):
            if entity in (me, riding) or _apart(np.array(point_of(view, entity, 0)) - origin, along) > FURTHEST_PART_M:
                continue
            bones = drawn(view, entity)
            if bones is None:  # pragma: no cover - it is among the bodies
                continue
            shapes = self._shapes[self.rig_of[entity]]
            distance = shapes.distances(bones, origin, along)
            k = int(np.argmin(distance))
            if distance[k] <= best.distance_m and distance[k] < NO_DISTANCE:
                at = float(distance[k])
                seen = OnCrosshair(entity, shapes.parts[k].name, shapes.parts[k].zone, at, kept(at))
                best = OnCrosshair(0, "", "", at) if shapes.blocks_only else seen  # a door is in the way, and nobody
        return best


def _apart(to: NDArray[np.float64], along: NDArray[np.float64]) -> float:
    """Return the distance of the line along a unit vector from a point."""
    return float(np.linalg.norm(to - (to @ along) * along))


def _slabs(local: Any, way: Any, half: Any) -> tuple[Any, Any]:
    with np.errstate(divide="ignore", invalid="ignore"):
        t1, t2 = (-half - local) / way, (half - local) / way
    low, high = np.minimum(t1, t2), np.maximum(t1, t2)
    outside = (way == 0.0) & (np.abs(local) > half)
    low = np.where(way == 0.0, np.where(outside, np.inf, -np.inf), low)
    high = np.where(way == 0.0, np.where(outside, -np.inf, np.inf), high)
    return low.max(1), high.min(1)


def _swollen_segments(a: Any, b: Any, d: Any, radius: Any) -> Any:
    """Entry of the ray from 0 along d into each segment a..b swollen by its radius: the least of the cylinder's entry,
    where that lies beside the segment, and of the two end balls.
    """
    axis = b - a
    length2 = (axis * axis).sum(1)
    out = np.full(len(a), NO_DISTANCE)
    for centre in (a, b):
        along = centre @ d
        spare = radius**2 - ((centre - along[:, None] * d) ** 2).sum(1)
        half = np.sqrt(np.maximum(spare, 0.0))
        entry = np.where(along - half >= 0.0, along - half, np.where(along + half >= 0.0, 0.0, NO_DISTANCE))
        out = np.minimum(out, np.where(spare >= 0.0, entry, NO_DISTANCE))
    tube = length2 > 0.0
    u = axis / np.sqrt(np.where(tube, length2, 1.0))[:, None]
    dp, op = d - (u @ d)[:, None] * u, -a - ((-a * u).sum(1))[:, None] * u
    qa, qb, qc = (dp * dp).sum(1), (dp * op).sum(1), (op * op).sum(1) - radius**2
    disc = qb * qb - qa * qc
    sound = tube & (disc >= 0.0) & (qa > 1e-14)
    root, safe = np.sqrt(np.where(sound, disc, 0.0)), np.where(sound, qa, 1.0)
    for t in ((-qb - root) / safe, np.zeros(len(a))):
        beside = (t[:, None] * d - a) * u
        inside = (beside.sum(1) >= 0.0) & (beside.sum(1) <= np.sqrt(length2)) & (t >= 0.0)
        within = t * t * qa + 2 * t * qb + qc <= 1e-12
        out = np.minimum(out, np.where(sound & inside & within, t, NO_DISTANCE))
    return out
