"""Ruling a recording again: the same calls in the same order, by the same rules or by others."""

from __future__ import annotations

import time
from contextlib import suppress
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec
import numpy as np

from tinclock.core.checkpoint import checkpoint_of
from tinclock.core.errors import RecordingError, TinClockError
from tinclock.core.plain import Fields
from tinclock.core.referee import Referee
from tinclock.core.ruling.commands import Act, ChangeRules, read_change
from tinclock.core.timeline.packed import Packed
from tinclock.recordings.checkpoints import put_checkpoint, take_up
from tinclock.recordings.format_4 import event_then
from tinclock.recordings.pieces import pose_rows
from tinclock.recordings.rounding import by_tick
from tinclock.recordings.writer import Digests
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from tinclock.core.combat.events import Event
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.checkpoints import Stood
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

SAVED_EVERY_S = 2.0
"""Seconds of ruling again between two checkpoints."""
NO_POSES: tuple[NDArray[np.int64], list[NDArray[np.float64]]] = (np.zeros(0, np.int64), [])


class RefusedCall(NamedTuple):
    """A recorded call that the other rules don't allow; it was left out."""

    call_number: int
    call: str
    problem: str


class ReplayResult(NamedTuple):
    """A recording that was ruled again.

    call_numbers : (n,) the number of the call that each ruling is from: the same claim has the same one whatever the
    rules sha256, events_sha256 : digests over all rulings and all events, in their JSON form, a line each
    as_recorded : whether both are the recorded ones, bit for bit
    refused : recorded calls that other rules didn't allow
    ruling_count, event_count : numbers of rulings and events, also where `keep` is False and both lists are empty
    """

    rulings: list[Ruling]
    call_numbers: list[int]
    events: list[Event]
    sha256: str
    events_sha256: str
    as_recorded: bool
    ticks: int
    seconds: float
    refused: list[RefusedCall]
    ruling_count: int = 0
    event_count: int = 0


def replay(
    recording: Recording,
    *,
    rules: Rules | None = None,
    level: Level | None = None,
    until_s: float = float("inf"),
    on_ruling: Callable[[Referee, Ruling, object], None] | None = None,
    on_tick: Callable[[Referee], None] | None = None,
    on_progress: Callable[[float], None] | None = None,
    keep: bool = True,
) -> ReplayResult:
    """Put everything that was recorded to a fresh referee.

    rules : other rules than the recorded ones. Players act as they did: what they would have done instead isn't known
    level : the recorded level, where the recording doesn't hold it
    until_s : server time at which to stop
    on_ruling : called with the referee, each ruling and its claim (None: the server's own shot), while the poses that
        it looked at are still in the history
    on_tick : called with the referee after each tick's poses
    on_progress : called with the share that is done
    keep : whether the result holds all rulings and events (default True). With False memory does not grow with the
        match; `on_ruling` sees each ruling, and the digests compare all of them

    Raises `RecordingError` for a recording that can't be read or, with its own rules, isn't the sequence of calls that
    a referee accepts.
    """
    return _Course(recording, rules, level, on_ruling, on_tick, keep=keep).run(until_s, on_progress)


class AtEnd(NamedTuple):
    """A match as it was when its recording's last flush was written.

    replayed_rulings : the rulings that were made again, those since the checkpoint that it went on from
    """

    referee: Referee
    digests: Digests
    replayed_rulings: int


def referee_at_end(recording: Recording, level: Level | None = None) -> AtEnd:
    """Go on from the newest checkpoint, or from the beginning, and rule what came after it again.

    Raises `RecordingError` for a recording with a gap, and for one that doesn't rule again as it was.
    """
    if recording.missing:
        raise RecordingError(recording.path, "has a gap; nothing goes on from there")
    held = recording.level_or(level)
    stood = take_up(recording, held)
    if stood is not None:
        with suppress(RecordingError):  # then from the beginning, whatever that checkpoint is
            return _at_end(recording, held, stood)
    return _at_end(recording, held, None)


