"""Storage behind the pose history: which entity has which column and bones, and the arrays that the kernels read."""

from __future__ import annotations

import warnings
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.errors import AlreadyKnownError, BadArrayError, BadNumberError, UnknownNameError
from tinclock.core.kernels import poses
from tinclock.core.kernels.layout import (
    COVER_COUNT,
    COVERS_AT,
    ENTITY,
    PART_BONE,
    PART_FIELDS,
    PART_REACH,
    VEHICLES_AT,
)
from tinclock.core.kernels.memory import header_of
from tinclock.core.timeline.packed import Packed

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Part, Rig
    from tinclock.core.plain import Fields
    from tinclock.core.timeline.packed import Poses

GROWTH = 1.125  # little over what is needed: the history's memory is promised close to that of the raw poses
HALF_STEPS = 32700.0
HIGHEST_ID = 2**22  # a table by id must stay small; ids count from 1


class Store(NamedTuple):
    """The arrays that the kernels read, see `kernels.layout`."""

    bounds: NDArray[np.float32]
    epochs: NDArray[np.int32]
    origins: NDArray[Any]
    turns: NDArray[Any]
    bodies: NDArray[np.int64]
    parts: NDArray[np.float64]


class Columns:
    """The arrays of a pose history, and the books about who stands where in them."""

    def __init__(self, rigs: Mapping[str, Rig], slots: int, storage: Literal["full", "half"]) -> None:
        if storage not in ("full", "half"):
            raise BadNumberError("storage", "'full' or 'half'", storage)
        self.rigs = dict(rigs)
        self.slots = slots
        self.storage: Literal["full", "half"] = storage
        self.quantum = 0.0 if storage == "full" else 1.0 / HALF_STEPS
        self._kind: type[np.generic] = np.float32 if storage == "full" else np.int16
        self._column_of: dict[int, int] = {}
        self._rig_at: list[Rig] = []
        self._cuts, self._absences = np.zeros(0, np.int64), np.zeros(0, np.int64)
        self._vehicles = np.zeros(0, np.int64)
        """Of each column: the column of what it rides, -1 for none."""
        self._seen = np.zeros(0, np.bool_)
        """Of each column: how often it was cut, how often it came back after an absence, whether it was written."""
        self.lookup = np.full(64, -1, np.int32)
        """The column of each id, -1 for none."""
        self._entity_at: list[int] = []
        self._free: dict[str, list[int]] = {name: [] for name in self.rigs}
        self._first_row: dict[str, int] = {}
        rows: list[list[float]] = []
        for name, rig in self.rigs.items():
            self._first_row[name] = len(rows)
            rows += [[*line, reach, bone] for line, reach, bone in zip(rig.table, rig.reach, rig.bone_of, strict=True)]
        self._part_at = [part for rig in self.rigs.values() for part in rig.parts]
        self._parts = np.array(rows, dtype=np.float64).reshape(-1, PART_FIELDS)
        self._reach32 = np.nextafter(self._parts[:, PART_REACH].astype(np.float32), np.float32(np.inf))
        self._bone_of32 = self._parts[:, PART_BONE].astype(np.int32)
        self._fresh: set[int] = set()
        """Entities whose first pose is still to come."""
        self.covers: set[int] = set()
        """Columns of bodies that only stand in the way."""
        self.layout = 0
        """A number for who came and went, in order: equal ones have the same columns."""
        self._used_bones = 0
        self._bone_reach = np.zeros(0)
        self._allocate(0, 0)

    def _allocate(self, columns: int, bones: int, held: list[int] | None = None) -> None:
        """Make larger arrays. held : the slots that go to the beginning of a longer ring; None: all stay in place"""
        old: Store | None = getattr(self, "_full", None)
        self._full = self._arrays(columns, bones)
        reach = np.zeros(self._full.turns.shape[1])
        reach[: len(self._bone_reach)] = self._bone_reach
        self._bone_reach = reach
        if old is not None:
            rows = slice(None) if held is None else held
            self._carry_over(old, rows, slice(None) if held is None else slice(len(held)))
        self.store = self._full
        self._tell_kernels()

    def _arrays(self, columns: int, bones: int) -> Store:
        store = Store(
            np.zeros((self.slots, 4, columns), np.float32),
            np.zeros((self.slots, columns), np.int32),
            np.zeros((self.slots, 3 * bones), self._kind),
            np.zeros((self.slots, bones, 4), self._kind),
            np.zeros((columns, 5), np.int64),
            self._parts,
        )
        store.turns[...] = 1  # any rotation at all, so that a slot nobody wrote never divides by zero
        return store

    def _carry_over(self, old: Store, rows: slice | list[int], to: slice) -> None:
        """Copy what smaller arrays held. rows : of the slots there; to : where they go"""
        c, b, new = old.epochs.shape[1], old.turns.shape[1], self._full
        new.bounds[to, :, :c], new.epochs[to, :c] = old.bounds[rows], old.epochs[rows]
        new.origins[to, : 3 * b], new.turns[to, :b], new.bodies[:c] = old.origins[rows], old.turns[rows], old.bodies

    def __setstate__(self, state: Fields) -> None:
        """Come back from a checkpoint: the arrays lie elsewhere now."""
        self.__dict__.update(state)
        self._tell_kernels()

    def _tell_kernels(self) -> None:
        """Write down where the arrays lie."""
        columns, bones = self._full.epochs.shape[1], self._full.turns.shape[1]
        most = max((len(rig.bones) for rig in self.rigs.values()), default=0)
        self.header = header_of(tuple(self._full), self.slots, columns, bones, len(self._parts), most)
        self.header = np.append(self.header, header_of((self._reach32, self._bone_of32)))
        self.header = np.append(self.header, np.zeros(3, np.int64))
        self.header_at = int(self.header.ctypes.data)
        self.stored = (self.header, self.quantum)
        """Arguments for kernels, see `kernels.poses`."""
        self._tell_covers()

    def _tell_covers(self) -> None:
        """Let the kernels know which columns only stand in the way, and what each rides."""
        self._covers = np.array(sorted(self.covers), np.int64)
        self.header[COVERS_AT], self.header[COVER_COUNT] = self._covers.ctypes.data, len(self._covers)
        self.header[VEHICLES_AT] = self._vehicles.ctypes.data

    @property
    def cuts_at(self) -> int:
        """The address of how often each column was cut."""
        return int(self._cuts.ctypes.data)

    @property
    def nbytes(self) -> int:
        """Bytes of everything that is kept per slot."""
        return int(
            sum(array.nbytes for array in (self._full.bounds, self._full.epochs, self._full.origins, self._full.turns))
        )

    @property
    def entities(self) -> list[int]:
        """Ids that are here, rising."""
        return sorted(self._column_of)

    def whose(self, column: int, row: int) -> tuple[int, Part]:
        """(entity, part) of a kernel's answer."""
        return self._entity_at[column], self._part_at[row]

    @property
    def zones(self) -> list[str]:
        """The zone of each part of every rig, by its row."""
        return [part.zone for part in self._part_at]

    def of(self, entity: int) -> int:
        """The entity's column, -1 when it has none."""
        return self._column_of.get(entity, -1)

    def _column(self, entity: int) -> int:
        column = self._column_of.get(entity)
        if column is None:
            raise UnknownNameError("entity", entity, self.entities)
        return column

    def epoch(self, entity: int) -> int:
        """Return the number of the entity's cuts, plus one."""
        return int(self._cuts[self._column(entity)])

    def cuts_since(self, entity: int, slot: int) -> int:
        """Return the number of the entity's cuts after a slot was written; -1 when it is absent there."""
        column = self.of(entity)
        written = 0 if column < 0 else int(self.store.epochs[slot, column])
        return -1 if written == 0 else (int(self._cuts[column]) - written % poses.ABSENCE) % poses.MAX_CUTS

    def rig_of(self, entity: int) -> Rig:
        """The rig the entity was added with."""
        return self._rig_at[self._column(entity)]

    def first_row(self, entity: int) -> int:
        """The row of the entity's first part in the table of parts."""
        return self._first_row[self.rig_of(entity).name]

    def row_of(self, entity: int, part: Part) -> int:
        """The row of one of the entity's parts in the table of parts."""
        return self.first_row(entity) + self.rig_of(entity).parts.index(part)

    def rig_at(self, column: int) -> Rig:
        """The rig of a column."""
        return self._rig_at[column]

    def named(self, column: int, row: int) -> tuple[int, int, Part]:
        """(entity, part index, part) of a kernel's answer."""
        rig = self._rig_at[column]
        index = row - self._first_row[rig.name]
        return self._entity_at[column], index, rig.parts[index]

    def add(self, entity: int, rig: str) -> None:
        """Give an entity a column: one that a leaver with the same rig freed, or a new one."""
        if rig not in self.rigs:
            raise UnknownNameError("rig", rig, self.rigs)
        if not isinstance(entity, (int, np.integer)) or not 0 < entity < HIGHEST_ID:
            raise BadNumberError("entity", f"an integer from 1 to {HIGHEST_ID - 1}", entity)
        if entity in self._column_of:
            raise AlreadyKnownError("entity", entity)
        body = self.rigs[rig]
        if self._free[rig]:
            column = self._free[rig].pop()
            self._full.bodies[column, ENTITY] = entity
            self._entity_at[column] = entity
        else:
            column = self._new_column(entity, body)
        self._column_of[entity] = column
        self.layout = hash((self.layout, entity, list(self.rigs).index(rig)))
        self._fresh.add(entity)
        if entity >= len(self.lookup):
            longer = np.full(max(entity + 1, 2 * len(self.lookup)), -1, np.int32)
            longer[: len(self.lookup)] = self.lookup
            self.lookup = longer
        self.lookup[entity] = column
        self._cuts[column], self._absences[column], self._seen[column] = 1, 0, False
        if body.blocks_only:
            self.covers.add(column)
            self._tell_covers()

    def _new_column(self, entity: int, rig: Rig) -> int:
        column, bones = len(self._rig_at), self._used_bones
        held_columns, held_bones = self._full.epochs.shape[1], self._full.turns.shape[1]
        need_bones = bones + len(rig.bones)
        if column >= held_columns or need_bones > held_bones:
            self._allocate(
                max(held_columns, int((column + 1) * GROWTH)),
                max(held_bones, int(np.ceil(need_bones * GROWTH))),
            )
        self._full.bodies[column] = (entity, bones, self._first_row[rig.name], len(rig.parts), len(rig.bones))
        for part, bone in enumerate(rig.bone_of):
            place = bones + int(bone)
            self._bone_reach[place] = max(self._bone_reach[place], rig.reach[part])
        self._used_bones = need_bones
        self._rig_at.append(rig)
        if column >= len(self._cuts):
            more = column + 1
            self._cuts = np.append(self._cuts, np.ones(more, np.int64))
            self._absences = np.append(self._absences, np.zeros(more, np.int64))
            self._seen = np.append(self._seen, np.zeros(more, np.bool_))
            self._vehicles = np.append(self._vehicles, np.full(more, -1, np.int64))
            self._tell_covers()
        self._entity_at.append(entity)
        return column

    def remove(self, entity: int) -> None:
        """Take an entity out of every slot and free its column."""
        column = self._column(entity)
        self.layout = hash((self.layout, entity, len(self.rigs)))  # in place of a rig: it left
        self._full.epochs[:, column] = 0
        del self._column_of[entity]
        self._fresh.discard(entity)
        self.lookup[entity] = -1
        self._vehicles[column] = -1
        self._vehicles[self._vehicles == column] = -1
        if column in self.covers:
            self.covers.discard(column)
            self._tell_covers()
        self._free[self._rig_at[column].name].append(column)

    def ride(self, entity: int, vehicle: int | None) -> int:
        """Let an entity's shots pass a vehicle, None for none; returns the vehicle's column, -1 for none."""
        column = -1 if vehicle is None else self._column(vehicle)
        self._vehicles[self._column(entity)] = column
        return column

    def cut(self, entity: int) -> None:
        """Nothing is interpolated between what was written before and what will be."""
        self._cuts[self._column(entity)] += 1

    def lengthen(self, slots: int, held: list[int]) -> None:
        """Make a longer ring; what the slots `held` hold goes to its beginning, in that order."""
        old, self.slots = self._full, slots
        self._allocate(old.epochs.shape[1], old.turns.shape[1], held)

    def write(
        self,
        slot: int,
        before: int,
        entities: Sequence[int] | NDArray[np.int64],
        bones: Poses,
    ) -> None:
        """Clear a slot and store one tick's poses in it; on a mistake the slot stays empty.

        before : the slot of the tick before, -1 for none: an entity that isn't in it was absent

        entities : (n,) int64; bones : (n, bones, 7), metres and quaternion xyzw.
        """
        self._full.epochs[slot] = 0
        ids = require_shape("entities", entities, (None,), np.int64)
        fresh = [row for row, entity in enumerate(ids.tolist()) if entity in self._fresh] if self._fresh else []
        ids = ids if ids.flags.writeable else ids.copy()  # one kind of array, one compiled kernel
        flat, starts, each = flat_poses(len(ids), bones)
        verdict, member, bone = poses.record_poses(
            slot, before, ids, (self.lookup, self._cuts, self._absences, self._seen), starts, each, flat,
            self._bone_reach, self.stored,
        )  # fmt: skip
        if verdict != poses.OK:
            self._full.epochs[slot] = 0
            begin = int(starts[member]) if len(starts) else member * each
            self._complain(
                verdict, int(ids[member]), member, bone, flat[begin : begin + each] if each else flat[begin:]
            )

        for row in fresh:
            self._fresh.discard(int(ids[row]))
            begin = int(starts[row]) if len(starts) else row * each
            _look_for_wxyz(int(ids[row]), flat[begin : begin + len(self.rig_of(int(ids[row])).bones), 3:])

    def _complain(self, verdict: int, entity: int, row: int, bone: int, pose: NDArray[np.floating]) -> None:
        rig = self.rig_of(entity)  # raises for a stranger
        if verdict == poses.REPEATED:
            raise BadArrayError("entities", "each id once", f"entity {entity} twice", row)
        if verdict == poses.WRONG_COUNT:
            expected = f"{len(rig.bones)} bones, shape ({len(rig.bones)}, 7), for entity {entity}"
            raise BadArrayError("bones", expected, f"{bone} bones, shape ({bone}, 7)", row)
        given = pose[bone]
        where = f"{[round(float(v), 6) for v in given]} for bone {rig.bones[bone]!r} of entity {entity}"
        if verdict == poses.NOT_FINITE:
            raise BadArrayError("bones", "finite numbers", where, row)
        length = float(np.linalg.norm(given[3:7].astype(np.float64)))
        raise BadArrayError("bones", "unit quaternions xyzw", f"length {length:.6f} in {where}", row)


