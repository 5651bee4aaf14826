"""The poses around one ruling of a recording, without ruling anything before it again."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.analysis.surroundings import Past
from tinclock.core.errors import RecordingError
from tinclock.core.geometry.rig import Rig
from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import Admit, ChangeRules, Cut, Dismiss, Place, Remove, Spawn, read_change
from tinclock.core.timeline.history import PoseHistory
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import EntityPoses, Recording


def step_of(recording: Recording, ruling: Ruling) -> int:
    """The step that made a ruling."""
    for flush in recording.between(ruling.received_at, ruling.received_at):
        table = recording.piece("rulings", flush)
        at = np.flatnonzero(table["number"].to_numpy() == ruling.number)
        if len(at):
            return int(table["step"][int(at[0])].as_py())
    raise RecordingError(recording.path, f"has no ruling {ruling.number}")


def claim_of(recording: Recording, ruling: Ruling) -> object:
    """The claim that a ruling is about, decoded; None for what the server did itself."""
    step = step_of(recording, ruling)
    for flush in recording.between(ruling.received_at, ruling.received_at):
        table = recording.piece("claims", flush)
        at = np.flatnonzero(table["step"].to_numpy() == step)
        if len(at):
            return decode_claim(table["received"][int(at[0])].as_py())
    return None


def past_of(recording: Recording, ruling: Ruling, level: Level | None = None) -> Past:
    """The history as it was when a ruling was made; only the files around that time are read.

    level : the recorded level, where the recording doesn't hold it. Raises `RecordingError` for what can't be read.
    """
    rules = recording.require_header().rules
    history = PoseHistory(
        {name: Rig(name, table) for name, table in rules.rigs.items()},
        tick_rate_hz=rules.match.tick_rate_hz, history_s=rules.match.history_s, zone_depth_m=rules.match.zone_depth_m,
        storage=recording.require_header().storage,
    )  # fmt: skip
    last = step_of(recording, ruling)
    since = ruling.received_at - rules.match.history_s
    near = recording.between(since, ruling.received_at)
    begins = min((flush.first_step for flush in near), default=0)
    rebuilding = _Rebuilding(recording, history)
    rebuilding.people(begins)
    for flush in near:
        rebuilding.follow(flush, since, last)
    return Past(history, rebuilding.rules, recording.level_or(level))


class _Rebuilding:
    """A history that is filled from a recording: who was let in, where lives were cut, who left."""

    def __init__(self, recording: Recording, history: PoseHistory) -> None:
        self._recording, self._history = recording, history
        self.rules = self._next_rules = recording.require_header().rules
        self._entity_of: dict[str, int] = {}

    def people(self, before: int) -> None:
        """Let in who was there before a step."""
        for flush in self._recording.flushes:
            if flush.first_step >= before:
                return
            for step, name, text, answer in _calls(self._recording, flush):
                if step < before:
                    self._call(name, msgspec.json.decode(text), answer)

    def follow(self, flush: Flush, since: float, last: int) -> None:
        """Record the ticks of one flush, with what cut them, up to a step."""
        history, ticks = self._history, self._recording.piece("ticks", flush)
        columns = (ticks[name].to_pylist() for name in ("step", "what", "tick", "server_time"))
        todo: list[tuple[int, Any]] = [(step, (what, tick, at)) for step, what, tick, at in zip(*columns, strict=True)]
        todo += [(step, (name, text, answer)) for step, name, text, answer in _calls(self._recording, flush)]
        poses = self._recording.poses(flush)
        for step, (what, first, second) in sorted(todo, key=lambda item: item[0]):
            if step > last:
                return
            if what == "record":
                self.rules = self._next_rules
                if second >= since:
                    history.record(first, second, *_at(poses, first))
            elif what == "published":
                if history.holds(first):
                    history.publish(first, second)
            elif what != "advance":
                self._call(what, msgspec.json.decode(first), second)

    def _call(self, name: str, arguments: Fields, answer: str | None) -> None:
        history, command = self._history, read_change(name, arguments)
        match command:
            case Admit() | Place() if answer is not None:
                history.add(int(answer), command.rig)
                if isinstance(command, Admit):
                    self._entity_of[command.connection] = int(answer)
            case ChangeRules():
                self._next_rules = command.rules
            case Spawn() | Cut():
                history.cut(command.entity)
            case Remove():
                history.remove(command.entity)
            case Dismiss() if entity := self._entity_of.pop(command.connection, 0):
                history.remove(entity)


def _calls(recording: Recording, flush: Flush) -> list[tuple[int, str, str, str | None]]:
    table = recording.piece("calls", flush)
    columns = (table[name].to_pylist() for name in ("step", "call", "arguments", "answer"))
    return list(zip(*columns, strict=True))


def _at(poses: dict[int, EntityPoses], tick: int) -> tuple[list[int], list[Any]]:
    ids, each = [], []
    for entity, body in sorted(poses.items()):
        row = int(np.searchsorted(body.ticks, tick))
        if row < len(body.ticks) and body.ticks[row] == tick:
            ids.append(entity)
            each.append(body.poses[row])
    return ids, each
