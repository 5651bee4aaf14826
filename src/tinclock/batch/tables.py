"""The tables that batches write: their columns, in order."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.recordings.pieces import require_pyarrow

if TYPE_CHECKING:
    from collections.abc import Iterable

TEXT, WHOLE, NUMBER, FLAG = "string", "int64", "float64", "bool"
COLUMNS: dict[str, dict[str, str]] = {
    "recordings": {"recording": TEXT, "match": TEXT, "problem": TEXT, "took_s": NUMBER},
    "replay": {
        "recording": TEXT, "rulings": WHOLE, "accepted": WHOLE, "adjusted": WHOLE, "rejected": WHOLE, "repeated": WHOLE,
        "damage": NUMBER, "kills": WHOLE, "flipped": WHOLE, "refused_calls": WHOLE, "as_recorded": FLAG, "ticks": WHOLE,
        "seconds": NUMBER, "rulings_sha256": TEXT,
    },
    "flips": {
        "recording": TEXT, "call_number": WHOLE, "ruling": WHOLE, "account": TEXT, "kind": TEXT, "server_time": NUMBER,
        "before": TEXT, "after": TEXT, "damage_before": NUMBER, "damage_after": NUMBER, "why_before": TEXT,
        "why_after": TEXT,
    },
    "sweep": {
        "recording": TEXT, "setting": TEXT, "recorded": NUMBER, "value": NUMBER, "accepted": WHOLE, "adjusted": WHOLE,
        "rejected": WHOLE, "damage": NUMBER, "kills": WHOLE, "flipped": WHOLE, "refused": WHOLE,
    },
    "shooters": {
        "recording": TEXT, "max_rewind_s": NUMBER, "connection_quality": TEXT, "hits": WHOLE, "counted": WHOLE,
        "accepted": WHOLE,
        "inside": WHOLE, "accepted_inside": WHOLE, "elsewhere": WHOLE, "misses": WHOLE, "misses_hit": WHOLE,
    },
    "victims": {
        "recording": TEXT, "max_rewind_s": NUMBER, "connection_quality": TEXT, "hits": WHOLE, "after_cover": WHOLE,
        "unseen": WHOLE,
        "median_s": NUMBER, "p95_s": NUMBER, "worst_s": NUMBER,
    },
    "claimed": {
        "recording": TEXT, "connection_quality": TEXT, "claimed": WHOLE, "counted": WHOLE, "elsewhere": WHOLE,
        "missed": WHOLE,
        "rejected": WHOLE, "capped": WHOLE, "repeated": WHOLE, "median_rewound_s": NUMBER, "p95_rewound_s": NUMBER,
    },
    "accounts": {
        "recording": TEXT, "match": TEXT, "account": TEXT, "connection_quality": TEXT, "minutes": NUMBER,
        "decibans": NUMBER,
        "peak": NUMBER, "strongest": TEXT, "strongest_decibans": NUMBER, "threshold_at_s": NUMBER,
    },
    "gains": {
        "recording": TEXT, "match": TEXT, "account": TEXT, "server_time": NUMBER, "kind": TEXT, "decibans": NUMBER,
    },
}  # fmt: skip
"""`recordings` is of every batch; what the others hold is said in docs/batches.md."""
OF_JOB = {
    "replay": ("replay", "flips"), "sweep": ("sweep",), "fairness": ("claimed", "shooters", "victims"),
    "weigh": ("accounts", "gains"),
}  # fmt: skip


def write_table(folder: Path, name: str, rows: Iterable[Fields]) -> Path:
    """Write one table as Parquet, whole or not at all. A key that is missing in a row is null there."""
    pyarrow = require_pyarrow("batch")
    kinds = {TEXT: pyarrow.string(), WHOLE: pyarrow.int64(), NUMBER: pyarrow.float64(), FLAG: pyarrow.bool_()}
    schema = pyarrow.schema([(column, kinds[kind]) for column, kind in COLUMNS[name].items()])
    table = pyarrow.Table.from_pylist(list(rows), schema=schema)
    path = folder / f"{name}.parquet"
    fresh = path.with_suffix(".fresh")
    pyarrow.parquet.write_table(table, fresh)
    fresh.replace(path)
    return path
