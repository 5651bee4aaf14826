"""The ring of ticks: which are held, at what times, and which were published. What is in them `history` looks at."""

from __future__ import annotations

import bisect
from collections import deque
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from tinclock.core.errors import BadNumberError, OutOfHistoryError, TimeOrderError, UnknownNameError
from tinclock.core.kernels.call_rows import MOMENT
from tinclock.core.kernels.moments import SNAPSHOT_FIELDS, TICK_FIELDS
from tinclock.core.packed import memory_of
from tinclock.core.timeline.columns import Columns
from tinclock.core.timeline.instants import tick_number
from tinclock.core.timeline.queue import NumberQueue
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig
    from tinclock.core.plain import Fields
    from tinclock.core.timeline.packed import Poses


class Snapshot(NamedTuple):
    """A published tick that is still held: its ring slot, its server time, and when it was sent."""

    slot: int
    time: float
    sent_at: float


MAX_SLOTS = 16_384
"""Ticks that a history can hold: four seconds at 4 kHz. A server that needs more has its times wrong."""


class PoseRing:
    """All ticks of the last `history_s` seconds, with room for each of them; see `PoseHistory`."""

    def __init__(
        self,
        rigs: Mapping[str, Rig],
        *,
        tick_rate_hz: float = 64.0,
        history_s: float = 1.0,
        zone_depth_m: float = 0.0,
        storage: Literal["full", "half"] = "full",
    ) -> None:
        if not (tick_rate_hz > 0.0 and 0.0 < history_s * tick_rate_hz < MAX_SLOTS - 2):
            raise BadNumberError(
                "tick_rate_hz * history_s", f"between 0 and {MAX_SLOTS - 2:,} ticks", tick_rate_hz * history_s
            )
        self.history_s = float(history_s)
        self.zone_depth_m = zone_depth_m
        self._columns = self._make_columns(rigs, int(np.ceil(history_s * tick_rate_hz)) + 2, storage)
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
        self._snapshot_rows, self._tick_rows = NumberQueue(SNAPSHOT_FIELDS), NumberQueue(TICK_FIELDS)
        self.moments = np.zeros(len(MOMENT), np.int64)
        """Addresses of the held ticks and snapshots, see `kernels.call_rows.MomentFields`."""
        self._moments = memory_of(self.moments)
        self._tell_kernels()
        self._tell_columns()

    def _make_columns(self, rigs: Mapping[str, Rig], slots: int, storage: Literal["full", "half"]) -> Columns:
        return Columns(rigs, slots, storage)

    def __setstate__(self, state: Fields) -> None:
        """Come back from a checkpoint: the arrays lie elsewhere now."""
        self.__dict__.update(state)
        self._tell_kernels()
        self._tell_columns()

    def _tell_kernels(self) -> None:
        """Let kernels know what is held now."""
        snapshots, ticks, moments = self._snapshot_rows, self._tick_rows, self._moments
        moments[MOMENT.snapshots], moments[MOMENT.snapshot_count] = snapshots.at, snapshots.count
        moments[MOMENT.ticks], moments[MOMENT.tick_count] = ticks.at, ticks.count

    def _tell_columns(self) -> None:
        """Let kernels know where the columns' arrays lie now."""
        self._moments[MOMENT.header], self._moments[MOMENT.cuts] = self._columns.header_at, self._columns.cuts_at

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
        self._tell_columns()

    def remove(self, entity: int) -> None:
        """Forget an entity at once, its past included: no later cast meets it."""
        self._columns.remove(entity)

    def cut(self, entity: int) -> None:
        """Mark a cut (respawn, teleport): poses before and after the next record are not interpolated."""
        self._columns.cut(entity)

    def epoch_of(self, entity: int) -> int:
        """Return the number of the entity's cuts, plus one."""
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
        """Number of ticks that fit at present."""
        return self._columns.slots

    @property
    def newest_slot(self) -> int:
        """The ring slot of the tick recorded last; 0 before the first, where everybody is absent."""
        return self._slots.get(self._newest_tick, 0)

    def _slot_before_newest(self) -> int:
        """The ring slot of the tick before the newest, -1 for none."""
        return (self._recorded - 2) % self.capacity if self._recorded > 1 else -1

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
        non-unit quaternions and repeated entities, `UnknownNameError` for an unknown entity, `BadNumberError` for a
        tick that is no whole number from 0 to 2**53, and where ticks come so fast that `history_s` of them can't be
        held. The tick is then not stored.
        """
        tick, server_time = tick_number("tick", tick), float(server_time)
        if tick <= self._newest_tick:
            raise TimeOrderError("tick", tick, self._newest_tick)
        if not server_time > self._newest_time or server_time == float("inf"):
            raise TimeOrderError("server_time", server_time, self._newest_time)
        self._make_room(server_time)
        slot, before = self._recorded % self.capacity, (self._recorded - 1) % self.capacity
        self._columns.write(slot, before if self._recorded else -1, entities, bones)
        self._recorded += 1
        self._slots[tick], self._times[tick] = slot, server_time
        self._tick_rows.append((tick, server_time, slot))
        self._newest_tick, self._newest_time = tick, server_time
        self._tell_kernels()

    def _make_room(self, server_time: float) -> None:
        """Free the next slot of the ring, or make a longer ring where the slot's tick is not old enough to go."""
        if len(self._slots) < self.capacity:
            return
        oldest = next(iter(self._slots))
        if self._times[oldest] >= server_time - self.history_s:
            self._grow()
            return
        del self._slots[oldest], self._times[oldest]
        self._tick_rows.pop()
        if self._published_ticks and self._published_ticks[0] == oldest:
            del self.snapshots[self._published_ticks.popleft()]
            self._published_times.popleft()
            self._snapshot_rows.pop()

    def _grow(self) -> None:
        """Double the ring, with what it holds at its beginning."""
        longer = min(2 * self.capacity, MAX_SLOTS)
        if longer == self.capacity:
            raise BadNumberError(
                "server_time", f"at most {MAX_SLOTS:,} ticks in history_s = {self.history_s:g} s (are times seconds?)",
                self._newest_time,
            )  # fmt: skip
        self._columns.lengthen(longer, list(self._slots.values()))
        self._slots = {tick: slot for slot, tick in enumerate(self._slots)}
        self._recorded = len(self._slots)
        self._ticks = (-1, self._ticks[1])
        for tick, snapshot in self.snapshots.items():
            self.snapshots[tick] = snapshot._replace(slot=self._slots[tick])
        self._tick_rows.clear()
        self._snapshot_rows.clear()
        for tick, slot in self._slots.items():
            self._tick_rows.append((tick, self._times[tick], slot))
        for tick, held in self.snapshots.items():
            self._snapshot_rows.append((tick, held.time, held.sent_at, held.slot))
        self._tell_kernels()
        self._tell_columns()

    def publish(self, tick: int, sent_at: float | None = None) -> None:
        """Note that the tick was sent to the clients, at `sent_at` (default: its own server time)."""
        tick = tick_number("published tick", tick)
        slot = self._slot(tick, "published tick")
        if self._published_ticks and tick <= self._published_ticks[-1]:
            raise TimeOrderError("published tick", tick, self._published_ticks[-1])
        self._published_ticks.append(tick)
        at = self._times[tick]
        self._published_times.append(at)
        self.snapshots[tick] = held = Snapshot(slot, at, at if sent_at is None else float(sent_at))
        self._snapshot_rows.append((tick, held.time, held.sent_at, held.slot))
        self._tell_kernels()

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
        """The ticks that are held, oldest first: server times (n,) float64, ring slots and ticks (n,) int64.

        Times are seconds.
        """
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
        """True if the tick's poses are still (and already) here."""
        return tick in self._slots

    @property
    def first_snapshot_time(self) -> float:
        """Server time of the oldest snapshot that is held, inf before the first."""
        return self._published_times[0] if self._published_times else float("inf")

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
            first, last = (self._published_times[k] if self._published_times else float("inf") for k in (0, -1))
            raise OutOfHistoryError("server time", server_time, first, last)
        before = self._published_ticks[place - 1]
        if place == len(self._published_ticks):
            return View(before, before, 0.0)
        a, b = self._published_times[place - 1], self._published_times[place]
        return View(before, self._published_ticks[place], (server_time - a) / (b - a))

    def require(self, entity: int) -> None:
        """Raise `UnknownNameError` unless the entity was added and not removed."""
        if self._columns.of(entity) < 0:
            raise UnknownNameError("entity", entity, self._columns.entities)
