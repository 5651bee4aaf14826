"""The evidence log: every finding, gain and decision, appended as JSON Lines, each chained to the one before.

A line is an `Entry`; `previous` is the SHA-256 of the line before it, without its newline. So no record can be edited,
removed or swapped without the next one saying so. What lies after the last record that somebody noted the digest of
(`EvidenceLog.head`, which the case store keeps with each decision) could still be cut off whole; `verify` takes such a
head and says when it is gone.
"""

from __future__ import annotations

import os
import re
import time
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, Literal, NamedTuple

import msgspec

from tinclock.cases.pseudonyms import Pseudonyms
from tinclock.core.errors import EvidenceError
from tinclock.recordings.layout import sha256

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from types import TracebackType

SCHEMA: Final = 1
FILE_BYTES: Final = 64 * 2**20
FIRST: Final = "0" * 64
LOCK: Final = "writer.lock"
SOON_S: Final = 0.2
_NAME = re.compile(r"evidence-(\d{6})\.jsonl")

Sync = Literal["each", "soon", "never"]
SYNC_OF: Final[dict[str, Sync]] = {"strict": "each", "standard": "soon", "lenient": "never"}
"""By strictness: a record is on the disk before it is acknowledged, within 0.2 s, or when the system likes."""


class Entry(msgspec.Struct, frozen=True):
    """One record. number : from 1, without gaps; at : unix time, seconds; kind : "finding", "gain", "decision", ..."""

    number: int
    previous: str
    at: float
    kind: str
    body: msgspec.Raw


class LogTip(NamedTuple):
    """The last record of a log: its number and the digest of its line."""

    number: int
    digest: str


