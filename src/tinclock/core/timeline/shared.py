"""Poses that several referees look at, of one match that each rules by rules of its own: stored once a tick.

Who is there differs, since the dead have no poses, so each keeps its own epochs; ticks, snapshots and where everybody
stood are the same. A referee whose match goes another way, in which somebody else has a column, can't share any longer:
`OutOfStep`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from tinclock.core.errors import UnknownNameError
from tinclock.core.kernels import poses
from tinclock.core.timeline.columns import Columns, Store
from tinclock.core.timeline.history import PoseHistory

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig


class OutOfStep(Exception):
    """A match went another way than the one whose poses it shares, and has to be ruled by itself."""


class SharedHistory(PoseHistory):
    """A history that stores no poses: it looks at those of another one, in which everybody is who isn't dead in this.

    It is told of each tick and each snapshot after the other was (`look`, `look_again`), and tells it who comes and
    goes.
    """

    def __init__(self, lead: PoseHistory, *, zone_depth_m: float = 0.0, tick_rate_hz: float) -> None:
        self._lead = lead
        columns = lead.columns
        super().__init__(
            columns.rigs, tick_rate_hz=tick_rate_hz, history_s=lead.history_s, zone_depth_m=zone_depth_m,
            storage=columns.storage,
        )  # fmt: skip

    def _make_columns(self, rigs: Mapping[str, Rig], slots: int, storage: Literal["full", "half"]) -> Columns:
        self._own = _OwnColumns(self._lead)
        return self._own

    def look(self, entities: NDArray[np.int64]) -> None:
        """The other one stored a tick, in which these are there. Raises `OutOfStep` where that has other columns."""
        lead, own = self._lead, self._own
        if own.layout != lead.columns.layout:
            raise OutOfStep
        if own.catch_up(self._slots.values()):
            self._tell_columns()
        before = lead._slot_before_newest()
        self.look_again()
        own.note(self.newest_slot, before, entities)

    def look_again(self) -> None:
        """Take over which ticks the other one holds, and which of them are snapshots."""
        lead = self._lead
        self._newest_tick, self._newest_time, self._recorded = lead._newest_tick, lead._newest_time, lead._recorded
        if self._slots is not lead._slots:  # they are filled where they are, and others only in a longer ring
            self._slots, self._times, self.snapshots = lead._slots, lead._times, lead.snapshots
            self._published_ticks, self._published_times = lead._published_ticks, lead._published_times
            self._snapshot_rows, self._tick_rows = lead._snapshot_rows, lead._tick_rows
        self._tell_kernels()

    def ticks(self) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
        """See `PoseRing.ticks`: the other one works it out for all."""
        return self._lead.ticks()


class _OwnColumns(Columns):
    """Columns whose epochs and books are their own; everything else lies in the lead's arrays."""

    def __init__(self, lead: PoseHistory) -> None:
        self._lead = lead
        super().__init__(lead.columns.rigs, lead.columns.slots, lead.columns.storage)

    def _arrays(self, columns: int, bones: int) -> Store:
        held = self._lead.columns.store  # which can be ahead: another match took in everybody before this one
        slots, width = held.epochs.shape
        if slots != self.slots or width < columns or held.turns.shape[1] < bones:
            raise OutOfStep
        epochs, bodies = np.zeros((slots, width), np.int32), np.zeros((width, 5), np.int64)
        return Store(held.bounds, epochs, held.origins, held.turns, bodies, self._parts)

    def _carry_over(self, old: Store, rows: slice | list[int], to: slice) -> None:
        columns = old.epochs.shape[1]
        self._full.epochs[to, :columns], self._full.bodies[:columns] = old.epochs[rows], old.bodies

    def catch_up(self, held: Iterable[int]) -> bool:
        """Look at the lead's arrays where it has made a longer ring since; returns whether it has.

        held : the slots that hold something in the ring before, oldest first. Larger arrays were taken over in `add`
        """
        if self._full.turns is self._lead.columns.store.turns:
            return False
        if self.slots == self._lead.capacity:
            raise OutOfStep
        self.lengthen(self._lead.capacity, list(held))
        return True

    def add(self, entity: int, rig: str) -> None:
        """Give an entity a column, here and in the lead."""
        lead = self._lead.columns
        if lead.of(entity) < 0 and entity not in self._column_of and rig in self.rigs:
            self._lead.add(entity, rig)
        super().add(entity, rig)

    def remove(self, entity: int) -> None:
        """Take an entity out, here and in the lead."""
        super().remove(entity)
        if self._lead.columns.of(entity) >= 0:
            self._lead.remove(entity)

    def note(self, slot: int, before: int, entities: NDArray[np.int64]) -> None:
        """Note who is there in a slot that the lead has written. before : the slot of the tick before, -1 for none"""
        books = self.lookup, self._cuts, self._absences, self._seen
        verdict, member = poses.note_who_is_there(slot, before, entities, books, self.header)
        if verdict != poses.OK:
            raise UnknownNameError("entity", int(entities[member]), self.entities)
