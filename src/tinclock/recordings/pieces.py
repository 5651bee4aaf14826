"""Between rows in memory and the Parquet files of a recording."""

from __future__ import annotations

import io
from itertools import pairwise
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.errors import MissingExtraError, RecordingError
from tinclock.intake.parquet_file import read_bounded
from tinclock.recordings.format_4 import table_now
from tinclock.recordings.layout import BONE, schema, sha256

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from pathlib import Path

    import pyarrow
    from numpy.typing import NDArray

COMPRESSION = 6
"""Level of zstandard: a higher one makes files 1% smaller and takes half as long again."""
RISING, MAX_PAGE = "DELTA_BINARY_PACKED", 8 << 20
REPEATING = frozenset(
    {
        "what", "call", "connection", "kind", "account", "weapon", "outcome", "part", "findings", "entity", "victim",
        "bones",
    }
)  # fmt: skip
"""Columns that hold few different values."""


class TickPoses(NamedTuple):
    """One tick's poses: ids (n,) rising, counts (n,) bones of each, steps (n, most bones, 5) int32: see `BONE`."""

    tick: int
    ids: NDArray[np.int64]
    counts: NDArray[np.int64]
    steps: NDArray[np.int32]


class PoseRows(NamedTuple):
    """Poses as a recording holds them, by entity and tick.

    entity, tick, bones : (rows,) int64
    steps : (rows, most bones, 5) int32, as they lie in the file: see `BONE`; what is behind an entity's last bone is 0
    """

    entity: NDArray[np.int64]
    tick: NDArray[np.int64]
    bones: NDArray[np.int64]
    steps: NDArray[np.int32]

    @property
    def places(self) -> NDArray[np.int32]:
        """(rows, most bones, 3), in steps."""
        return self.steps[..., :3]

    @property
    def turns(self) -> NDArray[np.int16]:
        """(rows, most bones, 4), in steps."""
        return self.steps.view(np.int16)[..., 6:]

    def bodies(self) -> Iterator[tuple[int, slice, int]]:
        """Each entity, its rows, and how many bones it has."""
        starts = np.flatnonzero(np.diff(self.entity, prepend=-1, append=-1)).tolist()
        for begin, end in pairwise(starts):
            yield int(self.entity[begin]), slice(begin, end), int(self.bones[begin])


def _on() -> None:
    """Go on at once: nobody else needs the interpreter."""


def require_pyarrow(caller: str) -> Any:
    """The module `pyarrow`; raises `MissingExtraError` naming the caller where it isn't installed."""
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise MissingExtraError(caller, "pyarrow", "recordings") from None
    return pyarrow


def table_of(name: str, rows: list[tuple[Any, ...]], pause: Callable[[], None] = _on) -> pyarrow.Table:
    """Rows as the table of that name. pause : called now and then, to let others have the interpreter"""
    import pyarrow as pa

    named = schema(name)
    columns = zip(*rows, strict=True) if rows else ([] for _ in named)
    arrays = []
    for column, field in zip(columns, named, strict=True):
        arrays.append(pa.array(column, field.type))
        pause()
    return pa.Table.from_arrays(arrays, schema=named)


def poses_table(ticks: list[TickPoses], pause: Callable[[], None] = _on) -> pyarrow.Table:
    """The poses of many ticks, a row for each entity in each, sorted by entity and tick: neighbours differ little, so
    they pack well. pause : called now and then, to let others have the interpreter
    """
    import pyarrow as pa

    first, count = ticks[0], len(ticks)
    numbers = np.array([one.tick for one in ticks], np.int64)
    if all(np.array_equal(one.ids, first.ids) for one in ticks):  # nothing needs sorting: a tick's rows become columns
        entity, tick = np.repeat(first.ids, count), np.tile(numbers, len(first.ids))
        bones, steps = (
            np.repeat(first.counts, count),
            np.empty((len(first.ids), count, *first.steps.shape[1:]), np.int32),
        )
        for number, one in enumerate(ticks):
            steps[:, number] = one.steps
            pause()
    else:
        entity = np.concatenate([one.ids for one in ticks])
        tick = np.repeat(numbers, [len(one.ids) for one in ticks])
        order = np.lexsort((tick, entity))
        entity, tick = entity[order], tick[order]
        bones = np.concatenate([one.counts for one in ticks])[order]
        steps = np.concatenate([one.steps for one in ticks])[order]
    most = first.steps.shape[1]
    poses = pa.FixedSizeBinaryArray.from_buffers(
        pa.binary(most * BONE.itemsize), len(entity), [None, pa.py_buffer(steps)]
    )
    columns = [pa.array(entity.astype(np.int32)), pa.array(tick), pa.array(bones.astype(np.int16)), poses]
    return pa.Table.from_arrays(columns, schema=schema("poses", most))