class EvidenceLog:
    """A log in a folder, opened for appending. One writer at a time.

    sync : see `SYNC_OF`; file_bytes : when a file is full and the next one begins
    wait_s : how long another process that writes here is waited for, seconds

    On opening, a torn last line (its writer was killed) is set aside into a file of its own, and the log goes on after
    the last whole record. Raises `EvidenceError` when another process still writes here or a record isn't one.
    """

    def __init__(
        self, folder: str | Path, *, sync: Sync = "soon", file_bytes: int = FILE_BYTES, wait_s: float = 0.0
    ) -> None:
        self.folder, self._sync, self._file_bytes = Path(folder), sync, file_bytes
        self.set_aside: Path | None = None
        """File of an incomplete tail, if there was one."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self._lock = _locked(self.folder / LOCK, time.monotonic() + wait_s)
            files = files_of(self.folder)
            path = files[-1] if files else self.folder / "evidence-000001.jsonl"
            self._head = self._mend(files)
            self._file = path.open("ab", buffering=0)
        except OSError as error:
            raise EvidenceError(self.folder, f"can't be written: {error.strerror}") from None
        self._number_of_file, self._size = int(_NAME.fullmatch(path.name)[1]), path.stat().st_size  # type: ignore[index]
        self._encode = msgspec.json.Encoder().encode
        self.pseudonyms = Pseudonyms(self.folder)
        """Names of accounts in it."""
        self._synced_at = time.monotonic()
        self._dirty = self._half_written = False
        _sync_folder(self.folder)

    def _mend(self, files: list[Path]) -> LogTip:
        """The last whole record; what is torn after it goes into a file of its own."""
        if not files:
            return LogTip(0, FIRST)
        path = files[-1]
        data = path.read_bytes()
        end = data.rfind(b"\n") + 1
        if end < len(data):
            self.set_aside = path.with_name(f"torn-{path.stem}-{end}.bin")
            self.set_aside.write_bytes(data[end:])
            with path.open("r+b") as file:
                file.truncate(end)
                os.fsync(file.fileno())
        whole = data[:end].splitlines()
        if not whole:
            return self._mend(files[:-1])
        return LogTip(_entry(path, len(whole), whole[-1]).number, sha256(whole[-1]))

    @property
    def head(self) -> LogTip:
        """The last record."""
        return self._head

    def append(self, kind: str, bodies: Iterable[Any], at: float | None = None, sync: Sync | None = None) -> int:
        """Append records of a kind; returns the number of the last one, once they are as safe as the policy says.

        bodies : structs or plain data, in which accounts and their connections are called by pseudonyms
        at : unix time, by default now; sync : another policy than the log's
        """
        now = time.time() if at is None else at
        number, digest = self._head
        lines = []
        for body in bodies:
            number += 1
            hidden = self._encode(self.pseudonyms.hidden(body))
            line = self._encode(Entry(number, digest, now, kind, msgspec.Raw(hidden)))
            digest = sha256(line)
            lines.append(line)
        if not lines:
            return number
        data = b"\n".join(lines) + b"\n"
        if self._half_written and not self._take_back():
            raise EvidenceError(self.folder, "can't be written: part of a record that failed can't be taken back")
        if self._size and self._size + len(data) > self._file_bytes:
            self._rotate()
        self._write(data)
        self._head, self._dirty = LogTip(number, digest), True
        policy = sync or self._sync
        if policy == "each" or (policy == "soon" and time.monotonic() - self._synced_at > SOON_S):
            self.flush()
        return number

    def _write(self, data: bytes) -> None:
        view = memoryview(data)
        try:
            while view:
                view = view[self._file.write(view) :]
        except OSError as error:
            said = "" if self._take_back() else "; part of a record stands at its end, and the next write takes it back"
            raise EvidenceError(self.folder, f"can't be written: {error.strerror}{said}") from None
        self._size += len(data)

    def _take_back(self) -> bool:
        """Cut off what a failed write left, so that nothing is ever written behind half a record."""
        try:
            os.ftruncate(self._file.fileno(), self._size)
        except OSError:
            self._half_written = True
        else:
            self._half_written = False
        return not self._half_written

    def flush_if_due(self) -> None:
        """Put everything on the disk when "soon" is over: for a server's loop, where nothing more may be appended."""
        if self._dirty and self._sync == "soon" and time.monotonic() - self._synced_at > SOON_S:
            self.flush()

    def flush(self) -> None:
        """Put everything on the disk."""
        if self._dirty:
            try:
                os.fsync(self._file.fileno())
            except OSError as error:
                raise EvidenceError(self.folder, f"can't be put on the disk: {error.strerror}") from None
            self._dirty = False
        self._synced_at = time.monotonic()

    def _rotate(self) -> None:
        self.flush()
        self._file.close()
        self._number_of_file += 1
        self._file = (self.folder / f"evidence-{self._number_of_file:06d}.jsonl").open("ab", buffering=0)
        self._size = 0
        _sync_folder(self.folder)

    def close(self) -> None:
        """Flush and let go."""
        if not self._file.closed:
            self.flush()
            self._file.close()
            self._lock.close()

    def __enter__(self) -> EvidenceLog:
        """The log itself."""
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, tb: TracebackType | None) -> None:
        """Close."""
        self.close()


def files_of(folder: Path) -> list[Path]:
    """The files of a log, in order."""
    return sorted(path for path in folder.glob("evidence-*.jsonl") if _NAME.fullmatch(path.name))


def _entry(path: Path, row: int, line: bytes) -> Entry:
    try:
        return msgspec.json.decode(line, type=Entry)
    except (msgspec.DecodeError, RecursionError) as error:
        raise EvidenceError(path, f"line {row} is no record: {error}") from None


def read_log(folder: str | Path) -> Iterator[Entry]:
    """Every whole record, in order; a torn last line isn't one. Raises `EvidenceError` for a line that is no record."""
    for path in _required(Path(folder)):
        yield from _entries_of(path)


def _entries_of(path: Path) -> Iterator[Entry]:
    with path.open("rb") as file:
        for row, line in enumerate(file, 1):
            if line.endswith(b"\n"):
                yield _entry(path, row, line[:-1])


def records_of(folder: str | Path, match: str) -> dict[str, int]:
    """Count the records of each kind about a match: a run that failed before goes on behind them.

    "rulings" is how far the match had come when they were written; a weighing that came further begins anew.
    """
    found: Counter[str] = Counter()
    for entry in read_log(folder) if files_of(Path(folder)) else ():
        if entry.kind not in ("finding", "gain", "weighed_again"):
            continue
        body = msgspec.json.decode(entry.body, type=_Named)
        if body.match != match:
            continue
        if entry.kind == "weighed_again":
            found = Counter(rulings=body.rulings)
        else:
            found[entry.kind] += 1
    return dict(found)


