"""Storage behind the pose history: which entity has which column and bones, and the arrays that the kernels read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.errors import AlreadyKnownError, BadArrayError, BadNumberError, UnknownNameError
from tinclock.core.memory import header_of
from tinclock.core.timeline import rewind
from tinclock.core.timeline.packed import Packed

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Part, Rig
    from tinclock.core.timeline.packed import Poses

GROWTH = 1.125  # little over what is needed: the history's memory is promised close to that of the raw poses
HALF_STEPS = 32700.0
HIGHEST_ID = 2**22  # a table by id must stay small; ids count from 1

Store = tuple[Any, Any, Any, Any, Any, Any]


class Columns:
    """The arrays of `rewind.store`, and the books about who stands where in them."""

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
        self._epoch_at = np.zeros(0, np.int64)
        self.lookup = np.full(64, -1, np.int32)
        """The column of each id, -1 for none."""
        self._entity_at: list[int] = []
        self._free: dict[str, list[int]] = {name: [] for name in self.rigs}
        self._first_row: dict[str, int] = {}
        rows: list[list[float]] = []
        for name, rig in self.rigs.items():
            self._first_row[name] = len(rows)
            rows += [[*line, reach, bone] for line, reach, bone in zip(rig.table, rig.reach, rig.bone_of, strict=True)]
        self._parts = np.array(rows, dtype=np.float64).reshape(-1, 19)
        self._reach32 = np.nextafter(self._parts[:, 17].astype(np.float32), np.float32(np.inf))
        self._bone_of32 = self._parts[:, 18].astype(np.int32)
        self._used_bones = 0
        self._bone_reach = np.zeros(0)
        self._allocate(0, 0)

    def _allocate(self, columns: int, bones: int) -> None:
        old: Store | None = getattr(self, "_full", None)
        self._full: Store = (
            np.zeros((self.slots, 4, columns), np.float32),
            np.zeros((self.slots, columns), np.int32),
            np.zeros((self.slots, 3 * bones), self._kind),
            np.zeros((self.slots, bones, 4), self._kind),
            np.zeros((columns, 5), np.int64),
            self._parts,
        )
        reach = np.zeros(bones)
        reach[: len(self._bone_reach)] = self._bone_reach
        self._bone_reach = reach
        self._full[3][...] = 1  # any rotation at all, so that a slot nobody wrote never divides by zero
        if old is not None:
            c, b = old[1].shape[1], old[3].shape[1]
            self._full[0][:, :, :c], self._full[1][:, :c] = old[0], old[1]
            self._full[2][:, : 3 * b], self._full[3][:, :b], self._full[4][:c] = old[2], old[3], old[4]
        self.store = self._full
        most = max((len(rig.bones) for rig in self.rigs.values()), default=0)
        self.header = header_of(self._full, self.slots, columns, bones, len(self._parts), most)
        self.header = np.append(self.header, header_of((self._reach32, self._bone_of32)))

    @property
    def nbytes(self) -> int:
        """Bytes of everything that is kept per slot."""
        return int(sum(array.nbytes for array in self._full[:4]))

    @property
    def entities(self) -> list[int]:
        """Ids that are here, rising."""
        return sorted(self._column_of)

    def of(self, entity: int) -> int:
        """The entity's column, -1 when it has none."""
        return self._column_of.get(entity, -1)

    def _column(self, entity: int) -> int:
        column = self._column_of.get(entity)
        if column is None:
            raise UnknownNameError("entity", entity, self.entities)
        return column

    def epoch(self, entity: int) -> int:
        """The epoch that the next record of this entity gets."""
        return int(self._epoch_at[self._column(entity)])

    def rig_of(self, entity: int) -> Rig:
        """The rig the entity was added with."""
        return self._rig_at[self._column(entity)]

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
            self._full[4][column, 0] = entity
            self._entity_at[column] = entity
        else:
            column = self._new_column(entity, body)
        self._column_of[entity] = column
        if entity >= len(self.lookup):
            longer = np.full(max(entity + 1, 2 * len(self.lookup)), -1, np.int32)
            longer[: len(self.lookup)] = self.lookup
            self.lookup = longer
        self.lookup[entity] = column
        self._epoch_at[column] = 1

    def _new_column(self, entity: int, rig: Rig) -> int:
        column, bones = len(self._rig_at), self._used_bones
        held_columns, held_bones = self._full[1].shape[1], self._full[3].shape[1]
        need_bones = bones + len(rig.bones)
        if column >= held_columns or need_bones > held_bones:
            self._allocate(
                max(held_columns, int((column + 1) * GROWTH)),
                max(held_bones, int(np.ceil(need_bones * GROWTH))),
            )
        self._full[4][column] = (entity, bones, self._first_row[rig.name], len(rig.parts), len(rig.bones))
        for part, bone in enumerate(rig.bone_of):
            place = bones + int(bone)
            self._bone_reach[place] = max(self._bone_reach[place], rig.reach[part])
        self._used_bones = need_bones
        self._rig_at.append(rig)
        if column >= len(self._epoch_at):
            self._epoch_at = np.append(self._epoch_at, np.ones(column + 1, np.int64))
        self._entity_at.append(entity)
        return column

    def remove(self, entity: int) -> None:
        """Take an entity out of every slot and free its column."""
        column = self._column(entity)
        self._full[1][:, column] = 0
        del self._column_of[entity]
        self.lookup[entity] = -1
        self._free[self._rig_at[column].name].append(column)

    def cut(self, entity: int) -> None:
        """Start a new epoch."""
        self._epoch_at[self._column(entity)] += 1

    def write(
        self,
        slot: int,
        entities: Sequence[int] | NDArray[np.int64],
        bones: Poses,
    ) -> None:
        """Clear a slot and store one tick's poses in it; on a mistake the slot stays empty."""
        self._full[1][slot] = 0
        ids = require_shape("entities", entities, (None,), np.int64)
        flat, starts, each = flat_poses(len(ids), bones)
        verdict, member, bone = rewind.record_poses(
            slot, ids, self.lookup, self._epoch_at, starts, each, flat, self._bone_reach, self.header, self.quantum
        )
        if verdict != rewind.OK:
            self._full[1][slot] = 0
            begin = int(starts[member]) if len(starts) else member * each
            self._complain(
                verdict, int(ids[member]), member, bone, flat[begin : begin + each] if each else flat[begin:]
            )

    def _complain(self, verdict: int, entity: int, row: int, bone: int, pose: NDArray[np.floating]) -> None:
        rig = self.rig_of(entity)  # raises for a stranger
        if verdict == rewind.REPEATED:
            raise BadArrayError("entities", "each id once", f"entity {entity} twice", row)
        if verdict == rewind.WRONG_COUNT:
            expected = f"{len(rig.bones)} bones, shape ({len(rig.bones)}, 7), for entity {entity}"
            raise BadArrayError("bones", expected, f"{bone} bones, shape ({bone}, 7)", row)
        given = pose[bone]
        where = f"{[round(float(v), 6) for v in given]} for bone {rig.bones[bone]!r} of entity {entity}"
        if verdict == rewind.NOT_FINITE:
            raise BadArrayError("bones", "finite numbers", where, row)
        length = float(np.linalg.norm(given[3:7].astype(np.float64)))
        raise BadArrayError("bones", "unit quaternions xyzw", f"length {length:.6f} in {where}", row)


_NO_STARTS = np.zeros(0, np.int64)


def flat_poses(count: int, bones: Poses) -> tuple[NDArray[np.floating], NDArray[np.int64], int]:
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


def _floats(flat: NDArray[Any]) -> NDArray[np.floating]:
    if flat.dtype not in (np.float32, np.float64):
        flat = flat.astype(np.float64)
    return np.ascontiguousarray(flat)