def _at_end(recording: Recording, level: Level | None, stood: Stood | None) -> AtEnd:
    timeline = _Course(recording, None, level, None, None, stood, keep=False)
    saved_at = time.perf_counter()

    def save(flush: Flush) -> None:
        """Put a checkpoint down where ruling again takes long, so that a kill meanwhile costs none of it."""
        nonlocal saved_at
        as_recorded = timeline.digests.rulings_sha256 == flush.rulings_sha256
        if as_recorded and time.perf_counter() - saved_at >= SAVED_EVERY_S:
            with suppress(OSError):  # a full disk: the next start has more to rule again
                put_checkpoint(recording.path, flush, checkpoint_of(timeline.referee))
            saved_at = time.perf_counter()

    again = timeline.run(float("inf"), None, save)
    if recording.flushes and not again.as_recorded:
        raise RecordingError(recording.path, "doesn't rule again as it was recorded; nothing goes on from there")
    return AtEnd(timeline.referee, timeline.digests, again.ruling_count)


class _Course:
    """One way through a recording. stood : where it begins; None: at the beginning"""

    def __init__(
        self, recording: Recording, rules: Rules | None, level: Level | None,
        on_ruling: Callable[[Referee, Ruling, object], None] | None, on_tick: Callable[[Referee], None] | None,
        stood: Stood | None = None, *, keep: bool = True,
    ) -> None:  # fmt: skip
        header = recording.require_header()
        self._recording, self._lenient = recording, rules is not None and rules != header.rules
        self._flushes, before = recording.flushes, None
        if stood is None:
            held = recording.level_or(level)
            self.referee = Referee(rules or header.rules, level=held, seed=header.seed, storage=header.storage)
        else:
            self.referee, self._flushes = stood.referee, recording.flushes[stood.flushes :]
            before = recording.flushes[stood.flushes - 1]
            self.referee.events()  # they were told
        self._on_ruling, self._on_tick = on_ruling, on_tick
        self.digests = Digests(before)
        self.rulings: list[Ruling] = []
        self.steps: list[int] = []
        self.events: list[Event] = []
        self.refused: list[RefusedCall] = []
        self._ticks = self._count = self._told = 0
        self._keeps = keep or recording.is_old  # of version 0.2 all values are compared at the end

    def run(
        self, until_s: float, on_progress: Callable[[float], None] | None,
        on_flush: Callable[[Flush], None] | None = None,
    ) -> ReplayResult:  # fmt: skip
        recording = self._recording
        last = recording.flushes[-1] if recording.flushes else None
        first_s, span = recording.begins_at_s, max(recording.ends_at_s - recording.begins_at_s, 1e-9)
        whole = True
        for flush in self._flushes:
            if flush.from_s is not None and flush.from_s > until_s:
                break
            if flush.missing is not None:
                recording.problems.append(f"{flush.missing}; ruled again only up to there")
                whole = False
                break
            problems = len(recording.problems)
            self._flush(flush, until_s)
            if len(recording.problems) > problems:
                recording.problems.append("ruled again only up to there: what follows depends on what is missing")
                whole = False
                break
            if on_flush is not None:
                on_flush(flush)
            if on_progress is not None and flush.to_s is not None:
                on_progress((flush.to_s - first_s) / span)
        digests = self.digests
        if last is None:  # nothing was flushed before a kill, and nothing was ruled again
            same = not recording.problems
        else:
            same = whole and is_as_recorded(recording, self.rulings, self.events, digests)
        return ReplayResult(
            self.rulings, self.steps, self.events, digests.rulings_sha256, digests.events_sha256, same, self._ticks,
            max(self.referee.history.newest_time - first_s, 0.0), self.refused,
            self._count, self._told,
        )  # fmt: skip

    def _flush(self, flush: Flush, until_s: float) -> None:
        """Everything of one flush, in the order of the steps."""
        tables = [self._columns(name, flush) for name in ("calls", "pings", "ticks", "claims")]
        calls, pings, ticks, claims = tables
        poses = poses_by_tick(self._recording, flush)
        steps = np.concatenate([columns[0] for columns in tables])
        kinds = np.repeat(range(4), [len(columns[0]) for columns in tables])
        rows = np.concatenate([np.arange(len(columns[0])) for columns in tables])
        order = np.argsort(steps, kind="stable")
        waiting: list[tuple[int, str, float, bytes]] = []
        for kind, row, step in zip(kinds[order].tolist(), rows[order].tolist(), steps[order].tolist(), strict=True):
            if kind == 3:
                waiting.append((step, claims[1][row], claims[2][row], claims[3][row]))
                continue
            self._claims(waiting)
            if kind < 2:
                _, _, names, arguments, answers = pings if kind else calls
                self._call(step, names[row], arguments[row], answers[row])
            elif ticks[1][row] == "record" and ticks[3][row] > until_s:
                break
            else:
                self._tick(step, ticks[1][row], ticks[2][row], ticks[3][row], poses)
        self._claims(waiting)
        for event in self.referee.events():
            self.digests.event(event)
            self._told += 1
            if self._keeps:
                self.events.append(event)

    def _columns(self, name: str, flush: Flush) -> list[Any]:
        table = self._recording.piece(name, flush)
        return [table.column(0).to_numpy(), *(column.to_pylist() for column in table.columns[1:])]

    def _note(self, step: int, ruling: Ruling, claim: object) -> None:
        self._count += 1
        if self._keeps:
            self.rulings.append(ruling)
            self.steps.append(step)
        self.digests.ruling(ruling)
        if self._on_ruling is not None:
            self._on_ruling(self.referee, ruling, claim)

    def _claims(self, waiting: list[tuple[int, str, float, bytes]]) -> None:
        """Rule on the claims that came between two other calls: together, unless somebody wants to look after each."""
        if not waiting:
            return
        claims = [decode_claim(received) for _, _, _, received in waiting]
        if self._on_ruling is None:
            many = [(one[1], claim, one[2]) for one, claim in zip(waiting, claims, strict=True)]
            for one, ruling in zip(waiting, self.referee.rule_many(many), strict=True):
                self._note(one[0], ruling, None)
        else:
            for (step, connection, at, _), claim in zip(waiting, claims, strict=True):
                self._note(step, self.referee.rule(connection, claim, received_at=at), claim)
        waiting.clear()

    def _tick(self, step: int, what: str, tick: int, at: float, poses: dict[int, Any]) -> None:
        try:
            if what == "advance":
                for ruling in self.referee.advance(at):
                    self._note(step, ruling, None)
            elif what == "snapshot_sent":
                self.referee.snapshot_sent(tick, at)
            else:
                self.referee.record(tick, at, *poses.get(tick, NO_POSES))
                self._ticks += 1
                if self._on_tick is not None:
                    self._on_tick(self.referee)
        except TinClockError as error:
            self._refuse(step, what, error)

    def _call(self, step: int, name: str, text: str, answer: str | None) -> None:
        try:
            command = read_change(name, msgspec.json.decode(text, type=Fields))
        except msgspec.DecodeError as error:
            raise RecordingError(self._recording.path, f"step {step} can't be read: {error}") from None
        if self._lenient and isinstance(command, ChangeRules):
            self.refused.append(RefusedCall(step, name, "the rules that it is ruled by hold from beginning to end"))
            return
        try:
            found = self.referee.apply(command)
        except TinClockError as error:
            self._refuse(step, name, error)
            return
        if isinstance(command, Act):
            self._note(step, found, command.claim)
        elif answer is not None and msgspec.json.decode(answer) != found and not self._lenient:
            problem = f"step {step}, {name}, answered {answer}; now it answers {found!r}"
            raise RecordingError(self._recording.path, problem)

    def _refuse(self, step: int, name: str, error: TinClockError) -> None:
        if not self._lenient:
            raise RecordingError(self._recording.path, f"step {step}, {name}, is refused: {error}") from None
        self.refused.append(RefusedCall(step, name, str(error)))


