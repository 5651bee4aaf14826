"""Writing a recording beside a running match: one thread takes what a match hands over, and puts whole files down."""

from __future__ import annotations

import hashlib
import os
import queue
import threading
import time
from contextlib import suppress
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import msgspec

from tinclock.core.errors import RecordingError
from tinclock.recordings.checkpoints import put_checkpoint
from tinclock.recordings.compact import Gathering
from tinclock.recordings.disk import put_down, write_all
from tinclock.recordings.layout import FLUSHES, HEADER, TABLES, Flush, Header, Missing, Piece, sha256
from tinclock.recordings.pieces import TickPoses, pack, poses_table, table_of

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    import pyarrow

    from tinclock.core.combat.events import Event
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.recording import Recording

ROWS_AT_A_TIME, PAUSE_S, MAX_PAUSES = 2, 0.0005, 8
"""The writer looks up after so many rows, and waits as long as the match is busy with a tick, up to so many pauses."""
BEHIND_MOST = 4
"""Maximum number of flushes that wait for the disk before the match waits too: memory stays bounded."""


_OF_NONE: Final = bytes(32)


class Batch:
    """Data that a match hands over at once; `rows` by table, poses apart.

    checkpoint : the match's state after it, where one was taken; empty otherwise
    marks : (step, number of the last event so far), in order: which step each event came of
    """

    __slots__ = (
        "checkpoint",
        "closed",
        "events",
        "first_call",
        "from_s",
        "marks",
        "next_call",
        "poses",
        "rows",
        "rulings",
        "ticks",
        "to_s",
    )

    def __init__(self, first_call: int) -> None:
        self.first_call = self.next_call = first_call
        self.rows: dict[str, list[tuple[Any, ...]]] = {"calls": [], "pings": [], "ticks": [], "claims": []}
        self.poses: list[TickPoses] = []
        self.rulings: list[tuple[int, Ruling]] = []
        self.events: list[Event] = []
        self.marks: list[tuple[int, int]] = []
        self.from_s: float | None = None
        self.to_s: float | None = None
        self.ticks = 0
        self.closed = False
        self.checkpoint = b""


class _Ready(NamedTuple):
    """A batch that can be written: its flush but for the pieces, and the bytes of each table with their rows."""

    flush: Flush
    tables: list[tuple[str, int, bytes]]
    checkpoint: bytes


class Digests:
    """Running digests over rulings and events: each takes in the digest before it, so that one can go on from there.

    The digest of the first n is SHA-256 of that of the first n - 1, as 32 bytes, and of the n-th's JSON form; of none,
    it is 32 zero bytes.

    after : the flush to go on after
    """

    def __init__(self, after: Flush | None = None) -> None:
        self._encode = msgspec.json.Encoder().encode
        self.rulings, self.events = (0, 0) if after is None else (after.rulings, after.events)
        self._ruled = _OF_NONE if after is None else bytes.fromhex(after.rulings_sha256)
        self._told = _OF_NONE if after is None else bytes.fromhex(after.events_sha256)

    def ruling(self, ruling: Ruling) -> bytes:
        """Take one in; returns its JSON."""
        text = self._encode(ruling)
        self.rulings += 1
        self._ruled = hashlib.sha256(self._ruled + text).digest()
        return text

    def event(self, event: Event) -> bytes:
        """Take one in; returns its JSON."""
        text = self._encode(event)
        self.events += 1
        self._told = hashlib.sha256(self._told + text).digest()
        return text

    @property
    def rulings_sha256(self) -> str:
        """Of all rulings so far."""
        return self._ruled.hex()

    @property
    def events_sha256(self) -> str:
        """Of all events so far."""
        return self._told.hex()


