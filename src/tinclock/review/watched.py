"""Recordings that are looked at, finished or still being written: who is in them, and what happened when."""

from __future__ import annotations

import threading
from collections import OrderedDict
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import msgspec
import numpy as np

from tinclock.core.errors import RecordingError, UnknownNameError
from tinclock.core.plain import Fields
from tinclock.core.ruling.records import Ruling, counted_as
from tinclock.core.text import printable
from tinclock.recordings.layout import FLUSHES, HEADER
from tinclock.recordings.listing import BESIDE
from tinclock.recordings.recording import Recording

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import EntityPoses

DECODED: Final = 6
"""Number of unpacked blocks of poses that are held for each recording."""
TOLD_KINDS: Final = frozenset({"shot", "melee", "launch", "impact", "projectile", "use"})
"""Kinds of rulings that are always on the time line; of the others those that weren't accepted, or hold a finding."""
_RULING = msgspec.json.Decoder(Ruling).decode


class Person(NamedTuple):
    """Somebody or something in a match. until_s : when it left, None while it is there."""

    entity: int
    name: str
    account: str
    connection: str
    team: str
    rig: str
    from_s: float
    until_s: float | None


class Stretch(NamedTuple):
    """The poses of one flush: ticks and their times (n,), which of them were sent, and the bodies."""

    ticks: NDArray[np.int64]
    times: NDArray[np.float64]
    sent: NDArray[np.bool_]
    bodies: dict[int, EntityPoses]


class Watched:
    """One recording. Safe to use from several threads.

    name : what addresses call it; level : the recorded level, where the recording doesn't hold it
    """

    def __init__(self, name: str, path: Path, level: Level | None = None) -> None:
        self.name, self.path, self._given = name, path, level
        self.lock = threading.RLock()
        self._size = -1
        self._decoded: OrderedDict[tuple[int, int], Stretch] = OrderedDict()
        self._people: dict[tuple[int, int], list[tuple[str, Fields, str | None, float]]] = {}
        self.recording = Recording(path)
        self.refresh()

    def refresh(self) -> bool:
        """Look whether more was flushed; returns whether anything is new."""
        with self.lock:
            try:
                size = (self.path / FLUSHES).stat().st_size
            except OSError:
                return False
            if size == self._size:
                return False
            try:
                self.recording = Recording(self.path)
            except RecordingError:  # it is being put together just now
                return False
            self._size = size
            return True

    @property
    def live(self) -> bool:
        """True if it is still being written, as far as one can tell."""
        return not self.recording.closed

    @cached_property
    def level(self) -> Level | None:
        """The level; None for open ground, or where it isn't at hand."""
        try:
            return self.recording.level_or(self._given)
        except RecordingError:
            return None

    # -- who is there -----------------------------------------------------------------------------------------

    def people(self) -> list[Person]:
        """Everybody and everything that was let in, in order."""
        found: dict[int, Person] = {}
        by_connection: dict[str, int] = {}
        with self.lock:
            for flush in self.recording.flushes:
                for call, given, answer, at in self._calls(flush):
                    if call in ("admit", "add_entity") and answer is not None:
                        person = _person(int(answer), given, at)
                        found[person.entity] = person
                        if person.connection:
                            by_connection[person.connection] = person.entity
                    elif call in ("dismiss", "remove"):
                        gone = by_connection.pop(given.get("connection", ""), given.get("entity", 0))
                        if gone in found:
                            found[gone] = found[gone]._replace(until_s=at)
        return list(found.values())

    def names(self) -> dict[int, str]:
        """Return the names of entities."""
        return {one.entity: one.name for one in self.people()}

    def _calls(self, flush: Flush) -> list[tuple[str, Fields, str | None, float]]:
        key = (flush.first_call, flush.next_call)
        if key not in self._people:
            table = self.recording.piece("calls", flush)
            columns = (table[name].to_pylist() for name in ("call", "arguments", "answer", "server_time"))
            self._people[key] = [
                (call, msgspec.json.decode(text), answer, float(at or 0.0))
                for call, text, answer, at in zip(*columns, strict=True)
                if call in ("admit", "add_entity", "dismiss", "remove")
            ]
        return self._people[key]

    # -- what happened ----------------------------------------------------------------------------------------

    def rulings_of(self, flush: Flush, since_call: int = 0) -> list[Ruling]:
        """The rulings of a flush, from a step on, that have a place on the time line."""
        table = self.recording.piece("rulings", flush)
        columns = (table[name].to_pylist() for name in ("call_number", "kind", "outcome", "findings", "ruling"))
        return [
            _RULING(text)
            for step, kind, outcome, codes, text in zip(*columns, strict=True)
            if step >= since_call and (kind in TOLD_KINDS or outcome != "accepted" or codes)
        ]

    def stretch(self, flush: Flush) -> Stretch:
        """The poses of one flush, unpacked; the last few are remembered."""
        key = (flush.first_call, flush.next_call)
        with self.lock:
            if key in self._decoded:
                self._decoded.move_to_end(key)
                return self._decoded[key]
            table = self.recording.piece("ticks", flush)
            what, ticks = np.array(table["what"].to_pylist(), object), table["tick"].to_numpy()
            recorded = what == "record"
            sent = np.isin(ticks[recorded], ticks[what == "snapshot_sent"])
            times = table["server_time"].to_numpy().astype(float)[recorded]
            made = Stretch(ticks[recorded], times, sent, self.recording.poses(flush))
            self._decoded[key] = made
            while len(self._decoded) > DECODED:
                self._decoded.popitem(last=False)
            return made


