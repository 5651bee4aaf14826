"""Poses that several referees look at, of one match that each rules by rules of its own: stored once a tick.

Who is there differs, since the dead have no poses, so each keeps its own epochs; where everybody stood is the same. A
referee whose match goes another way, in which somebody else has a column, can't share any longer: `OutOfStep`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import numpy as np

from tinclock.core.errors import UnknownNameError
from tinclock.core.kernels import poses
from tinclock.core.timeline.columns import Columns, Store
from tinclock.core.timeline.history import PoseHistory
from tinclock.core.timeline.packed import Packed

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig
    from tinclock.core.timeline.packed import Poses


class OutOfStep(Exception):
    """A match went another way than the one whose poses it shares, and has to be ruled by itself."""


class Stored(Packed):
    """Poses of a tick that are stored already; so many of them."""

    __slots__ = ("_count",)

    def __init__(self, count: int) -> None:
        self._count = count

    def __len__(self) -> int:
        """How many bodies."""
        return self._count

    def only(self, kept: NDArray[np.bool_]) -> Stored:
        """The bodies that are marked. kept : (n,) bool"""
        return Stored(int(kept.sum()))


class SharedHistory(PoseHistory):
    """A history that stores no poses: it looks at those of another one, in which everybody is who isn't dead in this.

    It is written after the other, a tick at a time, and tells it who comes and goes.
    """

    def __init__(self, lead: PoseHistory, *, zone_depth_m: float = 0.0, tick_rate_hz: float) -> None:
        self._lead = lead
        columns = lead.columns
        super().__init__(
            columns.rigs, tick_rate_hz=tick_rate_hz, history_s=lead.history_s, zone_depth_m=zone_depth_m,
            storage=columns.storage,
        )  # fmt: skip

    def _make_columns(self, rigs: Mapping[str, Rig], slots: int, storage: Literal["full", "half"]) -> Columns:
        self._shared = _SharedColumns(self._lead)
        return self._shared

    def _make_room(self, server_time: float) -> None:
        super()._make_room(server_time)
        if self._shared.catch_up():
            self._tell_columns()


class _SharedColumns(Columns):
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

    def catch_up(self) -> bool:
        """Look at the lead's arrays where it has made larger ones since; returns whether it has."""
        if self._full.turns is self._lead.columns.store.turns:
            return False
        self._allocate(self._full.epochs.shape[1], self._full.turns.shape[1])
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

    def write(self, slot: int, before: int, entities: Sequence[int] | NDArray[np.int64], bones: Poses) -> None:
        """Note who is there in a tick that the lead has stored. Raises `OutOfStep` where that is another tick."""
        lead = self._lead
        if not isinstance(bones, Stored) or slot != lead.newest_slot or self.layout != lead.columns.layout:
            raise OutOfStep
        ids = np.ascontiguousarray(entities, np.int64)
        books = self.lookup, self._cuts, self._absences, self._seen
        verdict, member = poses.note_who_is_there(slot, before, ids, books, self.header)
        if verdict != poses.OK:
            raise UnknownNameError("entity", int(ids[member]), self.entities)
