"""Obstacles between two places: walls, panes, hedges, and moving cover such as doors.

There is one answer for everything that goes through the world. A shot, a muzzle that is held out, a blow, a move and a
splash ask the same question of the same surfaces, at the instant that each is ruled at.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.kernels.cover import covers_along

if TYPE_CHECKING:
    from tinclock.core.geometry.level import Level, LevelHit
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.core.vectors import Triple

INF = math.inf


class Instant(NamedTuple):
    """Instant of the history: two of its ring slots, and the fraction between them."""

    from_slot: int
    to_slot: int
    fraction: float


class Obstacle(NamedTuple):
    """Obstacle: its distance along the way, the name of its surface or rig, and its entity (0: the level's)."""

    distance_m: float
    name: str
    entity: int = 0


class Span(NamedTuple):
    """A stretch of a way inside something, in metres along it."""

    enter_m: float
    leave_m: float
    name: str
    resistance_per_m: float
    entity: int = 0

    def cost(self, distance_m: float) -> float:
        """Return the cost of the part before a distance."""
        length = min(self.leave_m, distance_m) - self.enter_m
        return length * self.resistance_per_m if length > 0.0 else 0.0


class Cover:
    """Everything in a match that can be in the way: the level's surfaces, and entities whose rig only blocks."""

    def __init__(self, history: PoseHistory, level: Level | None) -> None:
        self._history, self._level = history, level

    def first(
        self, start: Triple, along: Triple, length_m: float, at: Instant, *, radius_m: float = 0.0, ignore: int = 0
    ) -> Obstacle | None:
        """The first thing in the way of a ball (of a point, without a radius); None for a clear way.

        start : metres; along : the unit direction of the way; ignore : an entity that is no obstacle to itself
        """
        wall = None if self._level is None else self._level.first(start, along, length_m, radius_m)
        limit = length_m if wall is None else wall.distance_m
        door = min(self._moving(start, along, limit, at, radius_m, ignore), key=_nearest, default=None)
        if door is not None and (wall is None or door.enter_m < wall.distance_m):
            return Obstacle(door.enter_m, door.name, door.entity)
        return None if wall is None else Obstacle(wall.distance_m, wall.surface.name)

    def between(
        self, start: Triple, end: Triple, at: Instant, *, budget: float = 0.0, ignore: int = 0
    ) -> tuple[Obstacle | None, float]:
        """Return the obstacle of a shot with this budget between two points, and the cost of the way until there.

        budget : the weapon's `penetration`; with 0, whatever is in the way stops it
        """
        length = math.dist(start, end)
        if length == 0.0:
            return None, 0.0
        along = tuple((b - a) / length for a, b in zip(start, end, strict=True))
        way = (along[0], along[1], along[2])
        if budget <= 0.0:
            return self.first(start, way, length, at, ignore=ignore), 0.0
        spans = self.spans(start, way, length, at, ignore)
        reach, hardest = reach_of(spans, budget, length)
        stop = None if hardest is None else Obstacle(reach, hardest.name, hardest.entity)
        return stop, 0.0 if stop else sum(span.cost(length) for span in spans)

    def spans(self, start: Triple, along: Triple, length_m: float, at: Instant, ignore: int = 0) -> list[Span]:
        """All stretches of a way that lie inside something, in order: what shots that penetrate pay for."""
        crossings = [] if self._level is None else self._level.all_along(start, along, length_m)
        return sorted([*solid_spans(crossings, length_m), *self._moving(start, along, length_m, at, 0.0, ignore)])

    def _moving(
        self, start: Triple, along: Triple, limit: float, at: Instant, radius_m: float, ignore: int
    ) -> list[Span]:
        columns = self._history.columns
        if not columns.covers:
            return []
        room = 16
        while True:
            owners, rows, spans = np.empty(room, np.int64), np.empty(room, np.int64), np.empty((room, 2))
            found = covers_along(
                (*start, *along), radius_m, limit, (*at,), columns.of(ignore), columns.stored, owners, rows, spans
            )
            if found <= room:
                break
            room = found
        out = []
        for k in range(found):
            rig = columns.rig_at(int(owners[k]))
            enter, leave = spans[k].tolist()
            out.append(
                Span(enter, leave, rig.name, rig.resistance_per_m, columns.named(int(owners[k]), int(rows[k]))[0])
            )
        return out


def _nearest(span: Span) -> tuple[float, int]:
    return span.enter_m, span.entity


def solid_spans(hits: list[LevelHit], length_m: float) -> list[Span]:
    """Return the spans of a ray inside each kind of surface, from all its crossings in order.

    Surfaces must be closed: the way inside runs from a front face to the next back face of the same kind, and one that
    never ends runs to the end of the way.
    """
    spans, inside = [], dict[str, tuple[float, int]]()
    for hit in hits:
        name = hit.surface.name
        start, depth = inside.get(name, (0.0 if hit.facing > 0.0 else hit.distance_m, 1 if hit.facing > 0.0 else 0))
        depth += 1 if hit.facing < 0.0 else -1
        if depth <= 0:
            spans.append(Span(start, hit.distance_m, name, hit.surface.resistance_per_m))
            inside.pop(name, None)
        else:
            inside[name] = (start, depth)
    resistance = {hit.surface.name: hit.surface.resistance_per_m for hit in hits}
    spans += [Span(start, length_m, name, resistance[name]) for name, (start, _) in inside.items()]
    return sorted(spans)


def reach_of(spans: list[Span], budget: float, length_m: float) -> tuple[float, Span | None]:
    """Return the reach of a shot with this budget through the spans, and its obstacle (None: it gets all the way)."""
    edges = sorted({0.0, length_m, *(min(e, length_m) for span in spans for e in (span.enter_m, span.leave_m))})
    left = budget
    for a, b in pairwise(edges):
        within = [span for span in spans if span.enter_m <= a and span.leave_m >= b]
        rate = sum(span.resistance_per_m for span in within)
        if within and rate * (b - a) >= left:
            hardest = max(within, key=lambda span: span.resistance_per_m)
            return a + (0.0 if rate == INF else left / rate), hardest
        left -= rate * (b - a) if within else 0.0
    return length_m, None