def is_as_recorded(recording: Recording, rulings: list[Ruling], events: list[Event], digests: Digests) -> bool:
    """True if rulings and events are those of a recording: bit for bit, or, of one of version 0.2, in every value."""
    last = recording.flushes[-1]
    if not recording.is_old:
        return (digests.rulings_sha256, digests.events_sha256) == (last.rulings_sha256, last.events_sha256)
    return rulings == list(recording.rulings()) and list(map(event_then, events)) == list(recording.events())


def poses_by_tick(recording: Recording, flush: Flush) -> dict[int, tuple[Any, Any]]:
    """The arguments of `Referee.record` for each tick of a flush: entities and their poses."""
    header, table = recording.require_header(), recording.piece("poses", flush)
    if not table.num_rows:
        return {}
    rows = pose_rows(table)
    numbers, place = np.unique(rows.tick, return_inverse=True)
    steps = float(header.place_steps_per_m), float(header.turn_steps)
    ends, who, starts, poses = by_tick(rows.entity, place, rows.bones, rows.steps, len(numbers), *steps)
    out, begin = {}, 0
    for tick, end in zip(numbers.tolist(), ends.tolist(), strict=True):
        first, last = starts[begin], starts[end]
        out[tick] = (who[begin:end], Packed(poses[first:last], starts[begin : end + 1] - first))
        begin = end
    return out