def _person(entity: int, given: Fields, at: float) -> Person:
    account = printable(str(given.get("account") or ""))
    name = account or printable(str(given.get("name") or given["rig"]))
    return Person(
        entity, name, account, str(given.get("connection") or ""), printable(str(given.get("team") or "")),
        str(given["rig"]), at, None,
    )  # fmt: skip


class WatchedMatches:
    """The recordings below some paths, by name; new ones appear as they are begun. Nothing else is ever read.

    paths : recordings, or folders that hold them
    """

    def __init__(self, paths: Sequence[Path], level: Level | None = None) -> None:
        self._paths, self._level = [path.resolve() for path in paths], level
        self._opened: dict[str, Watched] = {}
        self._lock = threading.Lock()

    def found(self) -> dict[str, Path]:
        """Names and folders of all of them, in order of their names."""
        out: dict[str, Path] = {}
        for path in self._paths:
            held = [path] if (path / HEADER).is_file() else sorted(one.parent for one in path.glob(f"*/{HEADER}"))
            for each in held:
                if each.resolve().is_relative_to(path) and not each.name.endswith(BESIDE):  # a link may lead elsewhere
                    out.setdefault(each.name, each)
        return dict(sorted(out.items()))

    def open(self, name: str) -> Watched:
        """One of them, up to date. Raises `UnknownNameError` for a name that isn't there, `RecordingError`."""
        with self._lock:
            watched = self._opened.get(name)
            if watched is None:
                paths = self.found()
                if name not in paths:
                    raise UnknownNameError("match", name, paths)
                watched = self._opened[name] = Watched(name, paths[name], self._level)
        watched.refresh()
        return watched

    def of_play(self, recording: str) -> str | None:
        """The name of the recording that a weighed match came from, where it is one of these."""
        name = Path(recording).name if recording else ""
        return name if name and name in self.found() else None


def row_of(ruling: Ruling) -> list[Any]:
    """A ruling as the time line needs it: see `MARK_COLUMNS`."""
    hit = ruling.hits[0] if ruling.hits else None
    way: list[float] | None = None
    if ruling.origin is not None and ruling.direction is not None and ruling.reached_m is not None:
        end = [o + ruling.reached_m * d for o, d in zip(ruling.origin, ruling.direction, strict=True)]
        way = [round(v, 3) for v in (*ruling.origin, *end)]
    return [
        ruling.number, round(ruling.received_at, 4), ruling.kind, ruling.entity, ruling.weapon, counted_as(ruling),
        hit.victim if hit else 0, hit.part if hit else "", round(ruling.damage, 2),
        [finding.code for finding in ruling.findings], way,
    ]  # fmt: skip


MARK_COLUMNS: Final = (
    "number", "at", "kind", "entity", "weapon", "outcome", "victim", "part", "damage", "codes", "way",
)  # fmt: skip
