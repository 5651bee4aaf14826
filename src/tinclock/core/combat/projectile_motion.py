"""One projectile's motion as a function of time: where it is, whatever the tick rate and the caller."""

from __future__ import annotations

import math
from bisect import bisect_right
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.combat.motion import Motion
from tinclock.core.errors import BadNumberError
from tinclock.core.kernels import layout, sweep, trajectory

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.projectiles import ProjectileRules
    from tinclock.core.vectors import Triple

NO_HEADER = np.zeros(16, np.int64)
NO_LEVEL = (NO_HEADER, 0.0, 0.0, 0.0)
NO_TIMES, NO_SLOTS = np.empty(0), np.empty(0, np.int64)


def three(name: str, values: Triple) -> Triple:
    """Three finite numbers as floats, or `BadNumberError`."""
    if len(values) != 3 or not all(map(math.isfinite, values)):
        raise BadNumberError(name, "three finite numbers", values)
    return float(values[0]), float(values[1]), float(values[2])


def motion_of(rules: ProjectileRules) -> Motion:
    """The public part of a flight's table."""
    bounce = rules.bounce
    bounces = (bounce.restitution, bounce.friction, bounce.rest_below_m_s, bounce.max_count)
    return Motion(
        rules.radius_m, rules.gravity_m_s2, rules.drag_per_m, rules.wind_m_s, rules.thrust_m_s2,
        rules.thrust_s, rules.turn_deg_per_s, rules.on_level, *(bounces if rules.on_level == "bounce" else ()),
    )  # fmt: skip


def row_of(
    motion: Motion, start: float, position: Triple, velocity: Triple, last: float, range_m: float
) -> list[float]:
    """A row for the kernels (see `kernels.layout`), its first leg not yet begun."""
    row = [0.0] * layout.FLIGHT_FIELDS
    speed = math.sqrt(sum(v * v for v in velocity))
    row[layout.ORIGIN_TIME], row[layout.LAST], row[layout.DONE] = start, last, start
    row[layout.RADIUS] = row[layout.NEAR] = motion.radius_m
    row[layout.GRAVITY], row[layout.DRAG] = motion.gravity_m_s2, motion.drag_per_m
    row[layout.WIND : layout.WIND + 3] = motion.wind_m_s
    row[layout.THRUST : layout.THRUST + 3] = [motion.thrust_m_s2 * v / speed for v in velocity]
    row[layout.THRUST_END] = start + motion.thrust_s if motion.thrust_m_s2 > 0.0 else -math.inf
    row[layout.TURN_RATE] = math.radians(motion.turn_deg_per_s)
    row[layout.RANGE] = range_m
    row[layout.FROM : layout.FROM + 3] = position
    row[layout.OWNER_FROM] = math.inf
    return row


class Bounce(NamedTuple):
    """It came off (or to rest on) a surface."""

    server_time: float
    position: Triple
    normal: Triple
    rests: bool


def normal_at(level: Level, triangle: int, position: Triple, velocity: Triple) -> Triple:
    """The unit direction straight off what is touched; triangle : the level's row, from a kernel."""
    normal: Triple = sweep.off_the_level(position, velocity, triangle, level.packed)
    return normal


