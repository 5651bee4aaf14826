"""One match of the service: its referee, what records it, what guards it, and who asks."""

from __future__ import annotations

import secrets
import time
from collections import deque
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.referee import Referee
from tinclock.intake.level_file import parse_level
from tinclock.intake.rules_file import parse_rules
from tinclock.intake.toml_tables import parse_toml
from tinclock.recordings.recorder import Recorder
from tinclock.serve.guarding import Guards
from tinclock.serve.journal import Journal, JournalEntry
from tinclock.serve.requests import FROM_JSON, FROM_PACKED, Call, Messages, OpenMatch, RuledClaim
from tinclock.wire.gateway import joined_by
from tinclock.wire.gateways import Gateways

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from tinclock.serve.requests import Open, Request, Tick

MAX_OF_A_NAME, MAX_REPLY_BYTES = 10_000, 2 << 20
SEED_BITS = 53
"""Of a secret seed: as many as every format says exactly."""


class Match:
    """A match: its referee, with a recorder in front where matches are recorded."""

    def __init__(self, name: str, server: Referee | Recorder) -> None:
        self.name, self.server = name, server
        recorder = server if isinstance(server, Recorder) else None
        self.recording = None if recorder is None else recorder.path
        self.referee: Referee = server if recorder is None else recorder.referee  # type: ignore[assignment]
        strict = self.referee.rules.strictness == "strict"
        self.journal = None if self.recording is None else Journal(self.recording, name, sync=strict)
        self._handed_over = 0 if recorder is None else recorder.first_unqueued_call
        self.guards = Guards(self.referee)
        self.gateways = Gateways(self.referee, self.server)
        self.failed = self._unkept = ""
        self.busy = False
        """True if a request is under way: another one waits, so that what is kept is what was done, in order."""
        self.dropped: list[int] = []
        """Places of what was dropped of the request under way; of one that is done again, of what is to be dropped."""
        self.coming_back = False
        self.logged: frozenset[tuple[int, str, float]] = frozenset()
        """(ruling, code, server time) of what a process that was killed had logged, but not recorded: it is done again,
        or asked again where its reply didn't go out.
        """
        self.replies: deque[tuple[int, bytes]] = deque()
        self._reply_bytes = 0
        self.askers: set[object] = set()
        self._opened = self._asked_at = time.monotonic()

    @classmethod
    def opened(cls, asked: Open, folder: Path | None, checkpoint_s: float) -> Match:
        """A match that begins."""
        rules = parse_rules(parse_toml(asked.rules, "rules"), "rules")
        level = None if asked.level is None else parse_level(parse_toml(asked.level, "level"), "level")
        seed = secrets.randbits(SEED_BITS) if asked.seed is None else asked.seed
        referee = Referee(rules, level=level, seed=seed)
        if folder is None:
            return cls(asked.match, referee)
        return cls(
            asked.match,
            Recorder(fresh_folder(folder, asked.match), referee, when_full="continue", checkpoint_s=checkpoint_s),
        )

    def remember(self, request: int, reply: bytes) -> None:
        """Keep a reply for an asker that may have lost it."""
        self.replies.append((request, reply))
        self._reply_bytes += len(reply)
        while self._reply_bytes > MAX_REPLY_BYTES:
            self._reply_bytes -= len(self.replies.popleft()[1])

    def join_as_then(self, entry: JournalEntry) -> None:
        """Take up who joined or was dismissed by a request whose effects on the match are in the recording already."""
        try:
            packed = entry.frame[:1] != b"{"
            asked: Request = FROM_PACKED.decode(entry.frame) if packed else FROM_JSON.decode(entry.frame)
        except Exception:  # it was answered as what can't be read
            return
        if isinstance(asked, Messages):
            for place, (connection, _, received) in enumerate(asked.messages):
                state = None if place in entry.dropped else joined_by(received)
                if state is not None:
                    self.gateways.rejoin(connection, state)
        elif isinstance(asked, Call) and asked.call == "dismiss":
            self.gateways.forget(str(asked.arguments.get("connection", "")))

    def drops(self, place: int, admitted: bool) -> bool:
        """True if one of a request is dropped; as it was, where that is done again: guards forget with a kill."""
        if self.coming_back:
            return place in self.dropped
        if not admitted:
            self.dropped.append(place)
        return not admitted

    def drops_of(self, claims: Sequence[tuple[str, float, bytes]], begin: int) -> list[bool]:
        """Return the dropped claims of a request, from the place where they begin; empty if there are none."""
        if self.coming_back:
            taken = [place not in self.dropped for place in range(begin, begin + len(claims))]
            self.guards.drops(claims)  # as then: they stand as they stood
            return [] if all(taken) else [not is_taken for is_taken in taken]
        dropped = self.guards.drops(claims)
        self.dropped += [place for place, is_dropped in enumerate(dropped, begin) if is_dropped]
        return dropped

    def note(self, step: int, request: int, frame: bytes, reply: bytes) -> None:
        """A request was done: keep it, before its reply goes out, for a process that has to go on from here."""
        self.remember(request, reply)
        if self.journal is None or not isinstance(self.server, Recorder):
            return
        try:
            self.journal.note(JournalEntry(step, request, frame, reply, tuple(self.dropped)))
            if self.server.first_unqueued_call != self._handed_over:
                self._handed_over = self.server.first_unqueued_call
                states = self.guards.states(), self.gateways.guards(), self.gateways.joined()
                standing = JournalEntry(self.server.call_number, 0, b"", b"", (), *states)
                self.journal.turn(self.server.written, standing)
        except OSError as error:
            self._unkept = f"can't go on after a kill: {error.strerror}"
            self.journal.give_up(self.name, self._unkept)
            self.journal = None
            if self.referee.rules.strictness == "strict":  # no reply without its record
                self.failed = self._unkept

    def asked(self, asker: object) -> None:
        """Somebody asks something of it."""
        self._asked_at = time.monotonic()
        if asker is not None:
            self.askers.add(asker)

    @property
    def idle_s(self) -> float:
        """For how long nobody has asked anything."""
        return time.monotonic() - self._asked_at

    def told(self, name: str) -> OpenMatch:
        """Return its text in a list."""
        now, problem = time.monotonic(), self.server.problem if isinstance(self.server, Recorder) else ""
        return OpenMatch(
            name, round(now - self._opened, 3), round(self.idle_s, 3), len(self.askers),
            sum(one.rig != "" for one in self.referee.state().entities), self.guards.dropped + self.gateways.dropped,
            "" if self.recording is None else str(self.recording), self.failed or problem or self._unkept,
        )  # fmt: skip

    def close(self, compact: bool = True) -> None:
        """Put down what was recorded."""
        if isinstance(self.server, Recorder):
            self.server.close(compact=compact)
        if self.journal is not None:
            self.journal.end()

    @property
    def can_go_on(self) -> bool:
        """True if another process can continue this match."""
        return self.journal is not None and not self.failed

    def leave_open(self) -> None:
        """Write everything for the process that goes on with this match.

        A request that is still under way is neither in the recording nor in the journal: its client asks again.
        """
        if isinstance(self.server, Recorder) and not self.busy:
            self.server.leave_open()
        if self.journal is not None:
            self.journal.leave()

    def compact(self) -> None:
        """Rewrite the small files of a closed recording into few."""
        if isinstance(self.server, Recorder):
            self.server.compact()


