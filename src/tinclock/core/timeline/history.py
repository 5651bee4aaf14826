"""The pose history: a ring of all poses of the last second or so, and casts through it at a view."""

from __future__ import annotations

import bisect
from collections import deque
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from tinclock.core.arrays import check_finite, check_ray, require_rays, require_shape, spread, unit_direction
from tinclock.core.errors import (
    BadArrayError,
    BadNumberError,
    OutOfHistoryError,
    TimeOrderError,
    UnknownNameError,
)
from tinclock.core.parallel import in_chunks
from tinclock.core.timeline import cast, rewind
from tinclock.core.timeline.columns import Columns
from tinclock.core.timeline.views import View
from tinclock.core.tolerances import TOLERANCES

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import ArrayLike, NDArray

    from tinclock.core.geometry.level import Level, LevelHit
    from tinclock.core.geometry.rig import Part, Rig
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.timeline.packed import Poses

NO_LIMIT = float("inf")
Triple = tuple[float, float, float]


class PartHit(NamedTuple):
    """The hitbox that a ray met: whose, which part (its row in the rig), where it enters and leaves, in metres."""

    entity: int
    part_index: int
    part: Part
    distance_m: float
    leaves_m: float


class PartHits(NamedTuple):
    """Hits of many rays, one row a ray: entity is 0 and distance_m inf where a ray meets nobody.

    entity, part_index : (m,) int64
    distance_m, leaves_m : (m,) float64, metres
    """

    entity: NDArray[np.int64]
    part_index: NDArray[np.int64]
    distance_m: NDArray[np.float64]
    leaves_m: NDArray[np.float64]


class Snapshot(NamedTuple):
    """A published tick that is still held: its ring slot, its server time, and when it was sent."""

    slot: int
    time: float
    sent_at: float


