"""The pose history: a ring of all poses of the last second or so, and casts through it at a view."""

from __future__ import annotations

import bisect
from collections import deque
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from tinclock.core.arrays import (
    check_finite,
    require_limits,
    require_rays,
    require_shape,
    sound_ray,
    spread,
    unit_direction,
)
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
    from collections.abc import Iterator, Mapping, Sequence

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


MOST_SLOTS = 16_384
"""Ticks that a history can hold: four seconds at 4 kHz. A server that needs more has its times wrong."""


class PoseHistory:
    """Ring buffer of poses. `rigs` names the bodies; entities are added with one of them.

    What was recorded in the last `history_s` seconds of server time is held, however many ticks that is and however
    they are numbered. `tick_rate_hz` says how much room to begin with; the ring grows where ticks come faster.
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
        if not (tick_rate_hz > 0.0 and 0.0 < history_s * tick_rate_hz < MOST_SLOTS - 2):
            raise BadNumberError(
                "tick_rate_hz * history_s", f"between 0 and {MOST_SLOTS - 2:,} ticks", tick_rate_hz * history_s
            )
        self.history_s = float(history_s)
        self.zone_depth_m = zone_depth_m
        self._columns = Columns(rigs, int(np.ceil(history_s * tick_rate_hz)) + 2, storage)
        self._newest_tick, self._newest_time = -1, float("-inf")
        self._recorded = 0
        self._slots: dict[int, int] = {}
        """The ring slot of each tick that is held, oldest first."""
        self._times: dict[int, float] = {}
        self._ticks: tuple[int, tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]]
        self._ticks = (0, (np.empty(0), np.empty(0, np.int64), np.empty(0, np.int64)))
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
        return next(iter(self._slots), -1)

    @property
    def capacity(self) -> int:
        """How many ticks there is room for, as things stand."""
        return self._columns.slots

    @property
    def newest_slot(self) -> int:
        """The ring slot of the tick recorded last; 0 before the first, where everybody is absent."""
        return self._slots.get(self._newest_tick, 0)

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
        non-unit quaternions and repeated entities, `UnknownNameError` for an unknown entity, `BadNumberError` where
        ticks come so fast that `history_s` of them can't be held. The tick is then not stored.
        """
        tick, server_time = int(tick), float(server_time)
        if tick <= self._newest_tick:
            raise TimeOrderError("tick", tick, self._newest_tick)
        if not server_time > self._newest_time or server_time == float("inf"):
            raise TimeOrderError("server_time", server_time, self._newest_time)
        self._make_room(server_time)
        slot, before = self._recorded % self.capacity, (self._recorded - 1) % self.capacity
        self._columns.write(slot, before if self._recorded else -1, entities, bones)
        self._recorded += 1
        self._slots[tick], self._times[tick] = slot, server_time
        self._newest_tick, self._newest_time = tick, server_time

    def _make_room(self, server_time: float) -> None:
        """Free the next slot of the ring, or make a longer ring where the slot's tick is not old enough to go."""
        if len(self._slots) < self.capacity:
            return
        oldest = next(iter(self._slots))
        if self._times[oldest] >= server_time - self.history_s:
            self._grow()
            return
        del self._slots[oldest], self._times[oldest]
        if self._published_ticks and self._published_ticks[0] == oldest:
            del self.snapshots[self._published_ticks.popleft()]
            self._published_times.popleft()

    def _grow(self) -> None:
        """Double the ring, with what it holds at its beginning."""
        longer = min(2 * self.capacity, MOST_SLOTS)
        if longer == self.capacity:
            raise BadNumberError(
                "server_time", f"at most {MOST_SLOTS:,} ticks in history_s = {self.history_s:g} s (are times seconds?)",
                self._newest_time,
            )  # fmt: skip
        self._columns.lengthen(longer, list(self._slots.values()))
        self._slots = {tick: slot for slot, tick in enumerate(self._slots)}
        self._recorded = len(self._slots)
        self._ticks = (-1, self._ticks[1])
        for tick, snapshot in self.snapshots.items():
            self.snapshots[tick] = snapshot._replace(slot=self._slots[tick])

    def publish(self, tick: int, sent_at: float | None = None) -> None:
        """Note that the tick was sent to the clients, at `sent_at` (default: its own server time)."""
        slot = self._slot(tick, "published tick")
        if self._published_ticks and tick <= self._published_ticks[-1]:
            raise TimeOrderError("published tick", tick, self._published_ticks[-1])
        self._published_ticks.append(tick)
        at = self._times[tick]
        self._published_times.append(at)
        self.snapshots[tick] = Snapshot(slot, at, at if sent_at is None else float(sent_at))

    @property
    def snapshot_spacing_s(self) -> float:
        """Seconds between two snapshots, on average over those that are held; 0 for less than two."""
        count = len(self._published_times) - 1
        return (self._published_times[-1] - self._published_times[0]) / count if count > 0 else 0.0

    # -- instants -------------------------------------------------------------------------------------------

    def _slot(self, tick: int, what: str = "tick") -> int:
        slot = self._slots.get(tick)
        if slot is None:
            raise OutOfHistoryError(what, tick, self.oldest_tick, self._newest_tick)
        return slot

    def slot_of(self, tick: int) -> int:
        """The ring slot of a tick; raises `OutOfHistoryError` for one that is not held."""
        return self._slot(tick)

    def ticks(self) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
        """The ticks that are held, oldest first: server times (n,) float64, ring slots and ticks (n,) int64."""
        if self._ticks[0] != self._recorded:
            count = len(self._slots)
            self._ticks = (self._recorded, (
                np.fromiter(self._times.values(), np.float64, count),
                np.fromiter(self._slots.values(), np.int64, count),
                np.fromiter(self._slots, np.int64, count),
            ))  # fmt: skip
        return self._ticks[1]

    def ticks_back(self) -> Iterator[tuple[float, int]]:
        """(server time, ring slot) of the ticks that are held, newest first."""
        return zip(reversed(self._times.values()), reversed(self._slots.values()), strict=True)

    def holds(self, tick: int) -> bool:
        """Whether the tick's poses are still (and already) here."""
        return tick in self._slots

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
        for tick in (view.from_tick, view.to_tick):
            self._slot(tick, "view at tick")
        a, b = self._times[view.from_tick], self._times[view.to_tick]
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
        when the view's ticks are not held, `BadNumberError` for a radius that is negative or not finite, a limit that
        is negative or NaN, and a fraction that is not finite.
        """
        if not 0.0 <= radius_m < NO_LIMIT:
            raise BadNumberError("radius_m", "a finite number of at least 0", radius_m)
        if not abs(view.fraction) < TOLERANCES.largest:
            raise BadNumberError("view.fraction", "a finite number", view.fraction)
        slots = self._slot(view.from_tick), self._slot(view.to_tick)
        start, along, limit = sound_ray(origin, unit_direction(direction), limit_m)
        return self.nearest_along((*start, *along), *slots, float(view.fraction), limit, ignore, float(radius_m))

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

    def nearest_body_along(
        self,
        ray: tuple[float, float, float, float, float, float],
        from_slot: int,
        to_slot: int,
        fraction: float,
        limit_m: float,
        ignore: int,
    ) -> PartHit | None:
        """`nearest_along` of those who can be harmed: what only stands in the way is looked through."""
        columns = self._columns
        column, row, enter, leave = cast.first_body_alone(
            *ray, limit_m, from_slot, to_slot, fraction, columns.of(ignore), self.zone_depth_m, columns.header,
            columns.quantum,
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
        share, limit = spread("fractions", fractions, count, np.float64), require_limits(limits_m, count)
        out = PartHits(np.empty(count, np.int64), np.empty(count, np.int64), np.empty(count), np.empty(count))
        (_, slots, ticks), columns = self.ticks(), self._columns
        refused: list[int] = []

        def work(s: slice) -> None:
            row = cast.first_parts(
                start[s], along[s], limit[s], from_tick[s], to_tick[s], share[s], skip[s], ticks, slots,
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
        a, b = (columns.store[1][self._slot(tick)] for tick in (view.from_tick, view.to_tick))
        between = 0.0 < view.fraction < 1.0
        there = (b if view.fraction >= 1.0 else a) > 0
        there &= ~(between & (a > 0) & (b > 0) & ((a ^ b) >= rewind.ABSENCE))
        return sorted(int(i) for i in columns.store[4][there, 0])

    def eye_now(self, entity: int) -> Triple | None:
        """Where the entity's eye is in the newest tick; None when it is absent."""
        return None if self._newest_tick < 0 else self.eye_in(entity, self.newest_slot)

    def eye_in(self, entity: int, slot: int) -> Triple | None:
        """Where the entity's eye is in a ring slot; None when it is absent, or its rig has no eye."""
        columns = self._columns
        column = columns.of(entity)
        if column < 0:
            return None
        rig = columns.rig_at(column)
        if not rig.has_eye:
            return None
        there, x, y, z = rewind.point_on_bone(
            column, rig.eye_bone, *rig.eye_at, slot, columns.header, columns.quantum
        )  # fmt: skip
        return (x, y, z) if there else None

    def epoch_in(self, entity: int, slot: int) -> int:
        """Which stretch without cut or absence the entity was in in a ring slot, 0 when it was absent.

        Equal numbers are one stretch; nothing else follows from them.
        """
        column = self._columns.of(entity)
        return 0 if column < 0 else int(self._columns.store[1][slot, column])

    def cuts_since(self, entity: int, slot: int) -> int:
        """How often the entity was cut after the tick in a ring slot; -1 when it was absent there."""
        return self._columns.cuts_since(entity, slot)

    def require(self, entity: int) -> None:
        """Raise `UnknownNameError` unless the entity was added and not removed."""
        if self._columns.of(entity) < 0:
            raise UnknownNameError("entity", entity, self._columns.entities)
