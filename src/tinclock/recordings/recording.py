"""Reading a recording."""

from __future__ import annotations

import math
import re
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.combat.events import Event
from tinclock.core.errors import RecordingError
from tinclock.core.plain import Fields
from tinclock.core.ruling.records import Ruling
from tinclock.recordings import format_4
from tinclock.recordings.layout import (
    FLUSHES,
    FORMAT,
    HEADER,
    LEVEL,
    TABLES,
    Flush,
    Header,
    Missing,
    Piece,
    schema,
    sha256,
)
from tinclock.recordings.level_tables import read_level, require_level
from tinclock.recordings.pieces import parse, pose_rows, require_pyarrow, unpack

if TYPE_CHECKING:
    from collections.abc import Iterator

    import pyarrow
    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level

_FILE = re.compile(r"[a-z]+/[a-z0-9-]+\.parquet")
_RULING, _EVENT = msgspec.json.Decoder(Ruling).decode, msgspec.json.Decoder(Event).decode


class EntityPoses(NamedTuple):
    """One entity's poses in one stretch. ticks : (n,) int64, rising; poses : (n, bones, 7) float64, metres."""

    ticks: NDArray[np.int64]
    poses: NDArray[np.float64]


class Recording:
    """A recording on disk, opened for reading. Nothing of it is held but its list of flushes.

    recover : read on where something is broken, as far as that goes; what was wrong is in `problems`

    Raises `RecordingError`, naming the file, for what is no recording, is of a newer format, is torn or was altered. A
    recording whose writer was killed is none of these: it ends with its last flush, and `closed` is False.
    """

    def __init__(self, path: str | Path, *, recover: bool = False) -> None:
        require_pyarrow("Recording")
        self.path, self.recover = Path(path), recover
        self.problems: list[str] = []
        """Problems that `recover` skipped."""
        self.damaged_tail = False
        """True if the writer was killed in the middle of a line; that flush doesn't count."""
        if not self.path.is_dir():
            what = "is no folder" if self.path.exists() else "is not there"
            raise RecordingError(self.path, f"{what}; a recording is a folder that holds {HEADER}")
        self.is_old = False
        """True for a recording of version 0.2, which is read under today's names (see `format_4`)."""
        self.header, text = self._read_header()
        self.flushes = self._read_flushes(sha256(text))

    def _fault(self, path: Path, problem: str) -> None:
        """Raise, or note and go on."""
        if not self.recover:
            raise RecordingError(path, problem)
        self.problems.append(str(RecordingError(path, problem)))

    def _read_header(self) -> tuple[Header | None, bytes]:
        path = self.path / HEADER
        try:
            text = path.read_bytes()
        except OSError as error:
            self._fault(path, f"can't be read ({error.strerror}); without it nothing can be ruled again")
            return None, b""
        try:
            number = msgspec.json.decode(text, type=dict)["format"]
        except (msgspec.DecodeError, KeyError, RecursionError) as error:
            self._fault(path, f"is no recording's header: {error}")
            return None, text
        self.is_old = number == format_4.FORMAT
        if number != FORMAT and not self.is_old:
            raise RecordingError(
                path, f"the recording is of format {number!r}; this version reads formats 4 and {FORMAT}: read it with "
                "the version that wrote it, which the header names under `written_by`",
            )  # fmt: skip
        try:
            if self.is_old:
                return msgspec.convert(format_4.header_now(msgspec.json.decode(text)), Header), text
            return msgspec.json.decode(text, type=Header), text
        except (msgspec.DecodeError, KeyError, AttributeError) as error:
            self._fault(path, f"is no recording's header: {error}")
            return None, text

    def _read_flushes(self, previous: str) -> list[Flush]:
        path = self.path / FLUSHES
        try:
            data = path.read_bytes()
        except OSError as error:
            self._fault(path, f"can't be read ({error.strerror}); it lists what was written")
            return self._found_by_name()
        lines = data.split(b"\n")
        self.damaged_tail = bool(lines.pop())
        out: list[Flush] = []
        for row, line in enumerate(lines, 1):
            try:
                flush = msgspec.json.decode(format_4.flush_now(line) if self.is_old else line, type=Flush)
            except msgspec.DecodeError as error:
                self._fault(path, f"line {row} is no flush: {error}")
                break
            if flush.previous != previous:
                before = f"line {row - 1}" if row > 1 else HEADER
                self._fault(path, f"line {row} doesn't follow {before} as it is now: one of them was altered")
            previous = sha256(line)
            for name, piece in flush.pieces.items():
                if name not in TABLES or not _FILE.fullmatch(piece.file) or not piece.file.startswith(f"{name}/"):
                    raise RecordingError(
                        path, f"line {row} lists {piece.file[:60]!r}, which is no file of {name[:20]!r}"
                    )
            out.append(flush)
        return out

    def _found_by_name(self) -> list[Flush]:
        """Return the folder's files that nothing lists, in the order of their names."""
        names: dict[str, dict[str, Piece]] = {}
        for table in TABLES:
            for file in sorted((self.path / table).glob("*.parquet")):
                data = file.read_bytes()
                names.setdefault(file.stem, {})[table] = Piece(f"{table}/{file.name}", 0, len(data), sha256(data))
        empty = Flush(
            first_call=0, next_call=0, from_s=None, to_s=None, ticks=0, rulings=0, rulings_sha256="", events=0,
            events_sha256="", pieces={},
        )  # fmt: skip
        return [msgspec.structs.replace(empty, pieces=names[stem]) for stem in sorted(names)]

    # -- what it holds ----------------------------------------------------------------------------------------

    @property
    def missing(self) -> list[Missing]:
        """Gaps for which the disk had no room while the match went on; nothing after the first can be ruled again."""
        return [flush.missing for flush in self.flushes if flush.missing is not None]

    @property
    def closed(self) -> bool:
        """True if it was ended in good order."""
        return bool(self.flushes) and self.flushes[-1].closed

    @property
    def ends_at_s(self) -> float:
        """Server time of the last tick that was flushed, 0 for none."""
        return max((flush.to_s for flush in self.flushes if flush.to_s is not None), default=0.0)

    @property
    def begins_at_s(self) -> float:
        """Server time of the first tick, 0 for none."""
        return min((flush.from_s for flush in self.flushes if flush.from_s is not None), default=0.0)

    @property
    def ticks(self) -> int:
        """Number of flushed ticks."""
        return sum(flush.ticks for flush in self.flushes)

    @property
    def nbytes(self) -> int:
        """Bytes of all tables."""
        return sum(piece.bytes for flush in self.flushes for piece in flush.pieces.values())

    def rows(self, table: str) -> int:
        """Return the number of rows of a table."""
        return sum(flush.pieces[table].rows for flush in self.flushes if table in flush.pieces)

    @property
    def unreferenced_files(self) -> list[str]:
        """Files that no flush lists: a writer was killed between a file and its line. Nothing reads them."""
        listed = {piece.file for flush in self.flushes for piece in flush.pieces.values()}
        folders = [self.path / name for name in TABLES]
        own = [folder for folder in folders if not folder.is_symlink()]  # others' files aren't ours
        found = (f"{folder.name}/{file.name}" for folder in own for file in folder.glob("*") if file.is_file())
        return sorted(file for file in found if file not in listed)

    def verify(self) -> list[str]:
        """Read everything; returns what is wrong, a line each, nothing when all is as it was written."""
        wrong = list(self.problems)
        for flush in self.flushes:
            for name, piece in flush.pieces.items():
                try:
                    found = unpack(self.path, name, piece, is_old=self.is_old).num_rows
                except RecordingError as error:
                    wrong.append(str(error))
                else:
                    if piece.rows and found != piece.rows:
                        wrong.append(f"{self.path / piece.file}: has {found} rows, {piece.rows} were written")
        try:
            self.level()
        except RecordingError as error:
            wrong.append(str(error))
        return wrong

    # -- reading ----------------------------------------------------------------------------------------------

    def piece(self, table: str, flush: Flush) -> pyarrow.Table:
        """One table's rows of one flush. Where `recover` reads on, a piece that is broken has none."""
        listed = flush.pieces.get(table)
        if listed is None:
            return schema(table).empty_table()
        try:
            if not listed.rows and self.recover:
                return parse(table, (self.path / listed.file).read_bytes(), is_old=self.is_old)
            return unpack(self.path, table, listed, is_old=self.is_old)
        except RecordingError as error:
            self._fault(Path(error.path), error.problem)
        except (OSError, ValueError) as error:  # pyarrow's own are ValueErrors too
            self._fault(self.path / listed.file, f"not a {table} table: {str(error).splitlines()[0]}")
        return schema(table).empty_table()

    def between(self, since_s: float, until_s: float) -> list[Flush]:
        """The flushes that hold anything of a span of server time.

        Claims of a flush may have come before its first tick and after its last one: from the last tick before it to
        the first one after it, and a second around that for stamps of other threads.
        """
        out, before = [], -math.inf
        firsts = [flush.from_s for flush in self.flushes]
        after = math.inf
        nexts = list[float]()
        for first in reversed(firsts):
            nexts.append(after)
            after = after if first is None else first
        for flush, following in zip(self.flushes, reversed(nexts), strict=True):
            if before - 1.0 <= until_s and following + 1.0 >= since_s:
                out.append(flush)
            before = before if flush.to_s is None else flush.to_s
        return out

    def table(self, name: str, since_s: float = float("-inf"), until_s: float = float("inf")) -> pyarrow.Table:
        """A table, whole or at least what belongs to a span of server time; other files are not read."""
        import pyarrow as pa

        if name not in TABLES:
            raise RecordingError(self.path, f"has no table {name!r}; tables are {', '.join(TABLES)}")
        pieces = [self.piece(name, flush) for flush in self.between(since_s, until_s) if name in flush.pieces]
        return pa.concat_tables(pieces) if pieces else schema(name).empty_table()

    def rulings(self, since_s: float = float("-inf"), until_s: float = float("inf")) -> Iterator[Ruling]:
        """The rulings as they were made, in order."""
        for flush in self.between(since_s, until_s):
            yield from self.rulings_of(flush)

    def rulings_of(self, flush: Flush) -> list[Ruling]:
        """The rulings of one flush."""
        return [_RULING(text) for text in self.piece("rulings", flush)["ruling"].to_pylist()]

    def events(self) -> Iterator[Event]:
        """Everything that was told to everybody, in order."""
        for flush in self.flushes:
            yield from self.events_of(flush)

    def events_of(self, flush: Flush, since_call: int = 0) -> list[Event]:
        """Events of one flush, from a step on."""
        table = self.piece("events", flush)
        steps, texts = table["call_number"].to_pylist(), table["event"].to_pylist()
        return [_EVENT(text) for step, text in zip(steps, texts, strict=True) if step >= since_call]

    def ruling(self, number: int) -> Ruling:
        """One ruling by its number. Raises `RecordingError` for one that isn't there."""
        flush, row = self.ruling_row(number)
        return _RULING(self.piece("rulings", flush)["ruling"][row].as_py())

    def ruling_row(self, number: int) -> tuple[Flush, int]:
        """The flush that holds a ruling, and its row there. Raises `RecordingError` for one that isn't there."""
        for flush in self.flushes:
            if flush.rulings and flush.rulings < number:
                continue
            at = np.flatnonzero(self.piece("rulings", flush)["number"].to_numpy() == number)
            if len(at):
                return flush, int(at[0])
        last = self.flushes[-1].rulings if self.flushes else 0
        raise RecordingError(self.path, f"has no ruling {number}; they are numbered 1 to {last}")

    def names(self) -> dict[int, str]:
        """Return the names of entities: their accounts with their shown names, or the names they were placed with."""
        out = {}
        for entity, said in self._introductions():
            account, name = said.get("account"), said.get("name")
            both = f"{name} ({account})" if account and name and name != account else None
            out[entity] = both or account or name or said["rig"]
        return out

    def shown_names(self) -> dict[str, str]:
        """The names that were shown to everybody, by account, of those who were admitted with one."""
        said = [one for _, one in self._introductions()]
        return {one["account"]: one["name"] for one in said if one.get("account") and one.get("name")}

    def teams(self) -> dict[int, str]:
        """The entities' teams, "" for none."""
        return {entity: said.get("team") or "" for entity, said in self._introductions()}

    def _introductions(self) -> Iterator[tuple[int, Fields]]:
        """Everybody who was let in, with what was said then."""
        for flush in self.flushes:
            table = self.piece("calls", flush)
            columns = (table[name].to_pylist() for name in ("call", "arguments", "answer"))
            for call, text, answer in zip(*columns, strict=True):
                if call in ("admit", "add_entity") and answer is not None:
                    yield int(answer), msgspec.json.decode(text)

    def level(self) -> Level | None:
        """The level that was recorded; None for open ground. Raises `RecordingError` when its mesh was not kept."""
        note = None if self.header is None else self.header.level
        if note is None:
            return None
        if not note.kept:
            raise RecordingError(
                self.path, f"doesn't hold its level (digest {note.digest[:16]}); give it: --level FILE"
            )
        return read_level(self.path / LEVEL, note)

    def level_or(self, given: Level | None) -> Level | None:
        """A level that was handed in, once it was found to be the recorded one; else the recording's own."""
        if given is None:
            return self.level()
        require_level(given, self.require_header().level, self.path)
        return given

    def tick_times(self) -> NDArray[np.float64]:
        """(n,) float64: server times of the ticks that were recorded, in order, seconds."""
        table = self.table("ticks")
        recorded = np.array([what == "record" for what in table["what"].to_pylist()], bool)
        times: NDArray[np.float64] = table["server_time"].to_numpy().astype(float)[recorded]
        return times

    def arrival_times(self) -> NDArray[np.float64]:
        """(n,) float64: server times at which claims and pongs came, as the server stamped them, seconds."""
        claims, pings = self.table("claims"), self.table("pings")
        pongs = np.array([call == "pong" for call in pings["call"].to_pylist()], bool)
        stamps = pings["server_time"].to_numpy(zero_copy_only=False).astype(float)[pongs]
        return np.concatenate([claims["received_at"].to_numpy(zero_copy_only=False).astype(float), stamps])

    def require_header(self) -> Header:
        """The header; raises `RecordingError` where recover went on without one."""
        if self.header is None:
            raise RecordingError(self.path / HEADER, "can't be read, and nothing can be ruled or drawn without it")
        return self.header

    def poses(self, flush: Flush) -> dict[int, EntityPoses]:
        """The poses of one flush by entity, as they were ruled on."""
        header, rows = self.require_header(), pose_rows(self.piece("poses", flush))
        out = {}
        for entity, at, bones in rows.bodies():
            poses = np.empty((at.stop - at.start, bones, 7))
            np.divide(rows.places[at, :bones], header.place_steps_per_m, out=poses[..., :3])
            np.divide(rows.turns[at, :bones], header.turn_steps, out=poses[..., 3:])
            out[entity] = EntityPoses(rows.tick[at], poses)
        return out