class PoseHistory:
    """Ring buffer of poses. `rigs` names the bodies; entities are added with one of them.

    `storage` "full" keeps float32 poses; "half" keeps them as 16-bit steps, at half the size.
    """

    def __init__(
        self,
        rigs: Mapping[str, Rig],
        *,
        tick_rate_hz: float = 64.0,
        history_s: float = 1.0,
        zone_depth_m: float = 0.0,
        storage: Literal["full", "half"] = "full",
    ) -> None:
        if not (tick_rate_hz > 0.0 and 0.0 < history_s * tick_rate_hz < 1e6):
            raise BadNumberError("tick_rate_hz * history_s", "between 0 and 1,000,000 ticks", tick_rate_hz * history_s)
        self.capacity = int(np.ceil(history_s * tick_rate_hz)) + 2
        self.zone_depth_m = zone_depth_m
        self._columns = Columns(rigs, self.capacity, storage)
        self._tick_at = [-1] * self.capacity
        self._time_at = [float("nan")] * self.capacity
        self._newest_tick, self._newest_time = -1, float("-inf")
        self._ticks: tuple[int, tuple[NDArray[np.float64], NDArray[np.int64], list[int]]]
        self._ticks = (-1, (np.empty(0), np.empty(0, np.int64), []))
        self._held: deque[int] = deque()
        self._published_ticks: deque[int] = deque()
        self._published_times: deque[float] = deque()
        self.snapshots: dict[int, Snapshot] = {}
        """The published ticks that are held, oldest first."""

    # -- who is in it ---------------------------------------------------------------------------------------

    @property
    def rigs(self) -> Mapping[str, Rig]:
        """The bodies that entities may have."""
        return self._columns.rigs

    @property
    def columns(self) -> Columns:
        """The storage, for kernels."""
        return self._columns

    @property
    def nbytes(self) -> int:
        """Bytes of pose storage, bounds included."""
        return self._columns.nbytes

    def add(self, entity: int, rig: str) -> None:
        """Make room for an entity (a positive integer never used before) with a rig."""
        self._columns.add(entity, rig)

    def remove(self, entity: int) -> None:
        """Forget an entity at once, its past included: no later cast meets it."""
        self._columns.remove(entity)

    def cut(self, entity: int) -> None:
        """Mark a cut (respawn, teleport): poses before and after the next record are not interpolated."""
        self._columns.cut(entity)

    def epoch_of(self, entity: int) -> int:
        """How many cuts the entity has had, plus one."""
        return self._columns.epoch(entity)

    def rig_of(self, entity: int) -> Rig:
        """The entity's rig."""
        return self._columns.rig_of(entity)

    # -- recording ------------------------------------------------------------------------------------------

    @property
    def newest_tick(self) -> int:
        """The tick recorded last, -1 before the first."""
        return self._newest_tick

    @property
    def newest_time(self) -> float:
        """Server time of the tick recorded last, -inf before the first."""
        return self._newest_time

    @property
    def oldest_tick(self) -> int:
        """The oldest tick that is still held, -1 before the first."""
        return self._held[0] if self._held else -1

    def record(
        self,
        tick: int,
        server_time: float,
        entities: Sequence[int] | NDArray[np.int64],
        bones: Poses,
    ) -> None:
        """Store the poses of one tick. Entities that are not listed are absent in it.

        entities : (n,) int
            Ids, each once.
        bones : (n, bones, 7) float32 or float64, metres, world frame
            xyz + unit quaternion xyzw of each bone; a list of (bones, 7) arrays where rigs differ.

        Raises `TimeOrderError` for a tick or time that does not rise, `BadArrayError` for shapes, non-finite numbers,
        non-unit quaternions and repeated entities, `UnknownNameError` for an unknown entity. The tick is then not
        stored.
        """
        if tick <= self._newest_tick:
            raise TimeOrderError("tick", tick, self._newest_tick)
        if not server_time > self._newest_time or server_time == float("inf"):
            raise TimeOrderError("server_time", server_time, self._newest_time)
        slot = tick % self.capacity
        self._make_room(tick)
        self._columns.write(slot, entities, bones)
        self._tick_at[slot], self._time_at[slot] = tick, server_time
        self._newest_tick, self._newest_time = tick, server_time
        self._held.append(tick)

    def _make_room(self, tick: int) -> None:
        """Forget what lies a whole ring behind a tick, skipped ticks included, whether or not that tick gets stored."""
        for skipped in range(max(self._newest_tick + 1, tick - self.capacity), tick + 1):
            self._tick_at[skipped % self.capacity] = -1
        while self._held and not self.holds(self._held[0]):
            self._held.popleft()
        while self._published_ticks and not self.holds(self._published_ticks[0]):
            del self.snapshots[self._published_ticks.popleft()]
            self._published_times.popleft()

    def publish(self, tick: int, sent_at: float | None = None) -> None:
        """Note that the tick was sent to the clients, at `sent_at` (default: its own server time)."""
        slot = self._slot(tick, "published tick")
        if self._published_ticks and tick <= self._published_ticks[-1]:
            raise TimeOrderError("published tick", tick, self._published_ticks[-1])
        self._published_ticks.append(tick)
        self._published_times.append(self._time_at[slot])
        self.snapshots[tick] = Snapshot(slot, self._time_at[slot], self._time_at[slot] if sent_at is None else sent_at)

    # -- instants -------------------------------------------------------------------------------------------

    def _slot(self, tick: int, what: str = "tick") -> int:
        slot = tick % self.capacity
        if self._tick_at[slot] != tick or tick < 0:
            raise OutOfHistoryError(what, tick, self.oldest_tick, self._newest_tick)
        return slot

    def slot_of(self, tick: int) -> int:
        """The ring slot of a tick; raises `OutOfHistoryError` for one that is not held."""
        return self._slot(tick)

    def ticks(self) -> tuple[NDArray[np.float64], NDArray[np.int64], list[int]]:
        """The recorded ticks that are held, oldest first: server times (n,) float64, ring slots (n,) int64, ticks."""
        if self._ticks[0] == self._newest_tick:
            return self._ticks[1]
        first = max(0, self._newest_tick - self.capacity + 1)
        held = [tick for tick in range(first, self._newest_tick + 1) if self.holds(tick)]
        slots = np.array([tick % self.capacity for tick in held], np.int64)
        fresh = (np.array([self._time_at[slot] for slot in slots.tolist()]), slots, held)
        self._ticks = (self._newest_tick, fresh)
        return fresh

    def time_in(self, slot: int) -> float:
        """Server time of the tick in a ring slot."""
        return self._time_at[slot]

    def holds(self, tick: int) -> bool:
        """Whether the tick's poses are still (and already) here."""
        return tick >= 0 and self._tick_at[tick % self.capacity] == tick

    @property
    def first_snapshot_time(self) -> float:
        """Server time of the oldest snapshot that is held, inf before the first."""
        return self._published_times[0] if self._published_times else NO_LIMIT

    def snapshot_before(self, tick: int) -> int | None:
        """The published tick before a published one, None when none is held."""
        place = bisect.bisect_left(self._published_ticks, tick) - 1
        return self._published_ticks[place] if place >= 0 else None

    def time_of(self, view: View) -> float:
        """The server time that a view stands for. Raises `OutOfHistoryError` for ticks that are not held."""
        a = self._time_at[self._slot(view.from_tick, "view at tick")]
        b = self._time_at[self._slot(view.to_tick, "view at tick")]
        return a + view.fraction * (b - a)

    def view_at(self, server_time: float) -> View:
        """The view that interpolates the published snapshots around a server time.

        Later than the newest snapshot, it is that snapshot; earlier than the oldest that is held, `OutOfHistoryError`.
        """
        place = bisect.bisect_right(self._published_times, server_time)
        if place == 0:
            first, last = (self._published_times[k] if self._published_times else NO_LIMIT for k in (0, -1))
            raise OutOfHistoryError("server time", server_time, first, last)
        before = self._published_ticks[place - 1]
        if place == len(self._published_ticks):
            return View(before, before, 0.0)
        a, b = self._published_times[place - 1], self._published_times[place]
        return View(before, self._published_ticks[place], (server_time - a) / (b - a))

    # -- looking --------------------------------------------------------------------------------------------

    def nearest(
        self,
        origin: Triple,
        direction: Triple,
        view: View,
        *,
        limit_m: float = NO_LIMIT,
        ignore: int = 0,
        radius_m: float = 0.0,
    ) -> PartHit | None:
        """The first hitbox along a ray at a view, within `limit_m`, of anybody but entity `ignore`; or None.

        With a radius, what a ball whose centre starts at `origin` touches first, after how many metres. `direction` may
        have any length but zero. A ray that starts inside a hitbox hits it at distance 0. Raises `OutOfHistoryError`
        when the view's ticks are not held, `BadNumberError` for a radius that is negative or not finite.
        """
        if not 0.0 <= radius_m < NO_LIMIT:
            raise BadNumberError("radius_m", "a finite number of at least 0", radius_m)
        slots = self._slot(view.from_tick), self._slot(view.to_tick)
        along = unit_direction(direction)
        check_ray(origin, along)
        ray = (*origin, *along)
        return self.nearest_along(ray, *slots, view.fraction, limit_m, ignore, radius_m)

    def nearest_along(
        self,
        ray: tuple[float, float, float, float, float, float],
        from_slot: int,
        to_slot: int,
        fraction: float,
        limit_m: float,
        ignore: int,
        radius_m: float = 0.0,
    ) -> PartHit | None:
        """`nearest` without checks, for callers that have made them: ray is origin and unit direction."""
        columns = self._columns
        column, row, enter, leave = cast.first_part_alone(
            *ray, radius_m, limit_m, from_slot, to_slot, fraction, columns.of(ignore), self.zone_depth_m,
            columns.header, columns.quantum,
        )  # fmt: skip
        if column < 0:
            return None
        entity, index, part = columns.named(column, row)
        return PartHit(entity, index, part, enter, leave)

    def first_on_path(
        self,
        level: Level,
        origin: Triple,
        direction: Triple,
        slots: tuple[int, int],
        fraction: float,
        limit_m: float,
        ignore: int,
    ) -> tuple[LevelHit | None, PartHit | None]:
        """The first wall within `limit_m` and the first hitbox before it, without checks, in one kernel call."""
        columns = self._columns
        wall, distance, facing, column, row, enter, leave = cast.first_on_path(
            *origin, *direction, limit_m, *slots, fraction, columns.of(ignore), self.zone_depth_m, columns.header,
            columns.quantum, level.header, *level.offset,
        )  # fmt: skip
        met = None if wall < 0 else level.met(wall, distance, facing)
        if column < 0:
            return met, None
        entity, index, part = columns.named(column, row)
        return met, PartHit(entity, index, part, enter, leave)

    def nearest_many(
        self,
        origins: ArrayLike,
        directions: ArrayLike,
        from_ticks: ArrayLike,
        to_ticks: ArrayLike,
        fractions: ArrayLike,
        *,
        limits_m: ArrayLike = NO_LIMIT,
        ignore: ArrayLike = 0,
    ) -> PartHits:
        """`nearest` for many rays, each at its own view.

        origins, directions : (m, 3) float64; from_ticks, to_ticks : (m,) int; fractions : (m,) float64;
        limits_m, ignore : (m,) or one value for all. Results don't depend on how the batch is split.
        """
        start = require_shape("origins", origins, (None, 3), np.float64)
        along = require_shape("directions", directions, (len(start), 3), np.float64)
        count = len(start)
        from_tick, to_tick, skip = (spread(name, value, count, np.int64) for name, value in (
            ("from_ticks", from_ticks), ("to_ticks", to_ticks), ("ignore", ignore)))  # fmt: skip
        share, limit = (spread(name, value, count, np.float64) for name, value in (
            ("fractions", fractions), ("limits_m", limits_m)))  # fmt: skip
        out = PartHits(np.empty(count, np.int64), np.empty(count, np.int64), np.empty(count), np.empty(count))
        ticks, columns = np.array(self._tick_at, np.int64), self._columns
        newest = self._newest_tick % self.capacity
        refused: list[int] = []

        def work(s: slice) -> None:
            row = cast.first_parts(
                start[s], along[s], limit[s], from_tick[s], to_tick[s], share[s], skip[s], ticks, newest,
                columns.lookup, self.zone_depth_m, columns.header, columns.quantum, *(column[s] for column in out),
            )  # fmt: skip
            if row >= 0:
                refused.append(s.start + row)

        in_chunks(count, work)
        if refused:
            self._refuse_ray(start, along, from_tick, to_tick, share)
        return out

    def _refuse_ray(
        self,
        origins: NDArray[np.float64],
        directions: NDArray[np.float64],
        from_ticks: NDArray[np.int64],
        to_ticks: NDArray[np.int64],
        fractions: NDArray[np.float64],
    ) -> None:
        """Raise for the first ray of a batch that can't be cast."""
        require_rays(origins, directions)
        check_finite("fractions", fractions)
        for tick in np.stack([from_ticks, to_ticks], axis=1).ravel().tolist():
            self._slot(tick, "view at tick")
        raise BadArrayError("fractions", f"numbers below {TOLERANCES.largest:g}", str(np.abs(fractions).max()))

    def bones_at(self, entity: int, view: View) -> NDArray[np.float64] | None:
        """An entity's bones at a view: (bones, 7) float64, xyz + quaternion xyzw, world frame; None when absent."""
        rig = self.rig_of(entity)
        out = np.empty((len(rig.bones), 7))
        there = rewind.bones_between(
            self._columns.of(entity), self._slot(view.from_tick), self._slot(view.to_tick),
            float(view.fraction), self._columns.header, self._columns.quantum, out,
        )  # fmt: skip
        return out if there else None

    def hitboxes_at(self, entity: int, view: View) -> Hitboxes | None:
        """An entity's hitboxes at a view, as arrays; None when it is absent there. See also `hitboxes_frame`."""
        from tinclock.core.timeline.hitboxes import hitboxes_at

        return hitboxes_at(self, entity, view)

    def present(self, view: View) -> list[int]:
        """Ids of the entities that are there at a view, rising."""
        columns = self._columns
        a, b = self._slot(view.from_tick), self._slot(view.to_tick)
        epochs = columns.store[1][a if view.fraction < 1.0 else b]
        same = columns.store[1][a] == columns.store[1][b]
        there = np.where(same, columns.store[1][a], epochs) > 0
        return sorted(int(i) for i in columns.store[4][there, 0])

    def eye_now(self, entity: int) -> Triple | None:
        """Where the entity's eye is in the newest tick; None when it is absent."""
        return None if self._newest_tick < 0 else self.eye_in(entity, self._newest_tick % self.capacity)

    def eye_in(self, entity: int, slot: int) -> Triple | None:
        """Where the entity's eye is in a ring slot; None when it is absent."""
        columns = self._columns
        column = columns.of(entity)
        if column < 0:
            return None
        rig = columns.rig_at(column)
        there, x, y, z = rewind.point_on_bone(
            column, rig.eye_bone, *rig.eye_at, slot, columns.header, columns.quantum
        )  # fmt: skip
        return (x, y, z) if there else None

    def epoch_in(self, entity: int, slot: int) -> int:
        """The entity's epoch in a ring slot, 0 when it was absent."""
        column = self._columns.of(entity)
        return 0 if column < 0 else int(self._columns.store[1][slot, column])

    def require(self, entity: int) -> None:
        """Raise `UnknownNameError` unless the entity was added and not removed."""
        if self._columns.of(entity) < 0:
            raise UnknownNameError("entity", entity, self._columns.entities)
