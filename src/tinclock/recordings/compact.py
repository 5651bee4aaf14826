"""A recording that was ended: its many small files put together into few."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from tinclock.recordings.layout import FLUSHES, HEADER, TABLES, Flush, Piece, sha256
from tinclock.recordings.pieces import LEVEL_WHEN_CLOSED, pack, unpack
from tinclock.recordings.writer import put_down

if TYPE_CHECKING:
    from pathlib import Path

STRETCH_S = 15.0
"""So much of a match lies in one file of each table: what seeking has to read at most."""


def compact(folder: Path, level: int = LEVEL_WHEN_CLOSED) -> None:
    """Rewrite the files of a closed recording, about 15 s of the match in each. What they hold stays the same.

    level : how hard zstandard tries, up to 19

    The list of flushes is replaced last and at once, so that the recording is whole at every moment.
    """
    flushes = [msgspec.json.decode(line, type=Flush) for line in (folder / FLUSHES).read_bytes().splitlines()]
    stretches: list[list[Flush]] = []
    began: float | None = None
    for flush in flushes:
        if (
            not stretches
            or flush.missing is not None
            or (began is not None and flush.from_s is not None and flush.from_s - began >= STRETCH_S)
        ):
            stretches.append([])
            began = None
        began = flush.from_s if began is None else began
        stretches[-1].append(flush)
    if len(stretches) == len(flushes) and level == LEVEL_WHEN_CLOSED:
        return
    previous, lines, made = sha256((folder / HEADER).read_bytes()), [], list[str]()
    try:
        for stretch in stretches:
            whole = _joined(folder, stretch, previous, level)
            made += [piece.file for piece in whole.pieces.values()]
            lines.append(msgspec.json.encode(whole))
            previous = sha256(lines[-1])
        put_down(folder / FLUSHES, b"".join(line + b"\n" for line in lines), durable=True)
    except OSError:  # no room for both: what was there is whole, and what was begun goes
        for file in made:
            (folder / file).unlink(missing_ok=True)
        raise
    kept = {piece.file for line in lines for piece in msgspec.json.decode(line, type=Flush).pieces.values()}
    for flush in flushes:
        for piece in flush.pieces.values():
            if piece.file not in kept:
                (folder / piece.file).unlink()


def _joined(folder: Path, stretch: list[Flush], previous: str, level: int) -> Flush:
    import pyarrow as pa

    first, last = stretch[0], stretch[-1]
    pieces = {}
    for name in TABLES:
        listed = [flush.pieces[name] for flush in stretch if name in flush.pieces]
        if not listed:
            continue
        table = pa.concat_tables([unpack(folder, name, piece) for piece in listed])
        if name == "poses":
            table = table.sort_by([(column, "ascending") for column in ("entity", "bone", "tick")])
        data = pack(name, table, level)
        file = f"{name}/from-{first.first_step:09d}.parquet"
        put_down(folder / file, data, durable=True)
        pieces[name] = Piece(file, table.num_rows, len(data), sha256(data))
    starts = [flush.from_s for flush in stretch if flush.from_s is not None]
    ends = [flush.to_s for flush in stretch if flush.to_s is not None]
    return msgspec.structs.replace(
        last, first_step=first.first_step, from_s=min(starts, default=None), to_s=max(ends, default=None),
        ticks=sum(flush.ticks for flush in stretch), pieces=pieces, previous=previous, missing=first.missing,
    )  # fmt: skip
