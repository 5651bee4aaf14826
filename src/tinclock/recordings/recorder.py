"""The recorder: stands in front of a referee, takes the same commands, and notes each of them."""

from __future__ import annotations

import secrets
from contextlib import suppress
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec
import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.checkpoint import checkpoint_of
from tinclock.core.combat.bulletin import KEPT_EVENTS
from tinclock.core.errors import BadArrayError, BadNumberError, RecordingError
from tinclock.core.geometry.level import level_digest
from tinclock.core.rules.ruleset import Rules
from tinclock.core.ruling.calls import MatchCalls
from tinclock.core.ruling.claims import plain_numbers
from tinclock.core.ruling.commands import (
    Advance,
    ChangeRules,
    Ping,
    Pong,
    Record,
    ReportView,
    Rule,
    SnapshotSent,
    name_of,
)
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.shots import ShotBatch
from tinclock.core.timeline.columns import flat_poses
from tinclock.core.timeline.instants import seconds, tick_number
from tinclock.core.timeline.packed import Packed
from tinclock.recordings.checkpoints import let_go
from tinclock.recordings.layout import (
    FARTHEST_STEPS,
    FORMAT,
    LEVEL,
    PLACE_STEPS_PER_M,
    TURN_STEPS,
    Header,
    LevelNote,
    SurfaceNote,
)
from tinclock.recordings.level_tables import write_level
from tinclock.recordings.pieces import TickPoses, require_pyarrow
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import referee_at_end
from tinclock.recordings.rounding import to_steps
from tinclock.recordings.said import name_said, plain_said, received_of
from tinclock.recordings.writer import Batch, Writer

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.claims import Claim
    from tinclock.core.ruling.commands import Command
    from tinclock.core.timeline.packed import Poses
    from tinclock.wire.codec import Received