def fresh_folder(folder: Path, name: str) -> Path:
    """Return the folder of a match's recording: its name, with a number behind it if that was used before."""
    for number in range(1, MAX_OF_A_NAME):
        path = folder / (name if number == 1 else f"{name}-{number}")
        if not path.exists():
            return path
    return folder / name  # the recorder says that it is there


def told_of(ruling: Any) -> RuledClaim:
    """Return a ruling's data for a caller."""
    given = msgspec.UNSET if ruling.kind != "move" or ruling.direction is None else ruling.direction
    return RuledClaim(
        ruling.number, ruling.connection, ruling.outcome, ruling.receipt(), ruling.findings, msgspec.UNSET, given
    )  # fmt: skip


def poses_of(asked: Tick, referee: Referee) -> tuple[Any, Any, Any]:
    """The entities of a tick, their bones end to end, and where each one's begin."""
    if len(asked.entities) % 8 or len(asked.bones) % 28:
        raise msgspec.ValidationError("entities come in 8 bytes each, bones in 28")
    ids = np.frombuffer(asked.entities, "<i8")
    bones = np.frombuffer(asked.bones, "<f4").reshape(-1, 7).astype(np.float64)
    counts = [len(referee.history.rig_of(entity).bones) for entity in ids.tolist()]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    if starts[-1] != len(bones):
        raise msgspec.ValidationError(f"these entities have {starts[-1]} bones together, got {len(bones)}")
    return ids, bones, starts