def pose_rows(table: pyarrow.Table) -> PoseRows:
    """A `poses` table as arrays; the steps are read where they lie."""
    whole = table.combine_chunks()
    entity, tick, bones = (whole[name].to_numpy().astype(np.int64) for name in ("entity", "tick", "bones"))
    (pose,) = whole["pose"].chunks or [None]
    size = whole.schema.field("pose").type.byte_width
    if pose is None or not len(pose):
        return PoseRows(entity, tick, bones, np.zeros((0, size // BONE.itemsize, 5), np.int32))
    flat = np.frombuffer(pose.buffers()[1], np.int32, len(pose) * size // 4, pose.offset * size)
    return PoseRows(entity, tick, bones, flat.reshape(len(pose), -1, 5))


def pack(name: str, table: pyarrow.Table, level: int = COMPRESSION) -> bytes:
    """A table as the bytes of a Parquet file."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    out = io.BytesIO()
    repeating = [column for column in table.schema.names if column in REPEATING]
    if name == "poses":  # bytes of equal weight side by side: the upper ones hardly change and vanish
        encodings = {"tick": RISING, "pose": "BYTE_STREAM_SPLIT"}
    else:
        encodings = {field.name: RISING for field in table.schema if pa.types.is_integer(field.type)}
    parquet.write_table(
        table, out, compression="zstd", compression_level=level, store_schema=False, use_dictionary=repeating,
        column_encoding={name: how for name, how in encodings.items() if name not in repeating},
        data_page_size=MAX_PAGE,
    )  # fmt: skip
    return out.getvalue()


def unpack(folder: Path, name: str, piece: Any, *, is_old: bool = False) -> pyarrow.Table:
    """Read a piece that a flush lists.

    is_old : of format 4, see `format_4`

    Raises `RecordingError` naming the file where it isn't what was written.
    """
    import pyarrow as pa

    path = folder / piece.file
    try:
        data = path.read_bytes()
    except OSError as error:
        raise RecordingError(path, f"listed in the recording but can't be read: {error.strerror}") from None
    if len(data) != piece.bytes:
        raise RecordingError(path, f"torn or altered: it has {len(data)} bytes, {piece.bytes} were written")
    if sha256(data) != piece.sha256:
        raise RecordingError(path, "altered since it was written: its SHA-256 is not the noted one")
    try:
        return parse(name, data, is_old=is_old)
    except (pa.ArrowInvalid, pa.ArrowException, OSError, ValueError) as error:
        raise RecordingError(path, f"not a {name} table: {str(error).splitlines()[0]}") from None


def parse(name: str, data: bytes, *, is_old: bool = False) -> pyarrow.Table:
    """A Parquet file's bytes as the table of that name. Raises what pyarrow raises, `ValueError` for other columns."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    table = read_bounded(parquet.ParquetFile(pa.BufferReader(data)))
    if is_old:
        table = table_now(name, table)
    expected = schema(name, _most_in(table) if name == "poses" else 1)
    if table.schema.names != expected.names:
        raise ValueError(f"columns are {', '.join(table.schema.names)}; expected {', '.join(expected.names)}")
    return table.cast(expected)


def _most_in(table: pyarrow.Table) -> int:
    """Return the number of bones in a row of poses; raises `ValueError` where rows and numbers of bones differ."""
    import pyarrow as pa
    import pyarrow.compute as compute

    if "pose" not in table.schema.names or not pa.types.is_fixed_size_binary(kind := table.schema.field("pose").type):
        return 1
    most, odd = divmod(kind.byte_width, BONE.itemsize)
    said = compute.min_max(table["bones"]).as_py() if "bones" in table.schema.names else {"min": 0, "max": 0}
    if odd or table["pose"].null_count or not 0 <= (said["min"] or 0) <= (said["max"] or 0) <= most:
        raise ValueError(
            f"rows of {kind.byte_width} bytes don't hold {said['max']} bones of {BONE.itemsize} bytes each"
        )
    return int(most)
