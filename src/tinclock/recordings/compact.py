"""The many small files of a recording put together into few: while it is written, and when it was ended."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from tinclock.core.errors import RecordingError
from tinclock.recordings.disk import put_down
from tinclock.recordings.layout import FLUSHES, FORMAT, HEADER, TABLES, Flush, Piece, sha256
from tinclock.recordings.pieces import COMPRESSION, pack, unpack

if TYPE_CHECKING:
    from pathlib import Path

STRETCH_S = 15.0
"""Length of a match in one file of each table: the most that seeking has to read."""


class Gathering:
    """Puts the files of each quarter of a minute together as soon as there are all of them, so that ending a recording
    takes as long for an hour as for a minute.

    The new files are strays until `finish` replaces the list of flushes, once and at once: the recording is whole at
    every moment, and a reader that follows it while it is written sees no change.
    """

    def __init__(self, folder: Path, level: int = COMPRESSION) -> None:
        self._folder, self._level = folder, level
        self._stretch: list[Flush] = []
        self._listed: list[Flush] = []
        self._replaced: list[Flush] = []
        self._problem: OSError | RecordingError | None = None

    def take(self, flush: Flush) -> None:
        """One more flush was written."""
        if self._stretch and _begins_anew(self._stretch, flush):
            self._put_together()
        self._stretch.append(flush)

    def go_on_after(self, flushes: list[Flush]) -> None:
        """These were written before by a process that was killed; they are left as they are."""
        self._listed += flushes

    def _put_together(self) -> None:
        stretch, self._stretch = self._stretch, []
        if len(stretch) == 1 and self._level == COMPRESSION:
            self._listed += stretch
            return
        try:
            self._listed.append(_joined(self._folder, stretch, self._level))
        except (OSError, RecordingError) as error:  # no room for both, or it can't be read: it stays as it is
            self._listed += stretch
            self._problem = error
        else:
            self._replaced += stretch

    def finish(self, *, all_of_it: bool = True) -> None:
        """Replace the list of a closed recording, and remove what it no longer lists.

        all_of_it : put the last stretch together too, which is safe to ask for later. Raises `OSError` where there is
            no room for that; everything is whole then as it is.
        """
        if all_of_it and self._stretch:
            self._put_together()
        if self._replaced:
            self._replace_list([*self._listed, *self._stretch])
        if all_of_it and self._problem is not None:
            raise self._problem

    def _replace_list(self, listed: list[Flush]) -> None:
        previous, lines = sha256((self._folder / HEADER).read_bytes()), []
        for flush in listed:
            lines.append(msgspec.json.encode(msgspec.structs.replace(flush, previous=previous)))
            previous = sha256(lines[-1])
        kept, before = _files(listed), _files(self._replaced)
        try:
            put_down(self._folder / FLUSHES, b"".join(line + b"\n" for line in lines), durable=True)
        except OSError as error:
            _remove(self._folder, kept - before)
            self._listed, self._stretch, self._replaced, self._problem = [], [], [], error
            raise
        _remove(self._folder, before - kept)
        self._replaced = []


def compact(folder: Path, level: int = COMPRESSION) -> None:
    """Put the files of a closed recording together that still are apart. What they hold stays the same.

    level : how hard zstandard tries, up to 19; another one than usual rewrites all files

    Raises `OSError` where there is no room; the recording is whole then as it is. Raises `RecordingError` for a
    recording of version 0.2.
    """
    if msgspec.json.decode((folder / HEADER).read_bytes())["format"] != FORMAT:
        raise RecordingError(folder, f"is no recording of format {FORMAT}; it can be read but not rewritten")
    gathering = Gathering(folder, level)
    for line in (folder / FLUSHES).read_bytes().splitlines():
        gathering.take(msgspec.json.decode(line, type=Flush))
    gathering.finish()


def _begins_anew(stretch: list[Flush], flush: Flush) -> bool:
    began = next((one.from_s for one in stretch if one.from_s is not None), None)
    late = began is not None and flush.from_s is not None and flush.from_s - began >= STRETCH_S
    return late or flush.missing is not None


def _remove(folder: Path, files: set[str]) -> None:
    for file in files:
        (folder / file).unlink(missing_ok=True)


def _files(flushes: list[Flush]) -> set[str]:
    return {piece.file for flush in flushes for piece in flush.pieces.values()}


def _joined(folder: Path, stretch: list[Flush], level: int) -> Flush:
    import pyarrow as pa

    first, last = stretch[0], stretch[-1]
    pieces: dict[str, Piece] = {}
    try:
        for name in TABLES:
            listed = [flush.pieces[name] for flush in stretch if name in flush.pieces]
            if not listed:
                continue
            table = pa.concat_tables([unpack(folder, name, piece) for piece in listed])
            if name == "poses":
                table = table.sort_by([(column, "ascending") for column in ("entity", "tick")])
            data = pack(name, table, level)
            file = f"{name}/from-{first.first_call:09d}.parquet"
            put_down(folder / file, data, durable=True)
            pieces[name] = Piece(file, table.num_rows, len(data), sha256(data))
    except OSError:
        _remove(folder, {piece.file for piece in pieces.values()})
        raise
    starts = [flush.from_s for flush in stretch if flush.from_s is not None]
    ends = [flush.to_s for flush in stretch if flush.to_s is not None]
    return msgspec.structs.replace(
        last, first_call=first.first_call, from_s=min(starts, default=None), to_s=max(ends, default=None),
        ticks=sum(flush.ticks for flush in stretch), pieces=pieces, missing=first.missing,
    )  # fmt: skip