class Recorder(MatchCalls):
    """Records a match while it is played. Make it before the first call to its referee, then call it instead.

    path : a folder that doesn't exist yet
    flush_s : so many seconds of server time are handed to the disk together; the rest is lost if the process is killed
    durable : wait for the disk itself at each flush, so that what was flushed survives a power cut too
    when_full : what to do when the disk refuses: raise from the next call on; or go on with the match, write when there
        is room again, and name what had to be left out (`Recording.missing`, `tinclock info`)
    checkpoint_s : put the match's state beside what was flushed so often (at a flush), so that `resume` has only what
        came after it to rule again; None: never. It takes the match 5 to 20 ms with 16 players. Checkpoints
        go when the recording is ended
    match : identity of the match, unlike any other's (default: a random one); evidence counts each match once
    keep_level : put the level's mesh into the recording; else only its digest, and the level must be at hand later

    Poses are rounded to 1/8192 m and to 1/4096 of a quaternion's component *before* the referee gets them, so that what
    it ruled on is what was kept, bit for bit. `referee` is for everything that changes nothing (events, state, clock).

    Raises `RecordingError` for a folder that is there already or can't be written, and from any call once writing has
    failed; `MissingExtraError` without pyarrow.
    """

    takes_bytes = True
    """Give `rule` what came: bytes, or `Received`."""

    def __init__(
        self, path: str | Path, referee: Referee, *, flush_s: float = 1.0, durable: bool = False,
        keep_level: bool = True, when_full: Literal["raise", "continue"] = "raise", checkpoint_s: float | None = None,
        match: str = "",
    ) -> None:  # fmt: skip
        require_pyarrow("Recorder")
        for name, given in (("flush_s", flush_s), ("checkpoint_s", checkpoint_s)):
            if given is not None and not 0.0 < given < float("inf"):
                raise BadNumberError(name, "a number of seconds above 0", given)
        self.path, self.referee = Path(path), referee
        if self.path.exists():
            raise RecordingError(self.path, "is there already; a recording begins in a folder of its own")
        if referee.history.newest_tick >= 0 or referee.ledger.bulletin.number:
            raise RecordingError(self.path, "the referee was used before; a recording begins with its first call")
        header = _header(referee, flush_s, keep_level, match)
        if referee.level is not None and keep_level:  # before the header, which makes the folder a recording
            write_level(self.path / LEVEL, referee.level)
        writer = Writer(self.path, header, durable, when_full == "continue", lambda: self._step)
        self._begin(writer, header, 0, float("-inf"), checkpoint_s)

    def _begin(
        self, writer: Writer, header: Header, step: int, flushed_s: float, checkpoint_s: float | None
    ) -> None:  # fmt: skip
        self._checkpoint_s, self._kept_s, self.replayed_rulings = checkpoint_s, flushed_s, 0
        self._writer, self._most_bones = writer, header.max_bones
        to_steps(np.zeros((0, 7)), np.zeros(1, np.int64), 1, 1.0, 1.0, 1.0)  # loads the kernel now, not in a tick
        self._flush_s, self._flushed_s = header.flush_s, flushed_s
        self._marks: list[tuple[int, int]] = []
        self._bulletin = self.referee.ledger.bulletin
        self._step, self._told = step, self._bulletin.number
        self._flushed_event = self._told
        self._batch = Batch(step)
        self._closed = False
        self._encode = msgspec.json.Encoder(enc_hook=plain_numbers).encode

    @classmethod
    def resume(
        cls, path: str | Path, *, level: Level | None = None, durable: bool = False,
        when_full: Literal["raise", "continue"] = "raise", checkpoint_s: float | None = None,
    ) -> Recorder:  # fmt: skip
        """Go on with a recording whose process was killed: its referee is as it was at the last flush.

        What was flushed since the last checkpoint is ruled again; without one everything is, which takes as long as
        `replay`. What comes next is appended. `replayed_rulings` says how many rulings that were.
        level : the recorded level, where the recording doesn't hold it

        Raises `RecordingError` for a recording that was ended, has a gap, or doesn't rule again as it was.
        """
        source = Recording(path)
        if source.is_old:
            raise RecordingError(path, "was written by version 0.2, and can be read but not continued")
        if source.closed:
            raise RecordingError(path, "was ended in good order; nothing goes on from there")
        referee, digests, replayed_rulings = referee_at_end(source, level)
        self = cls.__new__(cls)
        self.path, self.referee, header = Path(path), referee, source.require_header()
        step = source.flushes[-1].next_call if source.flushes else 0
        self._step = step
        writer = Writer(
            self.path, header, durable, when_full == "continue", lambda: self._step, after=(source, digests)
        )
        self._begin(writer, header, step, source.ends_at_s if source.flushes else float("-inf"), checkpoint_s)
        self.replayed_rulings = replayed_rulings
        return self

    @property
    def call_number(self) -> int:
        """The number of the next call."""
        return self._step

    @property
    def rulings(self) -> int:
        """Return the number of rulings in the recording, as far as it is written."""
        return self._writer.rulings

    @property
    def written(self) -> int:
        """The number of the first call that isn't on the disk yet."""
        return self._writer.written

    @property
    def first_unqueued_call(self) -> int:
        """The number of the first call that was not yet handed to the disk."""
        return self._batch.first_call

    def __enter__(self) -> Recorder:
        """For `with`: the recording is closed at its end."""
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # -- commands ---------------------------------------------------------------------------------------------

    def apply(self, command: Command) -> Any:
        """Let the referee carry out one command, and note it; one that raises is not noted.

        A claim (`rule`) is given as the bytes that came, decoded already (`Received`) or not; one that is a Python
        object is encoded. What is ruled is what those bytes decode to. Besides what `Referee.apply` raises,
        `RecordingError` once writing has failed.
        """
        match command:
            case Rule():
                return self._rule(command)
            case Record():
                return self._record(command)
            case Advance():
                fired = self.referee.apply(command)
                self._batch.rulings += [(self._step, ruling) for ruling in fired]
                self._tick_row("advance", None, float(command.server_time))
                return fired
            case SnapshotSent():
                self.referee.apply(command)
                sent_at = None if command.sent_at is None else float(command.sent_at)
                return self._tick_row("snapshot_sent", int(command.tick), sent_at)
            case ChangeRules():
                _require_keepable(command.rules)
                return self._change(command)
            case Pong():  # what the client sent is noted as far as JSON can say it, and then used as noted
                said = {"nonce": plain_said(command.nonce), "client_time": plain_said(command.client_time)}
                return self._change(msgspec.structs.replace(command, **said))
            case ReportView():
                said = {"view": plain_said(command.view), "client_time": plain_said(command.client_time)}
                return self._change(msgspec.structs.replace(command, **said))
            case _:
                return self._change(command)

    def rule_many(self, claims: Iterable[tuple[str, Claim | object, float]] | ShotBatch) -> list[Ruling]:
        """See `MatchCalls.rule_many`: they share kernel calls, and are noted one by one."""
        many = claims.each() if isinstance(claims, ShotBatch) else claims
        sent = [(name_said(connection), received_of(claim), at) for connection, claim, at in many]
        told = list[int]()
        if self.referee.game_check is not None:
            return [self._rule(Rule(name, received, at)) for name, received, at in sent]
        rulings = self.referee.rule_many([(name, received.claim, at) for name, received, at in sent], told)
        for (name, received, at), ruling, number in zip(sent, rulings, told, strict=True):
            self._note_claim(name, received, at, ruling, number)
        return rulings

    def _rule(self, command: Rule) -> Ruling:
        name, received = name_said(command.connection), received_of(command.claim)
        for finding in self.referee.game_findings(name, received.claim, command.received_at):
            self._change(finding)
        ruling: Ruling = self.referee.apply(Rule(name, received.claim, command.received_at))
        self._note_claim(name, received, command.received_at, ruling, self._bulletin.number)
        return ruling

    def _note_claim(self, name: str, received: Received, at: float, ruling: Ruling, number: int) -> None:
        self._batch.rows["claims"].append((self._step, name, float(at), received.data))
        self._batch.rulings.append((self._step, ruling))
        self._stepped(number)

    def _record(self, command: Record) -> None:
        """Record a tick; what was gathered before is handed to the disk when it is time."""
        tick, server_time = tick_number("tick", command.tick), seconds("server_time", command.server_time)
        if server_time - self._flushed_s >= self._flush_s or self._told - self._flushed_event > KEPT_EVENTS // 2:
            self._flush(self._checkpoint_is_due(server_time))
            self._flushed_s = server_time
        ids, given = _in_order(command.entities, command.bones)
        flat, starts, each = flat_poses(len(ids), given)
        if not len(starts):
            starts = np.arange(len(ids) + 1) * each
        counts, most = starts[1:] - starts[:-1], self._most_bones
        if len(counts) and int(counts.max()) > most:
            self.referee.record(tick, server_time, ids, given)  # which says that no rig has so many bones
        limits = float(PLACE_STEPS_PER_M), float(TURN_STEPS), float(FARTHEST_STEPS)
        steps, steady, bad = to_steps(flat, starts, most, *limits)
        if bad >= 0:
            _refuse_far(flat, bad)
            self.referee.record(tick, server_time, ids, given)  # the referee says what is wrong with the others
        self.referee.record(tick, server_time, ids, Packed(steady, starts))
        self._keep(tick, ids, counts, steps)
        self._tick_row("record", tick, server_time)
        batch = self._batch
        batch.from_s = server_time if batch.from_s is None else batch.from_s
        batch.to_s, batch.ticks = server_time, batch.ticks + 1

    def _change(self, command: Command) -> Any:
        """A command that is noted with its fields."""
        text, name = self._encode(command).decode(), name_of(command)
        answer = self.referee.apply(command)
        said = self._encode(answer).decode() if isinstance(answer, (int, str)) else None
        at = next(
            (t for key in ("server_time", "sent_at", "received_at") if (t := getattr(command, key, None)) is not None),
            None,
        )
        table = "pings" if isinstance(command, Ping | Pong) else "calls"
        self._batch.rows[table].append((self._step, None if at is None else float(at), name, text, said))
        if isinstance(answer, Ruling):
            self._batch.rulings.append((self._step, answer))
        self._stepped()
        return answer

    # -- noting -----------------------------------------------------------------------------------------------

    def _stepped(self, number: int | None = None) -> None:
        """One call was noted; remember how many events there were after it. number : that, where it is known"""
        number = self._bulletin.number if number is None else number
        if number != self._told:
            self._marks.append((self._step, number))
            self._told = number
        self._step += 1

    def _tick_row(self, what: str, tick: int | None, server_time: float | None) -> None:
        self._batch.rows["ticks"].append((self._step, what, tick, server_time))
        self._stepped()

    def _keep(self, tick: int, ids: NDArray[np.int64], counts: NDArray[np.int64], steps: NDArray[np.int32]) -> None:
        dead = self.referee.ledger.dead
        if dead and not dead.isdisjoint(ids.tolist()):  # the referee left them out
            alive = np.array([entity not in dead for entity in ids.tolist()], bool)
            ids, counts, steps = ids[alive], counts[alive], steps[alive]
        if len(ids):
            self._batch.poses.append(TickPoses(tick, ids, counts, steps))

    def _checkpoint_is_due(self, server_time: float) -> bool:
        since, every = server_time - self._kept_s, self._checkpoint_s
        if every is None or since < every:
            return False
        self._kept_s = server_time
        return since != float("inf")  # not at the very beginning

    def _flush(self, with_checkpoint: bool = False) -> None:
        """Hand over what there is."""
        batch = self._batch
        if self._step == batch.first_call and not batch.closed:
            return
        if with_checkpoint:
            batch.checkpoint = checkpoint_of(self.referee)
        batch.next_call, batch.events, batch.marks = self._step, self._bulletin.since(self._flushed_event), self._marks
        self._flushed_event, self._marks = self._told, []
        self._batch = Batch(self._step)
        self._writer.hand_over(batch)

    @property
    def problem(self) -> str:
        """Error of the disk while it refuses and the match goes on; empty when all is well."""
        return self._writer.problem

    def leave_open(self) -> None:
        """Write everything and stop, without ending the recording: `resume` continues it. Safe to call twice."""
        if self._closed:
            return
        self._closed = True
        try:
            self._flush(with_checkpoint=self._checkpoint_s is not None)
        finally:
            self._writer.close()

    def close(self, *, compact: bool = True) -> None:
        """End the recording in good order. Safe to call twice.

        Its many small files were put together into few while the match went on, a quarter of a minute in each.
        compact : do so with the last quarter of a minute too, which takes some tenths of a second; without it the
            recording is as whole
        """
        if self._closed:
            return
        self._closed = True
        self._batch.closed = True
        try:
            self._flush()
        finally:
            self._writer.close()
        let_go(self.path)
        if compact:
            self.compact()
        else:
            with suppress(OSError):
                self._writer.gathering.finish(all_of_it=False)

    def compact(self) -> None:
        """Put the last files of a closed recording together. Raises `RecordingError` where there is no room for that;
        the recording is whole then as it is.
        """
        try:
            self._writer.gathering.finish()
        except OSError as error:
            problem = f"can't be put together ({error.strerror}); it is whole as it is"
            raise RecordingError(self.path, problem) from None


