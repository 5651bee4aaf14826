"""Progress of a batch, in its folder: one line per recording, so that it can resume."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from tinclock.batch.tables import OF_JOB, write_table
from tinclock.core.errors import BatchError
from tinclock.core.plain import Fields
from tinclock.recordings.layout import FLUSHES, sha256

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from tinclock.batch.jobs import Outcome, Rows, Task

PLAN, LINES = "plan.json", "journal.jsonl"


class BatchEntry(msgspec.Struct, frozen=True):
    """One recording that was done. digest : of its list of flushes, so that one that grew is done again."""

    recording: str
    digest: str
    match: str
    problem: str | None
    rows: dict[str, list[Fields]]
    took_s: float


class BatchJournal:
    """The journal in a folder, which is made where it isn't there.

    Raises `BatchError` for a folder that holds another batch's or can't be written.
    """

    def __init__(self, folder: Path, task: Task) -> None:
        self.folder, self._task = folder, task
        plan = msgspec.json.encode({"schema": 1, "job": task.job, "task": sha256(msgspec.json.encode(task))})
        try:
            folder.mkdir(parents=True, exist_ok=True)
            held = folder / PLAN
            if held.exists() and held.read_bytes() != plan:
                raise BatchError(folder, "holds a batch of another kind, or with other options; give it another folder")
            held.write_bytes(plan)
            self._file = (folder / LINES).open("ab")
            self._alone()
        except OSError as error:
            raise BatchError(folder, f"can't be written: {error.strerror}") from None
        self._set_aside_torn_line()

    def _alone(self) -> None:
        """Two batches must not write into one folder; the lock goes with the process."""
        try:
            import fcntl
        except ImportError:  # pragma: no cover - no such locks on this system
            return
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self._file.close()
            raise BatchError(self.folder, "another batch is writing there") from None

    def _set_aside_torn_line(self) -> None:
        """A process that was killed in the middle of a line leaves one that doesn't end."""
        text = (self.folder / LINES).read_bytes()
        whole = text.rfind(b"\n") + 1
        if whole < len(text):
            self._file.truncate(whole)

    def done(self, recordings: Iterable[Path]) -> set[Path]:
        """Return the recordings that were done as they are now. Broken ones are tried again."""
        digests = {entry.recording: entry.digest for entry in self.entries() if entry.problem is None}
        return {path for path in recordings if digests.get(str(path)) == digest_of(path)}

    def note(self, outcome: Outcome) -> None:
        """One more is done; on the disk when this returns."""
        path = Path(outcome.recording)
        rows = {name: list(table) for name, table in outcome.rows.items()}
        entry = BatchEntry(outcome.recording, digest_of(path), outcome.match, outcome.problem, rows, outcome.took_s)
        self._file.write(msgspec.json.encode(entry) + b"\n")
        self._file.flush()
        os.fsync(self._file.fileno())

    def entries(self) -> Iterator[BatchEntry]:
        """The last word on each recording, in the order in which they were first done."""
        last = {entry.recording: number for number, entry in enumerate(self._lines())}
        lines = set(last.values())
        yield from (entry for number, entry in enumerate(self._lines()) if number in lines)

    def _lines(self) -> Iterator[BatchEntry]:
        decode = msgspec.json.Decoder(BatchEntry).decode
        with (self.folder / LINES).open("rb") as file:
            for number, line in enumerate(file, 1):
                try:
                    yield decode(line)
                except (msgspec.DecodeError, UnicodeDecodeError) as error:
                    problem = f"line {number} can't be read ({error}); take it out, and its recording is done again"
                    raise BatchError(self.folder / LINES, problem) from None

    def write_tables(self) -> list[Path]:
        """All that is done so far, as Parquet; rows lie by recording."""
        rows: Rows = {"recordings": [], **{name: [] for name in OF_JOB[self._task.job]}}
        for entry in sorted(self.entries(), key=lambda one: one.recording):
            told = {"recording": entry.recording, "match": entry.match}
            rows["recordings"].append({**told, "problem": entry.problem, "took_s": entry.took_s})
            for name, table in entry.rows.items():
                rows[name] += table
        return [write_table(self.folder, name, table) for name, table in rows.items()]

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()


def digest_of(path: Path) -> str:
    """Of what a recording held when it was looked at; empty for one that can't be read."""
    try:
        return sha256((path / FLUSHES).read_bytes())
    except OSError:
        return ""
