"""Between rows in memory and the Parquet files of a recording."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.errors import MissingExtraError, RecordingError
from tinclock.intake.parquet_file import read_bounded
from tinclock.recordings.layout import schema, sha256

if TYPE_CHECKING:
    from pathlib import Path

    import pyarrow
    from numpy.typing import NDArray

LEVEL_WHILE_PLAYING, LEVEL_WHEN_CLOSED = 1, 9
"""How hard zstandard tries: little beside a running match, more when there is time."""
RISING, MOST_PAGE = "DELTA_BINARY_PACKED", 8 << 20
REPEATING = frozenset(
    {
        "what", "call", "connection", "kind", "account", "weapon", "outcome", "part", "findings", "entity", "victim",
        "bone",
    }
)  # fmt: skip
"""Columns that hold few different values."""


class TickPoses(NamedTuple):
    """One tick's poses, in steps: ids (n,) rising, counts (n,) bones of each, places (rows, 3), turns (rows, 4)."""

    tick: int
    ids: NDArray[np.int64]
    counts: NDArray[np.int64]
    places: NDArray[np.int32]
    turns: NDArray[np.int16]


def require_pyarrow(caller: str) -> Any:
    """The module `pyarrow`; raises `MissingExtraError` naming the caller where it isn't installed."""
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise MissingExtraError(caller, "pyarrow", "recordings") from None
    return pyarrow


def table_of(name: str, rows: list[tuple[Any, ...]]) -> pyarrow.Table:
    """Rows as the table of that name."""
    import pyarrow as pa

    columns = zip(*rows, strict=True) if rows else ([] for _ in schema(name))
    arrays = [pa.array(column, field.type) for column, field in zip(columns, schema(name), strict=True)]
    return pa.Table.from_arrays(arrays, schema=schema(name))


def poses_table(ticks: list[TickPoses]) -> pyarrow.Table:
    """The poses of many ticks, sorted by entity, bone and tick: neighbours differ little, so they pack well."""
    first = ticks[0]
    if all(len(one.ids) == len(first.ids) and np.array_equal(one.ids, first.ids) for one in ticks):
        return _steady_table(ticks)
    entity = np.concatenate([np.repeat(one.ids, one.counts) for one in ticks])
    bone = np.concatenate([_within(one.counts) for one in ticks])
    tick = np.repeat([one.tick for one in ticks], [len(one.places) for one in ticks])
    order = np.lexsort((tick, bone, entity))
    places = np.concatenate([one.places for one in ticks])[order]
    turns = np.concatenate([one.turns for one in ticks])[order]
    return _pose_columns(entity[order], bone[order], tick[order], places, turns)


def _steady_table(ticks: list[TickPoses]) -> pyarrow.Table:
    """The same where everybody is there all the time: nothing needs sorting, rows of a tick become columns."""
    first, count = ticks[0], len(ticks)
    entity = np.repeat(np.repeat(first.ids, first.counts), count)
    bone = np.repeat(_within(first.counts), count)
    tick = np.tile([one.tick for one in ticks], len(first.places))
    places = np.stack([one.places for one in ticks], axis=1).reshape(-1, 3)
    turns = np.stack([one.turns for one in ticks], axis=1).reshape(-1, 4)
    return _pose_columns(entity, bone, tick, places, turns)


def _pose_columns(entity: Any, bone: Any, tick: Any, places: Any, turns: Any) -> pyarrow.Table:
    import pyarrow as pa

    columns = [entity.astype(np.int32), bone.astype(np.int16), tick.astype(np.int64)]
    columns += [np.ascontiguousarray(places[:, k]) for k in range(3)]
    columns += [np.ascontiguousarray(turns[:, k]) for k in range(4)]
    return pa.Table.from_arrays([pa.array(column) for column in columns], schema=schema("poses"))


def _within(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """0, 1, ... for each count in turn."""
    starts = np.cumsum(counts) - counts
    return np.arange(int(counts.sum())) - np.repeat(starts, counts)


def pack(name: str, table: pyarrow.Table, level: int) -> bytes:
    """A table as the bytes of a Parquet file."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    out = io.BytesIO()
    repeating = [column for column in table.schema.names if column in REPEATING]
    if name == "poses":  # bytes of equal weight side by side: the upper ones hardly change and vanish
        encodings = {"tick": RISING, **dict.fromkeys(table.schema.names[3:], "BYTE_STREAM_SPLIT")}
    else:
        encodings = {field.name: RISING for field in table.schema if pa.types.is_integer(field.type)}
    parquet.write_table(
        table, out, compression="zstd", compression_level=level, store_schema=False, use_dictionary=repeating,
        column_encoding={name: how for name, how in encodings.items() if name not in repeating},
        data_page_size=MOST_PAGE,
    )  # fmt: skip
    return out.getvalue()


def unpack(folder: Path, name: str, piece: Any) -> pyarrow.Table:
    """Read a piece that a flush lists. Raises `RecordingError` naming the file where it isn't what was written."""
    import pyarrow as pa

    path = folder / piece.file
    try:
        data = path.read_bytes()
    except OSError as error:
        raise RecordingError(path, f"listed in the recording but can't be read: {error.strerror}") from None
    if len(data) != piece.bytes:
        raise RecordingError(path, f"torn or altered: it has {len(data)} bytes, {piece.bytes} were written")
    if sha256(data) != piece.sha256:
        raise RecordingError(path, "altered since it was written: its SHA-256 is not the one that was noted")
    try:
        return parse(name, data)
    except (pa.ArrowInvalid, pa.ArrowException, OSError, ValueError) as error:
        raise RecordingError(path, f"not a {name} table: {str(error).splitlines()[0]}") from None


def parse(name: str, data: bytes) -> pyarrow.Table:
    """A Parquet file's bytes as the table of that name. Raises what pyarrow raises, `ValueError` for other columns."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    table = read_bounded(parquet.ParquetFile(pa.BufferReader(data)))
    expected = schema(name)
    if table.schema.names != expected.names:
        raise ValueError(f"columns are {', '.join(table.schema.names)}; expected {', '.join(expected.names)}")
    return table.cast(expected)