def _require_keepable(rules: Rules) -> None:
    if msgspec.json.decode(msgspec.json.encode(rules), type=Rules) != rules:
        raise RecordingError(
            "rules", "hold a number that JSON can't say (infinite, or none); a recording can't keep it"
        )


def _header(referee: Referee, flush_s: float, keep_level: bool, match: str) -> Header:
    rules, level = referee.rules, referee.level
    _require_keepable(rules)
    note = None if level is None else _level_note(level, keep_level)
    storage = referee.history.columns.storage
    return Header(
        FORMAT, f"tinclock {version('tinclock')}", referee.seed, storage, rules, note, flush_s=flush_s,
        match=match or secrets.token_hex(16),
    )  # fmt: skip


def _level_note(level: Level, keep: bool) -> LevelNote:
    surfaces = tuple(
        SurfaceNote(s.name, s.blocks_sight, None if s.resistance_per_m == float("inf") else s.resistance_per_m)
        for s in level.surfaces
    )
    digest = level_digest(level.vertices, level.faces, level.kinds, level.surfaces)
    return LevelNote(digest, len(level.faces), keep, surfaces)


def _in_order(entities: Sequence[int] | NDArray[np.int64], bones: Poses) -> tuple[NDArray[np.int64], Poses]:
    """Entities and their poses by rising id, as tables hold them."""
    ids = require_shape("entities", entities, (None,), np.int64)
    if len(bones) != len(ids) or bool((ids[1:] > ids[:-1]).all()):
        return ids, bones
    order = np.argsort(ids, kind="stable")
    return ids[order], bones[order] if isinstance(bones, np.ndarray) else [bones[row] for row in order.tolist()]


def _refuse_far(flat: NDArray[np.floating], bad: int) -> None:
    place = flat[bad, :3]
    if np.isfinite(place).all() and np.abs(place).max() > FARTHEST_STEPS / PLACE_STEPS_PER_M:
        most = FARTHEST_STEPS / PLACE_STEPS_PER_M / 1000.0
        raise BadArrayError("bones", f"places within {most:.0f} km of the origin", f"{place.tolist()}", bad)
