"""Ways of gardeners: a grid of free places in the level, and wanderers with inertia that follow it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from tinclock.garden.gait import STRIDE_M

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level

GRID_M = 1.5
HALF_WIDTH_M, HALF_DEPTH_M = 19.5, 14.25
CLEARANCE_M = 0.4
HEAD_ROOM_M = 1.9
CELL_M, BODY_M, BODY_UP_M = 0.05, 0.34, 0.9
"""Walls are looked for so far around a body, at this height."""
AROUND = np.array([[math.cos(a), math.sin(a), 0.0] for a in np.linspace(0.0, 2.0 * math.pi, 16, endpoint=False)])
COVER_UP_M = 0.9
"""Minimum height of an obstacle that hides a crouching body."""


class Ground:
    """The places where a gardener can stand, and which of them it can walk between in a straight line."""

    def __init__(self, level: Level) -> None:
        xs = np.arange(-HALF_WIDTH_M + 0.75, HALF_WIDTH_M, GRID_M)
        ys = np.arange(-HALF_DEPTH_M + 0.75, HALF_DEPTH_M, GRID_M)
        places = np.array([(x, y) for x in xs for y in ys])
        above = np.column_stack([places, np.full(len(places), HEAD_ROOM_M)])
        drop = level.first_many(above, np.tile([0.0, 0.0, -1.0], (len(above), 1)), HEAD_ROOM_M + 1.0)
        self.places = places[drop.distance_m > HEAD_ROOM_M - 0.05]
        self.neighbours = self._neighbours(level)
        self.standing = np.array(self._largest_region())
        self._level = level
        self._clear: dict[tuple[int, int], bool] = {}
        self.barred: tuple[float, float, float, float] | None = None
        """Return the area that a door closes now: least and greatest x, least and greatest y."""

    def _neighbours(self, level: Level) -> list[list[int]]:
        apart = np.abs(self.places[:, None] - self.places[None]).max(axis=2)
        pairs = np.argwhere((apart > 0.0) & (apart < 1.01 * GRID_M))
        start = self.places[pairs[:, 0]]
        step = self.places[pairs[:, 1]] - start
        length = np.linalg.norm(step, axis=1)
        along = step / length[:, None]
        aside = np.column_stack([-along[:, 1], along[:, 0]]) * CLEARANCE_M
        clear = np.ones(len(pairs), bool)
        for side in (-1.0, 0.0, 1.0):
            for height in (0.15, 1.6):
                origin = np.column_stack([start + side * aside, np.full(len(pairs), height)])
                heading = np.column_stack([along, np.zeros(len(pairs))])
                clear &= np.isinf(level.first_many(origin, heading, length + CLEARANCE_M).distance_m)
        near: list[list[int]] = [[] for _ in self.places]
        for i, j in pairs[clear].tolist():
            near[i].append(j)
        return near

    def _largest_region(self) -> list[int]:
        """The largest set of places that can all be reached from each other."""
        left, best = set(range(len(self.places))), set[int]()
        while left:
            region, edge = set[int](), {left.pop()}
            while edge:
                region |= edge
                edge = {j for i in edge for j in self.neighbours[i]} - region
            left -= region
            best = max(best, region, key=len)
        return sorted(best)

    def clear(self, x: float, y: float) -> bool:
        """True if a body can stand around here without touching a wall or a shut door."""
        if self.barred is not None:
            left, right, near, far = self.barred
            if math.hypot(x - min(max(x, left), right), y - min(max(y, near), far)) < BODY_M:
                return False
        return self._clear_of_walls(x, y)

    def _clear_of_walls(self, x: float, y: float) -> bool:
        """The same for walls alone, which don't move: looked up in cells, once each."""
        cell = (round(x / CELL_M), round(y / CELL_M))
        known = self._clear.get(cell)
        if known is None:
            here = np.tile([cell[0] * CELL_M, cell[1] * CELL_M, BODY_UP_M], (len(AROUND), 1))
            known = bool(np.isinf(self._level.first_many(here, AROUND, BODY_M).distance_m).all())
            self._clear[cell] = known
        return known

    def nearest(self, x: float, y: float) -> int:
        """The place nearest to a point, among those that can be reached."""
        apart = self.places[self.standing] - (x, y)
        return int(self.standing[int((apart * apart).sum(axis=1).argmin())])

    def way(self, start: int, goal: int) -> list[int]:
        """The shortest way from one place to another, both included; just the goal where there is none."""
        came, edge = {start: -1}, [start]
        while edge and goal not in came:
            following = []
            for i in edge:
                for j in self.neighbours[i]:
                    if j not in came:
                        came[j] = i
                        following.append(j)
            edge = following
        out, at = [goal], came.get(goal, -1)
        while at >= 0:
            out.append(at)
            at = came[at]
        return out[::-1]

    def hidden_near(self, x: float, y: float, threat: NDArray[np.float64], within_m: float) -> list[int]:
        """Places nearby that an eye at `threat` doesn't see, nearest first.

        threat : (3,) float64, metres.
        """
        near = self.standing[np.hypot(*(self.places[self.standing] - (x, y)).T) < within_m]
        if not len(near):
            return []
        to = np.column_stack([self.places[near], np.full(len(near), COVER_UP_M)]) - threat
        apart = np.linalg.norm(to, axis=1)
        wall = self._level.first_many(np.tile(threat, (len(near), 1)), to / apart[:, None], apart).distance_m
        order = np.argsort(np.hypot(*(self.places[near] - (x, y)).T), kind="stable")
        return [int(near[k]) for k in order if np.isfinite(wall[k])]

    def random_place(self, rng: np.random.Generator) -> int:
        """A place to start from."""
        return int(rng.choice(self.standing))

    def onward(self, place: int, heading: float, goal: int, rng: np.random.Generator) -> int:
        """A next place, more likely one that lies ahead and towards the goal."""
        near = self.neighbours[place]
        step, rest = self.places[near] - self.places[place], self.places[goal] - self.places[place]
        way = np.arctan2(step[:, 1], step[:, 0])
        weight = np.exp(2.0 * np.cos(way - heading) + 2.0 * np.cos(way - np.arctan2(rest[1], rest[0])))
        return int(near[int(rng.choice(len(near), p=weight / weight.sum()))])