class Writer:
    """Owns a recording's folder while it is written. Everything is put down by one thread, in order.

    patient : go on where the disk refuses: what waits is written when there is room again, and what waited for too
        long is left out and named. Otherwise the first refusal is the last.
    after : a recording whose process was killed, and its digests so far, to go on with
    noted : how many calls the match made so far: while that grows it is busy, and the writer waits
    """

    def __init__(
        self,
        folder: Path,
        header: Header,
        durable: bool,
        patient: bool = False,
        noted: Callable[[], int] = int,
        *,
        after: tuple[Recording, Digests] | None = None,
    ) -> None:
        self._folder, self._durable, self._patient = folder, durable, patient
        self._noted = noted
        self._waiting: list[_Ready] = []
        self._missing: Missing | None = None
        self.written = 0 if after is None or not after[0].flushes else after[0].flushes[-1].next_call
        """The step that follows the last flush on the disk."""
        self.problem = ""
        """Error of the disk, while it refuses."""
        self.gathering = Gathering(folder)
        self._digests = Digests() if after is None else after[1]
        self._count = 0 if after is None else len(after[0].flushes)
        self._closing = False
        self._error: Exception | None = None
        try:
            self._previous = self._begin(header) if after is None else self._take_up(after[0])
            self._flushes = (folder / FLUSHES).open("ab", buffering=0)
        except OSError as error:
            raise RecordingError(folder, f"can't be written: {error.strerror}") from None
        self._queue: queue.Queue[Batch | None] = queue.Queue(BEHIND_MOST)
        self._thread = threading.Thread(target=self._run, name="tinclock-recording", daemon=True)
        self._thread.start()

    def _begin(self, header: Header) -> str:
        for name in TABLES:
            (self._folder / name).mkdir(parents=True)
        text = msgspec.json.format(msgspec.json.encode(header), indent=1) + b"\n"
        put_down(self._folder / HEADER, text, self._durable)
        return sha256(text)

    def _take_up(self, before: Recording) -> str:
        """Cut off and take away what a kill left behind the last flush; returns the digest of the last line."""
        for file in before.unreferenced_files:
            (self._folder / file).unlink(missing_ok=True)
        path = self._folder / FLUSHES
        data = path.read_bytes() if path.exists() else b""
        whole = data[: data.rfind(b"\n") + 1]
        if len(whole) < len(data):
            os.truncate(path, len(whole))
        self.gathering.go_on_after(before.flushes)
        lines = whole.splitlines()
        return sha256(lines[-1] if lines else (self._folder / HEADER).read_bytes())

    @property
    def rulings(self) -> int:
        """Number of rulings in the digest."""
        return self._digests.rulings

    def hand_over(self, batch: Batch) -> None:
        """Queue a batch; waits only when the disk is far behind. Raises `RecordingError` once writing has failed."""
        self._complain()
        self._queue.put(batch)

    def close(self) -> None:
        """Wait until all is written."""
        self._closing = True
        self._queue.put(None)
        self._thread.join()
        self._flushes.close()
        self._complain()

    def _complain(self) -> None:
        if self._error is not None:
            raise RecordingError(self._folder, f"writing failed, what was flushed before is intact: {self._error}")

    def _run(self) -> None:
        while (batch := self._queue.get()) is not None:
            if self._error is None:
                try:
                    self._step_aside()
                    self._waiting.append(self._ready(batch))
                    self._write_waiting()
                except Exception as error:  # handed to the match at its next call
                    self._error = error
        if self._error is None and self._waiting:
            self._error = OSError(f"{self.problem}; the last {len(self._waiting)} flushes are lost")

    def _ready(self, batch: Batch) -> _Ready:
        """A batch as bytes: rulings and events are digested once, however often it is tried to write them."""
        tables = [(name, table.num_rows, pack(name, table))
                  for name, table in self._tables(batch) if table.num_rows]  # fmt: skip
        digests = self._digests
        flush = Flush(
            first_call=batch.first_call, next_call=batch.next_call, from_s=batch.from_s, to_s=batch.to_s,
            ticks=batch.ticks, rulings=digests.rulings, rulings_sha256=digests.rulings_sha256, events=digests.events,
            events_sha256=digests.events_sha256, pieces={}, closed=batch.closed,
        )  # fmt: skip
        return _Ready(flush, tables, batch.checkpoint)

    def _write_waiting(self) -> None:
        """Write what waits, the oldest first; what the disk refuses goes on waiting, up to `BEHIND_MOST` flushes."""
        while self._waiting:
            try:
                self._write(self._waiting[0])
            except OSError as error:
                if not self._patient:
                    raise
                self.problem = error.strerror or str(error)
                while len(self._waiting) > BEHIND_MOST:
                    self._leave_out(self._waiting.pop(0).flush)
                return
            self._waiting.pop(0)
            self.problem, self._missing = "", None

    def _leave_out(self, lost: Flush) -> None:
        before = self._missing
        self._missing = Missing(
            lost.first_call if before is None else before.first_call, lost.next_call,
            lost.from_s if before is None or before.from_s is None else before.from_s, lost.to_s, self.problem,
        )  # fmt: skip

    def _write(self, ready: _Ready) -> None:
        pieces = {}
        for name, rows, data in ready.tables:
            file = f"{name}/{self._count:06d}.parquet"
            put_down(self._folder / file, data, self._durable)
            pieces[name] = Piece(file, rows, len(data), sha256(data))
        flush = msgspec.structs.replace(ready.flush, pieces=pieces, previous=self._previous, missing=self._missing)
        line = msgspec.json.encode(flush)
        self._append(line + b"\n")
        self._previous, self._count = sha256(line), self._count + 1
        self.written = flush.next_call
        self.gathering.take(flush)
        if ready.checkpoint:
            with suppress(OSError):  # going on then has more to rule again
                put_checkpoint(self._folder, flush, ready.checkpoint)

    def _append(self, line: bytes) -> None:
        """A whole line or none: what a full disk cut off is taken back."""
        at = self._flushes.tell()
        try:
            write_all(self._flushes, line)
            if self._durable:
                os.fsync(self._flushes.fileno())
        except OSError:
            self._flushes.truncate(at)
            raise

    def _step_aside(self, place: int = 0) -> None:
        """Every few rows, let the match have the interpreter until it has nothing to do: there is a whole second.

        Where the next batch waits there isn't: a match that is played as fast as it goes would soon wait for this.
        """
        if place % ROWS_AT_A_TIME or not self._queue.empty():
            return
        for _ in range(MAX_PAUSES):
            before = self._noted()
            if self._closing:
                return
            time.sleep(PAUSE_S)
            if self._noted() == before:
                return

    def _tables(self, batch: Batch) -> list[tuple[str, pyarrow.Table]]:
        ruled, told, tables = [], [], []
        for place, (step, ruling) in enumerate(batch.rulings):
            ruled.append(ruling_row(step, ruling, self._digests.ruling(ruling)))
            self._step_aside(place)
        marks, step, until = iter(batch.marks), 0, 0
        for place, event in enumerate(batch.events):
            while event.number > until:
                step, until = next(marks)
            told.append(event_row(step, event, self._digests.event(event)))
            self._step_aside(place)
        for name, rows in {**batch.rows, "rulings": ruled, "events": told}.items():
            tables.append((name, table_of(name, rows, self._step_aside)))
        return [*tables, ("poses", poses_table(batch.poses, self._step_aside))] if batch.poses else tables


def ruling_row(step: int, ruling: Ruling, text: bytes) -> tuple[Any, ...]:
    """A ruling as a row of its table; `text` is all of it as JSON."""
    hit = ruling.hits[0] if ruling.hits else None
    return (
        step, ruling.number, ruling.kind, ruling.connection, ruling.account, ruling.entity, ruling.sequence,
        ruling.weapon, ruling.received_at, ruling.outcome, ruling.damage, hit.victim if hit else 0,
        hit.part if hit else "", ",".join([finding.code for finding in ruling.findings]), text.decode(),
    )  # fmt: skip


def event_row(step: int, event: Event, text: bytes) -> tuple[Any, ...]:
    """An event as a row of its table."""
    return step, event.number, event.kind, event.server_time, event.entity, text.decode()