def _look_for_wxyz(entity: int, turns: NDArray[np.floating]) -> None:
    """Warn where a body's first pose stands on its head: what no turn looks like in the other order."""
    if len(turns) > 1 and bool((np.abs(turns[:, 0]) > 1.0 - 1e-6).all()):
        warnings.warn(
            f"entity {entity}: every bone of its first pose is turned by {turns[0].tolist()}, which is upside down; "
            "are the quaternions wxyz? hand them over as xyzw, the real part last",
            stacklevel=5,
        )


_NO_STARTS = np.zeros(0, np.int64)


def flat_poses(count: int, bones: Poses) -> tuple[NDArray[np.float64], NDArray[np.int64], int]:
    """All poses as (rows, 7), where each entity's begin (empty: evenly), and how many rows each has."""
    if isinstance(bones, Packed):
        return bones.flat, bones.starts, 0
    if isinstance(bones, np.ndarray):
        if bones.ndim != 3 or bones.shape[0] != count or bones.shape[2] != 7:
            if count == 0 and bones.size == 0:
                return np.zeros((0, 7)), _NO_STARTS, 0
            raise BadArrayError("bones", f"shape ({count}, bones, 7), one pose an entity", f"shape {bones.shape}")
        return _floats(bones.reshape(-1, 7)), _NO_STARTS, bones.shape[1]
    if len(bones) != count:
        raise BadArrayError("bones", f"{count} arrays, one an entity", f"{len(bones)} arrays")
    poses = [np.asarray(pose) for pose in bones]
    for row, pose in enumerate(poses):
        if pose.ndim != 2 or pose.shape[1] != 7:
            raise BadArrayError("bones", "shape (bones, 7)", f"shape {pose.shape}", row)
    starts = np.zeros(count + 1, np.int64)
    np.cumsum([len(pose) for pose in poses], out=starts[1:])
    return _floats(np.concatenate(poses)) if count else np.zeros((0, 7)), starts, 0


def _floats(flat: NDArray[Any]) -> NDArray[np.float64]:
    """One kind of array, whatever came: one compiled kernel."""
    flat = np.ascontiguousarray(flat, np.float64)
    return flat if flat.flags.writeable else flat.copy()