class Walker:
    """One body on the ground, with inertia: it goes where it is sent, or wanders. Metres, seconds, radians."""

    TURN_RATE = 7.0
    GRIP = 9.0
    JUMP_M_S = 3.2
    GRAVITY = 9.81

    def __init__(self, ground: Ground, rng: np.random.Generator) -> None:
        self._ground, self._rng = ground, rng
        self.place_anew()

    def place_anew(self) -> None:
        """Stand at a random place, at rest."""
        self._aim, self._goal = (self._ground.random_place(self._rng) for _ in range(2))
        self._way: list[int] = []
        self.sent = False
        self.x, self.y = (float(v) for v in self._ground.places[self._aim])
        self.vx = self.vy = self.pitch = 0.0
        self.lift = self.rise = self.crouch = self.lean = self.raised = 0.0
        self.wants_crouch = self.wants_lean = 0.0
        self.haste = 1.0
        self.sits = False
        self.yaw = float(self._rng.uniform(-math.pi, math.pi))
        self.phase = float(self._rng.uniform(0.0, 2.0 * math.pi))
        self._pace, self._rest = 3.0, 0.0

    def send(self, place: int) -> None:
        """Go to a place by the shortest way, and stay there until `release`."""
        here = self._ground.nearest(self.x, self.y)
        self._way, self.sent = self._ground.way(here, place), True
        self._pace = 4.4
        if self._way:
            self._aim = self._way.pop(0)

    def release(self) -> None:
        """Wander again."""
        if self.sent:
            self.sent, self._way = False, []
            self._aim = self._ground.nearest(self.x, self.y)

    @property
    def arrived(self) -> bool:
        """True if it stands where it was sent."""
        gx, gy = self._ground.places[self._aim]
        return self.sent and not self._way and math.hypot(gx - self.x, gy - self.y) < 0.4

    def jump(self) -> None:
        """Leave the ground, where it stands on it."""
        if self.lift == 0.0:
            self.rise = self.JUMP_M_S

    def throw(self) -> None:
        """Raise the arm; it sinks again by itself."""
        self.raised = 1.0

    def _next_aim(self) -> None:
        if self._way:
            self._aim = self._way.pop(0)
            return
        ground = self._ground
        if np.abs(ground.places[self._aim] - ground.places[self._goal]).max() < 3.0:
            self._goal = ground.random_place(self._rng)
        self._aim = ground.onward(self._aim, math.atan2(self.vy, self.vx), self._goal, self._rng)
        self._pace = float(self._rng.uniform(1.6, 4.6))
        self._rest = 0.6 if self._rng.random() < 0.06 else 0.0

    def step(self, seconds: float, face: float | None, look: float) -> None:
        """Walk on for a while, turning towards `face` (None: where it goes) and looking down by `look`."""
        gx, gy = self._ground.places[self._aim]
        heading, left = math.atan2(gy - self.y, gx - self.x), math.hypot(gx - self.x, gy - self.y)
        if left < 0.6 and not (self.sent and not self._way):
            self._next_aim()
        self._rest = max(0.0, self._rest - seconds)
        pace = 0.0 if self._rest > 0.0 else self._pace * self.haste * (1.0 - 0.5 * self.crouch)
        if self.sent and not self._way:
            pace = min(pace, 3.0 * left) if left > 0.05 else 0.0
        wx, wy = pace * math.cos(heading) - self.vx, pace * math.sin(heading) - self.vy
        change = math.hypot(wx, wy)
        share = min(1.0, self.GRIP * self.haste * seconds / change) if change > 0.0 else 0.0
        if self.sits:
            self.vx = self.vy = 0.0
        else:
            self.vx, self.vy = self.vx + share * wx, self.vy + share * wy
            self._go(self.vx * seconds, self.vy * seconds)
            self._pose(seconds)
        wanted = math.atan2(self.vy, self.vx) if face is None and math.hypot(self.vx, self.vy) > 0.3 else face
        if wanted is not None:
            off = math.remainder(wanted - self.yaw, 2.0 * math.pi)
            self.yaw += max(-self.TURN_RATE * seconds, min(self.TURN_RATE * seconds, off))
        self.pitch += (look - self.pitch) * min(1.0, 8.0 * seconds)
        self.phase += 2.0 * math.pi * math.hypot(self.vx, self.vy) * seconds / STRIDE_M

    def _go(self, dx: float, dy: float) -> None:
        """Take a step, or as much of it as walls leave."""
        clear = self._ground.clear
        if clear(self.x + dx, self.y + dy) or not clear(self.x, self.y):
            self.x, self.y = self.x + dx, self.y + dy
        elif clear(self.x + dx, self.y):
            self.x, self.vy = self.x + dx, 0.0
        elif clear(self.x, self.y + dy):
            self.y, self.vx = self.y + dy, 0.0
        else:
            self.vx = self.vy = 0.0

    def _pose(self, seconds: float) -> None:
        if self.lift > 0.0 or self.rise > 0.0:
            self.lift = max(0.0, self.lift + self.rise * seconds)
            self.rise = self.rise - self.GRAVITY * seconds if self.lift > 0.0 else 0.0
        self.crouch += (self.wants_crouch - self.crouch) * min(1.0, 6.0 * seconds)
        self.lean += (self.wants_lean - self.lean) * min(1.0, 6.0 * seconds)
        self.raised = max(0.0, self.raised - 2.5 * seconds)

    @property
    def state(self) -> tuple[float, ...]:
        """The fields of `Bodies`, in their order."""
        cos, sin = math.cos(self.yaw), math.sin(self.yaw)
        ahead, aside = self.vx * cos + self.vy * sin, self.vy * cos - self.vx * sin
        return (
            self.x, self.y, self.yaw, self.pitch, self.phase, ahead, aside, self.lift, self.crouch, self.lean,
            self.raised,
        )  # fmt: skip