class ProjectilePath:
    """The path of something launched, off the level too where it bounces. Bodies are the referee's to know.

    motion : from the launch event; start : server time; position, velocity : at the launch, metres and m/s
    level : what it bounces off; last : server time after which it is gone; range_m : how far it may get from its launch
    target : for what homes, the position of its target at a server time

    Raises `BadNumberError` for a velocity that is zero or not finite.
    """

    def __init__(
        self, motion: Motion, start: float, position: Triple, velocity: Triple, *, level: Level | None = None,
        last: float = math.inf, range_m: float = math.inf, target: Triple | None = None,
    ) -> None:  # fmt: skip
        position, velocity = three("position", position), three("velocity", velocity)
        if not any(velocity):
            raise BadNumberError("velocity", "three finite numbers, not all zero", velocity)
        if not math.isfinite(start):
            raise BadNumberError("start", "a finite number of seconds", start)
        if math.isnan(last) or not range_m >= 0.0:
            raise BadNumberError("last, range_m", "a number of seconds, and a number of at least 0", (last, range_m))
        target = None if target is None else three("target", target)
        start, last, range_m = float(start), float(last), float(range_m)
        self.motion, self.level = motion, level
        self._target = (math.nan,) * 3 if target is None else target
        row = row_of(motion, start, position, velocity, last, range_m)
        self._rows = np.array([row])
        trajectory.start_leg(self._rows[0], start, position, velocity, self._target)
        self._legs, self._begins = [self._rows[0].copy()], [start]
        self.bounces: list[Bounce] = []
        self.ended_at = math.inf
        """Server time of its end at the level, its range or its last instant, as far as it was followed."""

    def at(self, server_time: float) -> tuple[Triple, Triple]:
        """Place and velocity at a server time, metres and m/s; before the launch and after the end, those there.

        Raises `BadNumberError` for a time that is not finite.
        """
        if not math.isfinite(server_time):
            raise BadNumberError("server_time", "a finite number of seconds", server_time)
        t = max(float(server_time), self._begins[0])
        self._follow(t)
        t = min(t, self.ended_at)
        row = self._legs[bisect_right(self._begins, t) - 1]
        return trajectory.position_at(row, t), trajectory.velocity_at(row, t)

    def path(self, times: ArrayLike) -> NDArray[np.float64]:
        """Places at times : (n,) float64, seconds; returns (n, 3) float64, metres."""
        return np.array([self.at(float(t))[0] for t in np.asarray(times, np.float64)]).reshape(-1, 3)

    def _follow(self, until: float) -> None:
        """Fly on, leg by leg, and off the surfaces that are met."""
        row = self._rows[0]
        while row[layout.DONE] < until and self.ended_at == math.inf:
            begin, end = row[layout.START], row[layout.END]
            if row[layout.DONE] >= end:
                trajectory.next_leg(row, self._target)
                if row[layout.START] != begin:
                    self._keep()
                end = row[layout.END]
            kind, at, triangle = self._fly(min(until, end))
            if kind in (sweep.OVER, sweep.TOO_FAR):
                self.ended_at = at
            elif kind == sweep.LEVEL:
                self._touch(at, triangle)

    def _keep(self) -> None:
        self._legs.append(self._rows[0].copy())
        self._begins.append(float(self._rows[0][layout.START]))

    def _fly(self, until: float) -> tuple[int, float, int]:
        kinds, at, columns, parts = np.empty(1, np.int64), np.empty(1), np.empty(1, np.int64), np.empty(1, np.int64)
        none, level = np.full(1, -1, np.int32), self.level
        sweep.fly(
            (self._rows, none, none, np.full((1, sweep.IGNORED), -1, np.int32)), np.zeros(1, np.int64), float(until),
            (NO_TIMES, NO_SLOTS), (NO_HEADER, 0.0), NO_LEVEL if level is None else level.packed, level is not None,
            (kinds, at, columns, parts),
        )  # fmt: skip
        return int(kinds[0]), float(at[0]), int(columns[0])

    def _touch(self, at: float, triangle: int) -> None:
        row, motion = self._rows[0], self.motion
        position, velocity = trajectory.position_at(row, at), trajectory.velocity_at(row, at)
        if motion.on_level == "end" or self.level is None or len(self.bounces) >= motion.max_bounces > 0:
            self.ended_at = at
            return
        normal = normal_at(self.level, triangle, position, velocity)
        until = math.inf if motion.on_level == "stick" else motion.rest_below_m_s
        rests = rebound(row, at, normal, motion.restitution, motion.friction, until)
        self.bounces.append(Bounce(at, position, normal, rests))
        self._keep()


def rebound(
    row: NDArray[np.float64], at: float, normal: Triple, restitution: float, friction: float, rest_below_m_s: float
) -> bool:
    """Come off a surface at a time, or stay there; returns whether it stays.

    row : (48,) float64, see `kernels.layout`; at : seconds.
    """
    x, y, z = trajectory.position_at(row, at)
    a, b, c = (p + sweep.SKIN_M * n for p, n in zip((x, y, z), normal, strict=True))
    return bool(trajectory.bounce_leg(row, at, (a, b, c), normal, restitution, friction, rest_below_m_s))
