"""Requests of a match since its recording was last flushed: after a kill the match goes on from them.

A journal is a few files of entries, each with its length and checksum before it; one that is cut off doesn't count.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import struct
import time
import zlib
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from tinclock.recordings.disk import put_down, write_all
from tinclock.wire.flood import FloodState
from tinclock.wire.gateway import JoinState

if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

FOLDER, OF = "journal", "match.json"
KEPT_FILES = 8
"""Number of files kept, one per flush, for replies that got lost; besides those whose flush isn't on the disk yet."""
_HEAD = struct.Struct("<II")


class JournalEntry(NamedTuple):
    """A request that was done: before which step of the recording, its number, its frame, and the reply.

    dropped : places of the claims or messages in it that came too fast or were too large: they were not ruled
    guards, gateways, joined : how every connection's flood guard stood, of claims and of messages, and who had joined,
        in an entry without a frame: a file begins with one
    """

    step: int
    request: int
    frame: bytes
    reply: bytes
    dropped: tuple[int, ...] = ()
    guards: dict[str, FloodState] | None = None
    gateways: dict[str, FloodState] | None = None
    joined: dict[str, JoinState] | None = None


class KeptReply(msgspec.Struct, frozen=True):
    """Header of a journal: the match, and when it was begun.

    problem : why the match can't go on from here, although its recording was never ended; "" where it can
    """

    match: str
    opened_unix_s: float = 0.0
    problem: str = ""


class Journal:
    """One match's journal. Entries reach the system's cache at once, which outlives the process.

    sync : wait for the disk at each entry, so that they outlive a power cut too
    """

    def __init__(self, recording: Path, match: str, *, sync: bool) -> None:
        self._folder, self._sync = recording / FOLDER, sync
        self._folder.mkdir(exist_ok=True)
        if not (self._folder / OF).exists():
            put_down(self._folder / OF, msgspec.json.encode(KeptReply(match, time.time())), sync)
        self._last_steps: dict[int, int] = {}
        """Of each file, by its number: the step of the last request in it."""
        for path in sorted(self._folder.glob("*.frames")):
            self._last_steps[int(path.stem)] = max((entry.step for entry in _entries_in(path)), default=-1)
        self._number = max(self._last_steps, default=-1) + 1
        self._open()

    def _open(self) -> None:
        self._last_steps[self._number] = -1
        self._file = (self._folder / f"{self._number:06d}.frames").open("ab", buffering=0)

    def note(self, entry: JournalEntry) -> None:
        """Keep one more request, before its reply goes out."""
        body = msgspec.msgpack.encode(entry)
        self._last_steps[self._number] = entry.step
        write_all(self._file, _HEAD.pack(len(body), zlib.crc32(body)) + body)
        if self._sync:
            os.fsync(self._file.fileno())

    def turn(self, written: int, standing: JournalEntry) -> None:
        """Begin another file, since all requests until now were handed to the recording; remove old ones.

        written : the step that follows the last flush on the disk; what is not before it is kept
        standing : how the flood guards stand, which the new file begins with
        """
        self._file.close()
        self._number += 1
        self._open()
        self.note(standing)
        for number in sorted(self._last_steps)[:-KEPT_FILES]:
            if self._last_steps[number] < written:
                (self._folder / f"{number:06d}.frames").unlink(missing_ok=True)
                del self._last_steps[number]

    def give_up(self, match: str, problem: str) -> None:
        """The disk refused an entry: what is here can't be gone on with, and the next process says why."""
        self.end()
        with contextlib.suppress(OSError):
            self._folder.mkdir(exist_ok=True)
            put_down(self._folder / OF, msgspec.json.encode(KeptReply(match, time.time(), problem)), self._sync)

    def leave(self) -> None:
        """Stop writing; another process goes on with it."""
        with contextlib.suppress(OSError):
            self._file.close()

    def end(self) -> None:
        """The match was closed: there is nothing to go on with."""
        with contextlib.suppress(OSError):
            self._file.close()
        shutil.rmtree(self._folder, ignore_errors=True)


def kept_of(recording: Path) -> KeptReply | None:
    """Return the match whose journal is here; None where none is.

    A journal whose header can't be read is of a match named as its folder is, with the problem.
    """
    try:
        return msgspec.json.decode((recording / FOLDER / OF).read_bytes(), type=KeptReply)
    except FileNotFoundError:
        is_there = any((recording / FOLDER).glob("*.frames"))
        return KeptReply(recording.name, 0.0, f"{recording / FOLDER / OF} is missing") if is_there else None
    except (OSError, msgspec.DecodeError) as error:
        return KeptReply(recording.name, 0.0, f"{recording / FOLDER / OF} can't be read: {error}")


def entries_of(recording: Path) -> Iterator[JournalEntry]:
    """All whole entries, in order."""
    for path in sorted((recording / FOLDER).glob("*.frames")):
        yield from _entries_in(path)


def _entries_in(path: Path) -> Iterator[JournalEntry]:
    data, at = path.read_bytes(), 0
    while at + _HEAD.size <= len(data):
        size, check = _HEAD.unpack_from(data, at)
        body = data[at + _HEAD.size : at + _HEAD.size + size]
        if len(body) < size or zlib.crc32(body) != check:
            return
        yield msgspec.msgpack.decode(body, type=JournalEntry)
        at += _HEAD.size + size
