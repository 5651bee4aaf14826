"""Reading Parquet files of unknown origin: a small file may unpack to more than there is memory."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pyarrow

MAX_BYTES = 4 << 30
"""Maximum size of one file unpacked; an hour of 100 players takes half of it."""
FIRST_ROWS, ROWS_AT_A_TIME = 64, 8192


def read_bounded(file: Any, max_bytes: int = MAX_BYTES) -> pyarrow.Table:
    """A `pyarrow.parquet.ParquetFile` as a table, read row by row as long as it stays within bounds.

    Raises `ValueError` for one that unpacks to more, before it has; and what pyarrow raises for a broken one.
    """
    import pyarrow as pa

    rows, packed = file.metadata.num_rows, sum(
        file.metadata.row_group(k).total_byte_size for k in range(file.metadata.num_row_groups)
    )  # fmt: skip
    if packed > max_bytes:
        raise ValueError(_too_large(packed, max_bytes))
    first = next(map(_plain, file.iter_batches(batch_size=FIRST_ROWS)), None)
    if first is not None and first.num_rows and (likely := first.nbytes / first.num_rows * rows) > max_bytes:
        raise ValueError(_too_large(round(likely), max_bytes))
    batches, size = [], 0
    for batch in map(_plain, file.iter_batches(batch_size=ROWS_AT_A_TIME)):
        size += batch.nbytes
        if size > max_bytes:
            raise ValueError(_too_large(size, max_bytes))
        batches.append(batch)
    return pa.Table.from_batches(batches) if batches else _plain(file.schema_arrow.empty_table())


def _plain(rows: Any) -> Any:
    """Rows without dictionaries, as large as they are once they are used: one long text can stand for a million."""
    import pyarrow as pa

    for place, field in enumerate(rows.schema):
        if pa.types.is_dictionary(field.type):
            column = rows.column(place).cast(field.type.value_type)
            rows = rows.set_column(place, pa.field(field.name, column.type, field.nullable), column)
    return rows


def _too_large(size: int, most: int) -> str:
    return f"unpacks to {size / 1e9:.1f} GB or more; at most {most / 1e9:.1f} GB of one file are read"