def findings_of(
    folder: str | Path, match: str, after: int = 0, *, since_unix_s: float = 0.0
) -> set[tuple[int, str, float]]:
    """(ruling, code, server time) of the findings about a match's rulings after a number that are in the log.

    Files are read from the newest back, as far as such findings can be.
    since_unix_s : nothing was found about that match before this moment
    """
    out = set()
    for path in reversed(files_of(Path(folder))):
        if path.stat().st_mtime < since_unix_s:
            break
        is_further_back = True
        for entry in _entries_of(path):
            body = msgspec.json.decode(entry.body, type=_Found) if entry.kind == "finding" else _Found()
            if body.match != match:
                continue
            if body.ruling > after:
                out.add((body.ruling, body.finding.code, body.finding.server_time))
            elif body.ruling > 0:  # rulings are logged in order
                is_further_back = False
        if not is_further_back:
            break
    return out


class _Named(msgspec.Struct):
    match: str = ""
    rulings: int = 0


class _Code(msgspec.Struct):
    code: str = ""
    server_time: float = 0.0


class _Found(msgspec.Struct):
    match: str = ""
    ruling: int = 0
    finding: _Code = msgspec.field(default_factory=_Code)


def head_of(folder: str | Path) -> LogTip:
    """The last whole record of a log, read. Raises `EvidenceError` where there is none."""
    for path in reversed(_required(Path(folder))):
        data = path.read_bytes()
        whole = data[: data.rfind(b"\n") + 1].splitlines()
        if whole:
            return LogTip(_entry(path, len(whole), whole[-1]).number, sha256(whole[-1]))
    return LogTip(0, FIRST)


def verify_log(folder: str | Path, head: LogTip | Iterable[LogTip] | None = None) -> str | None:
    """Return the first record of a log that was edited, removed or swapped; None when all is as written.

    head : a record that somebody noted, or several; they must be there. The log is read once, however many they are
    """
    number, digest = 0, FIRST
    heads = () if head is None else (head,) if isinstance(head, LogTip) else tuple(head)
    noted = {one.number: one.digest for one in heads if one.number}
    if len(noted) < len({one for one in heads if one.number}):
        return f"{folder}: two digests were noted of one record; one of them is no record of this log"
    files = _required(Path(folder))
    for path in files:
        for row, line in enumerate(path.read_bytes().split(b"\n"), 1):
            if not line:
                continue
            try:
                entry = _entry(path, row, line)
            except EvidenceError as error:
                torn = path == files[-1] and not path.read_bytes().endswith(b"\n")
                return f"{error}" + (" (a torn end; the next writer sets it aside)" if torn else "")
            if entry.number != number + 1:
                return (
                    f"{path}: line {row} is record {entry.number}, where {number + 1} belongs: {_gone(entry, number)}"
                )
            if entry.previous != digest:
                what = (
                    f"record {number} was edited after it was written" if number else "it is not the first of its log"
                )
                return f"{path}: line {row}, record {entry.number}, doesn't follow what is before it: {what}"
            number, digest = entry.number, sha256(line)
            if noted.pop(number, digest) != digest:
                return f"{path}: line {row}, record {number}, is not the noted one: it was edited"
    if noted:
        return f"{folder}: ends with record {number}; record {min(noted)}, which was noted, is gone"
    return None


def _gone(entry: Entry, number: int) -> str:
    if entry.number > number + 1:
        return f"{number + 1} to {entry.number - 1} were removed" if entry.number > number + 2 else "one was removed"
    return "records were swapped or repeated"


def _required(folder: Path) -> list[Path]:
    files = files_of(folder) if folder.is_dir() else []
    if not files:
        raise EvidenceError(folder, "holds no evidence log (evidence-000001.jsonl)")
    return files


def _locked(path: Path, until: float) -> Any:
    """An open file that no other process may lock at the same time; until : waited for so long, monotonic s."""
    try:
        import fcntl
    except ImportError:  # pragma: no cover - no such locks on this system
        return path.open("ab")
    file = path.open("ab")
    while True:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return file
        except OSError:
            if time.monotonic() < until:
                time.sleep(0.05)
                continue
            file.close()
            raise EvidenceError(path.parent, "another process writes to this log") from None


def _sync_folder(folder: Path) -> None:
    """Make names of new files as safe as their contents."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
