"""The poses around one ruling of a recording, without ruling anything before it again."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.analysis.shot_scene import HistorySlice
from tinclock.core.geometry.rig import Rig
from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import (
    AddEntity,
    Admit,
    ChangeRules,
    Dismiss,
    MarkTeleport,
    Remove,
    Spawn,
    read_change,
)
from tinclock.core.timeline.history import PoseHistory
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import EntityPoses, Recording


def step_of(recording: Recording, ruling: Ruling) -> int:
    """Return the step that made a ruling."""
    flush, row = recording.ruling_row(ruling.number)
    return int(recording.piece("rulings", flush)["call_number"][row].as_py())


def claim_of(recording: Recording, ruling: Ruling) -> object:
    """Return the claim that a ruling is about, decoded; None for what the server did itself."""
    step = step_of(recording, ruling)
    for flush in recording.flushes:
        if flush.first_call <= step < flush.next_call:
            table = recording.piece("claims", flush)
            at = np.flatnonzero(table["call_number"].to_numpy() == step)
            return decode_claim(table["received"][int(at[0])].as_py()) if len(at) else None
    return None


def history_around(recording: Recording, ruling: Ruling, level: Level | None = None) -> HistorySlice:
    """Return the history as it was when a ruling was made; only the files around that step are read.

    level : the recorded level, where the recording doesn't hold it. Raises `RecordingError` for what can't be read.
    """
    header, last = recording.require_header(), step_of(recording, ruling)
    rules, oldest = header.rules, None if ruling.view is None else ruling.view.from_tick
    near, span_s = _needed(recording, last, oldest)
    history = PoseHistory(
        {name: Rig(name, table) for name, table in rules.rigs.items()},
        tick_rate_hz=rules.match.tick_rate_hz, history_s=max(rules.match.history_s, span_s),
        zone_depth_m=rules.match.zone_depth_m, storage=header.storage,
    )  # fmt: skip
    rebuilding = _Rebuilding(recording, history)
    rebuilding.people(min((flush.first_call for flush in near), default=0))
    for flush in near:
        rebuilding.follow(flush, last)
    return HistorySlice(history, rebuilding.rules, recording.level_or(level))


def _needed(recording: Recording, last: int, oldest: int | None) -> tuple[list[Flush], float]:
    """Return the flushes that a history at a step is made of, and how far it has to reach back for a view, seconds.

    A history holds so many ticks and so many seconds, whichever is more: when a server stalls it holds older ones.

    oldest : the first tick of the view, None for no view
    """
    match = recording.require_header().rules.match
    most, ticks = math.ceil(match.history_s * match.tick_rate_hz) + 2, 0
    near: list[Flush] = []
    newest_s = oldest_s = None
    for flush in reversed([flush for flush in recording.flushes if flush.first_call <= last]):
        rows = _ticks_of(recording, flush, last)
        if rows and newest_s is None:
            newest_s = rows[-1][1]
        ticks, near = ticks + len(rows), [flush, *near]
        seen = [at for tick, at in rows if tick == oldest]
        oldest_s = seen[0] if seen else oldest_s
        if newest_s is None or not rows or ticks < most or newest_s - rows[0][1] < match.history_s:
            continue
        if oldest is None or rows[0][0] <= oldest:
            break
    reach_s = 0.0 if newest_s is None or oldest_s is None else newest_s - oldest_s + 1.0 / match.tick_rate_hz
    return near, reach_s


def _ticks_of(recording: Recording, flush: Flush, last: int) -> list[tuple[int, float]]:
    """Return the ticks that a flush recorded up to a step, and their server times."""
    table = recording.piece("ticks", flush)
    columns = (table[name].to_pylist() for name in ("call_number", "what", "tick", "server_time"))
    return [(tick, at) for step, what, tick, at in zip(*columns, strict=True) if what == "record" and step <= last]


class _Rebuilding:
    """A history that is filled from a recording: who was let in, where lives were cut, who left."""

    def __init__(self, recording: Recording, history: PoseHistory) -> None:
        self._recording, self._history = recording, history
        self.rules = self._next_rules = recording.require_header().rules
        self._entity_of: dict[str, int] = {}

    def people(self, before: int) -> None:
        """Let in who was there before a step."""
        for flush in self._recording.flushes:
            if flush.first_call >= before:
                return
            for step, name, text, answer in _calls(self._recording, flush):
                if step < before:
                    self._call(name, msgspec.json.decode(text), answer)

    def follow(self, flush: Flush, last: int) -> None:
        """Record the ticks of one flush, with what cut them, up to a step."""
        history, ticks = self._history, self._recording.piece("ticks", flush)
        columns = (ticks[name].to_pylist() for name in ("call_number", "what", "tick", "server_time"))
        todo: list[tuple[int, Any]] = [(step, (what, tick, at)) for step, what, tick, at in zip(*columns, strict=True)]
        todo += [(step, (name, text, answer)) for step, name, text, answer in _calls(self._recording, flush)]
        poses = self._recording.poses(flush)
        for step, (what, first, second) in sorted(todo, key=lambda item: item[0]):
            if step > last:
                return
            if what == "record":
                self.rules = self._next_rules
                history.record(first, second, *_at(poses, first))
            elif what == "snapshot_sent":
                if history.holds(first):
                    history.publish(first, second)
            elif what != "advance":
                self._call(what, msgspec.json.decode(first), second)

    def _call(self, name: str, arguments: Fields, answer: str | None) -> None:
        history, command = self._history, read_change(name, arguments)
        match command:
            case Admit() | AddEntity() if answer is not None:
                history.add(int(answer), command.rig)
                if isinstance(command, Admit):
                    self._entity_of[command.connection] = int(answer)
            case ChangeRules():
                self._next_rules = command.rules
            case Spawn() | MarkTeleport():
                history.cut(command.entity)
            case Remove():
                history.remove(command.entity)
            case Dismiss() if entity := self._entity_of.pop(command.connection, 0):
                history.remove(entity)


def _calls(recording: Recording, flush: Flush) -> list[tuple[int, str, str, str | None]]:
    table = recording.piece("calls", flush)
    columns = (table[name].to_pylist() for name in ("call_number", "call", "arguments", "answer"))
    return list(zip(*columns, strict=True))


def _at(poses: dict[int, EntityPoses], tick: int) -> tuple[list[int], list[Any]]:
    ids, each = [], []
    for entity, body in sorted(poses.items()):
        row = int(np.searchsorted(body.ticks, tick))
        if row < len(body.ticks) and body.ticks[row] == tick:
            ids.append(entity)
            each.append(body.poses[row])
    return ids, each
