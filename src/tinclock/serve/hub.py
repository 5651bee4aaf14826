"""Many matches, each by itself: requests go in as frames, replies come out; no sockets here."""

from __future__ import annotations

import time
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec.structs import replace

from tinclock.cases.evidence_log import SYNC_OF, findings_of
from tinclock.core.errors import EvidenceError, RecordingError, TinClockError
from tinclock.core.ruling.commands import Act, Dismiss, read_change
from tinclock.core.ruling.records import counted_as
from tinclock.core.timeline.instants import seconds
from tinclock.core.timeline.packed import Packed
from tinclock.intake.rules_file import parse_rules
from tinclock.intake.toml_tables import parse_toml
from tinclock.recordings.recorder import Recorder
from tinclock.serve.doing import BUSY, Todo, number_of, outcome_of, require_times, rulings_of, unwrapped
from tinclock.serve.journal import entries_of, kept_of
from tinclock.serve.match import Match, poses_of, told_of
from tinclock.serve.questions import answer_of, explanation_of
from tinclock.serve.requests import (
    FROM_JSON,
    FROM_PACKED,
    TO_JSON,
    TO_PACKED,
    Call,
    Claims,
    Close,
    Events,
    ListMatches,
    Messages,
    Open,
    OpenMatch,
    Outgoing,
    Query,
    Reply,
    Request,
    Resume,
    RuledClaim,
    Tick,
)
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable, Generator, Iterator, Sequence

    from tinclock.cases.evidence_log import EvidenceLog
    from tinclock.core.ruling.records import Ruling
    from tinclock.serve.journal import KeptReply

    Work = Generator[Todo, Any, Reply]
    """Work on a request: yields None where others may have their turn, or what takes long and needs no turn at all."""

MAX_MATCHES = 1024
CHECKPOINT_S = 10.0
CLOCK_OFF_S = 86_400.0
"""No machine's clock is set back further."""
MAX_EVENTS = 1024
"""Events of one reply."""
MAX_UNLOGGED = 100_000
"""Findings that wait for a log that can't be written."""
AT_ONCE = 32
"""Claims that are ruled together: few enough that the next look at the time comes soon, whatever they are."""
SLICE_S = 0.001
"""Time slice of one request before others have a turn."""
DRAINING = "the service is draining and opens no more matches; open this one at another service"
CHANGING = (Call, Tick, Claims, Messages, Outgoing)
"""Requests that may change a match."""


class Hub:
    """All matches of one process.

    record_to : a folder in which each match is recorded; None: none is
    checkpoint_s : so much of a recorded match is ruled again after a kill, at most
    evidence : the log that findings are appended to before their receipts go out, synced as the match's strictness asks
    """

    def __init__(
        self, record_to: str | Path | None = None, evidence: EvidenceLog | None = None, *,
        checkpoint_s: float = CHECKPOINT_S,
    ) -> None:  # fmt: skip
        self._evidence, self._checkpoint_s = evidence, checkpoint_s
        self._folder = None if record_to is None else Path(record_to)
        self.matches: dict[str, Match] = {}
        self._opening: set[str] = set()
        self._unlogged: list[Any] = []
        self.draining = False
        """True once no match may be opened any more."""
        self.requests: Counter[str] = Counter()
        self.outcomes: Counter[str] = Counter()
        self.failures = 0

    # -- requests ---------------------------------------------------------------------------------------------

    def handle(self, frame: bytes | str, asker: object = None) -> bytes | str:
        """Do what a frame asks, all at once; returns the reply, written as the frame was. Never raises."""
        work, given = self.work(frame, asker), None
        while True:
            try:
                todo = work.send(given)
            except StopIteration as done:
                reply: bytes | str = done.value
                return reply
            given = outcome_of(todo) if callable(todo) else None

    def work(self, frame: bytes | str, asker: object = None) -> Generator[Todo, Any, bytes | str]:
        """`weapon_action` in slices of a few milliseconds.

        Yields None where others may have their turn; `BUSY` where another request of that match has to be finished
        first; and what takes longer, a call to be made beside the loop, whose outcome (`outcome_of`) is sent back.
        asker : who asks, so that matches know whether anybody is there
        """
        as_json = isinstance(frame, str)
        try:
            asked: Request = FROM_JSON.decode(frame) if as_json else FROM_PACKED.decode(frame)  # type: ignore[arg-type]
        except Exception as error:  # whatever a decoder does with a stranger's frame
            self.requests["unreadable"] += 1
            reply = Reply(number_of(frame), ok=False, error=f"unreadable request: {error}"[:200])
        else:
            self.requests[type(asked).__name__.lower()] += 1
            return (yield from self._kept(asked, asker, frame))
        return TO_JSON(reply).decode() if as_json else TO_PACKED(reply)

    def _kept(self, asked: Request, asker: object, frame: bytes | str) -> Generator[Todo, Any, bytes | str]:
        """Do a request, one at a time in each match, and keep what changed something until it is in the recording."""
        match = self.matches.get(asked.match) if isinstance(asked, CHANGING) else None
        while match is not None and match.busy:
            yield BUSY
        step = match.server.call_number if match is not None and isinstance(match.server, Recorder) else 0
        if match is not None:
            match.busy = True
            match.dropped = match.dropped if match.coming_back else []
        try:
            reply = yield from self._reply(asked, asker)
            packed, text = (TO_PACKED(reply), None) if isinstance(frame, bytes) else (b"", TO_JSON(reply))
            if match is not None and self.matches.get(asked.match) is match:
                match.note(step, asked.request, frame if isinstance(frame, bytes) else frame.encode(), text or packed)
                if match.failed and not reply.match_failed:
                    failed = Reply(asked.request, ok=False, error=match.failed, match_failed=True)
                    packed, text = (TO_PACKED(failed), None) if isinstance(frame, bytes) else (b"", TO_JSON(failed))
        finally:
            if match is not None:
                match.busy = False
        return packed if text is None else text.decode()

    def _reply(self, asked: Request, asker: object) -> Work:
        """A mistake of the asker is told; a fault of ours loses that match and no other."""
        if isinstance(asked, ListMatches):
            return Reply(asked.request, matches=self.listed())
        match = self.matches.get(asked.match)
        try:
            if isinstance(asked, Open):
                return (yield from self._open(asked, asker))
            if match is None:
                return Reply(asked.request, ok=False, error=f"no match {asked.match!r} is open")
            match.asked(asker)
            if isinstance(asked, Resume):
                return Reply(asked.request, replies=tuple(b for n, b in match.replies if n > asked.last_reply))
            if isinstance(asked, Close):
                return (yield from self._close(asked, match))
            if match.failed:
                return Reply(asked.request, ok=False, error=f"the match failed: {match.failed}", match_failed=True)
            if isinstance(asked, Claims):
                return (yield from self._claims(asked, match))
            if isinstance(asked, Messages):
                return (yield from self._messages(asked, match))
            if isinstance(asked, Call):
                return (yield from self._call(asked, match))
            return self._do(asked, match)
        except (TinClockError, msgspec.ValidationError) as error:
            return Reply(asked.request, ok=False, error=str(error))
        except Exception as error:  # whatever it is, the other matches go on
            self.failures += 1
            told = f"{type(error).__name__}: {error}"
            if match is not None:
                match.failed = told
            return Reply(asked.request, ok=False, error=told, match_failed=True)

    def _open(self, asked: Open, asker: object) -> Work:
        """Rules and level are read, and the level's tree is built, beside the loop."""
        name = asked.match
        if self.draining:
            return Reply(asked.request, ok=False, error=DRAINING)
        if name in self.matches or name in self._opening:
            return Reply(asked.request, ok=False, error=f"match {name!r} is open already")
        if len(self.matches) + len(self._opening) >= MAX_MATCHES:
            return Reply(asked.request, ok=False, error=f"{MAX_MATCHES} matches are open; no more fit")
        self._opening.add(name)
        try:
            match = unwrapped((yield lambda: Match.opened(asked, self._folder, self._checkpoint_s)))
        finally:
            self._opening.discard(name)
        match.asked(asker)
        self.matches[name] = match
        return Reply(asked.request, answer=str(match.recording) if match.recording else None)

    def _close(self, asked: Close, match: Match) -> Work:
        del self.matches[asked.match]
        unwrapped((yield match.close))
        return Reply(asked.request)

    def _do(self, asked: Request, match: Match) -> Reply:
        if isinstance(asked, Tick):
            return self._tick(asked, match)
        if isinstance(asked, Query):
            return Reply(asked.request, answer=answer_of(match.referee, asked.about))
        if isinstance(asked, Outgoing):
            now = seconds("server_time", asked.server_time)
            return Reply(asked.request, outgoing=tuple(match.gateways.outgoing(now, asked.ping)))
        if isinstance(asked, Events):
            events = match.referee.events(since=asked.since)
            return Reply(asked.request, events=tuple(events[:MAX_EVENTS]), more=len(events) > MAX_EVENTS)
        return Reply(asked.request, state=match.referee.state())

    def _claims(self, asked: Claims, match: Match) -> Work:
        require_times("claims", asked.claims)  # before any is ruled: a receipt must not get lost
        ruled, noted, at_once = list[RuledClaim](), 0, 1 if asked.explain else AT_ONCE
        began = time.perf_counter()
        for begin in range(0, len(asked.claims), at_once):
            some = asked.claims[begin : begin + at_once]
            dropped = match.drops_of(some, begin)
            taken = [one for one, is_dropped in zip(some, dropped, strict=True) if not is_dropped] if dropped else some
            told = self._told(match, rulings_of(match.server, taken), taken, asked.explain)
            if dropped:
                self.outcomes["dropped"] += sum(dropped)
                rest = iter(told)
                told = [
                    RuledClaim(0, name, "dropped", None) if is_dropped else next(rest)
                    for (name, _, _), is_dropped in zip(some, dropped, strict=True)
                ]
            ruled += told
            if time.perf_counter() - began > SLICE_S:
                self._note(asked.match, match, ruled[noted:])
                noted = len(ruled)
                yield None
                began = time.perf_counter()
        self._note(asked.match, match, ruled[noted:])
        return Reply(asked.request, rulings=tuple(ruled))

    def _messages(self, asked: Messages, match: Match) -> Work:
        """Pass-through mode: each message through its connection's gateway."""
        require_times("messages", asked.messages)
        send, game, ruled, noted = list[tuple[str, bytes]](), list[tuple[str, Any]](), list[RuledClaim](), 0
        began = time.perf_counter()
        for place, one in enumerate(asked.messages):
            connection, received_at, received = one
            if match.coming_back and place in match.dropped:
                match.gateways.refuse(connection, received)
                continue
            dropped = match.gateways.dropped_of(connection)
            answer, gateway = match.gateways.receive(connection, received, received_at)
            match.drops(place, match.gateways.dropped_of(connection) == dropped)
            if answer is not None:
                send.append((connection, answer))
            if gateway is not None and gateway.game_message is not None:
                game.append((connection, gateway.game_message.body))
            if gateway is None or gateway.last_ruling is None:
                continue
            ruled += self._told(match, [gateway.last_ruling], (one,), asked.explain)
            if time.perf_counter() - began > SLICE_S:
                self._note(asked.match, match, ruled[noted:])
                noted = len(ruled)
                yield None
                began = time.perf_counter()
        self._note(asked.match, match, ruled[noted:])
        return Reply(asked.request, rulings=tuple(ruled), outgoing=tuple(send), game_messages=tuple(game))

    def _told(
        self, match: Match, rulings: list[Ruling], claims: Sequence[tuple[str, float, bytes]], explain: bool
    ) -> list[RuledClaim]:
        told = [told_of(ruling) for ruling in rulings]
        self.outcomes.update(map(counted_as, told))
        if not explain:
            return told
        said = [
            explanation_of(match.referee, ruling, decode_claim(received))
            for ruling, (_, _, received) in zip(rulings, claims, strict=True)
        ]
        return [replace(one, explanation=text) for one, text in zip(told, said, strict=True)]

    def _note(self, name: str, match: Match, ruled: list[RuledClaim], more: tuple[Any, ...] = ()) -> None:
        """Append what was found to the evidence log; what can't be written now is written with the next."""
        if self._evidence is None:
            return
        logged = match.logged
        found = [
            {"match": name, "ruling": row.number, "finding": f}
            for row in ruled
            for f in row.findings
            if (row.number, f.code, f.server_time) not in logged
        ]
        if not match.coming_back:
            found += [{"match": name, "ruling": 0, "finding": f} for f in more]
        policy = SYNC_OF.get(match.referee.rules.strictness, "soon")
        try:
            if self._unlogged or found:
                self._evidence.append("finding", [*self._unlogged, *found], sync=policy)
                self._unlogged = []
            self._evidence.flush_if_due()
        except EvidenceError as error:
            self.failures += 1
            self._unlogged = [*self._unlogged, *found][-MAX_UNLOGGED:]
            if policy == "each":  # no receipt without its record: the match can't go on
                raise RuntimeError(f"evidence can't be written: {error}") from error

    def _tick(self, asked: Tick, match: Match) -> Reply:
        ids, bones, starts = poses_of(asked, match.referee)
        match.server.record(asked.tick, asked.server_time, ids, Packed(bones, starts))
        if asked.snapshot_sent:
            match.server.snapshot_sent(asked.tick)
        fired = match.server.advance(asked.server_time)
        self.outcomes.update(map(counted_as, fired))
        told = [told_of(ruling) for ruling in fired]
        dropped = [*match.guards.findings(asked.server_time), *match.gateways.findings(asked.server_time)]
        self._note(asked.match, match, told, tuple(dropped))
        return Reply(asked.request, rulings=tuple(told))

    def _call(self, asked: Call, match: Match) -> Work:
        arguments = asked.arguments
        if asked.call == "change_rules" and isinstance(text := arguments.get("rules"), str):  # as in `open`
            rules = unwrapped((yield lambda: parse_rules(parse_toml(text, "rules"), "rules")))
            arguments = {**arguments, "rules": rules}
        command = read_change(asked.call, arguments)
        answer = match.server.apply(command)
        if isinstance(command, Dismiss):
            match.gateways.forget(command.connection)
        match.gateways.forget_dismissed()
        if isinstance(command, Act):
            return Reply(asked.request, rulings=(told_of(answer),))
        return Reply(asked.request, answer=answer)

    # -- going on -----------------------------------------------------------------------------------------------

    def go_on(self, share: Callable[[str], bool] = bool) -> Iterator[tuple[str, str]]:
        """Bring back every match whose process was killed: its recording is ruled again, and what was asked since is
        done again, with the same replies. Gives each one's name, and why it could not be brought back, "" where it was.

        share : which matches are this process' own, by their names
        """
        for recording in sorted(self._folder.iterdir()) if self._folder is not None and self._folder.is_dir() else ():
            kept = kept_of(recording) if recording.is_dir() else None
            name = "" if kept is None else kept.match
            if kept is None or name in self.matches or not share(name):
                continue
            if kept.problem:
                self.failures += 1
                yield name, kept.problem
                continue
            try:
                self._bring_back(kept, recording)
                yield name, ""
            except (TinClockError, OSError) as error:
                self.failures += 1
                yield name, str(error)

    def _bring_back(self, kept: KeptReply, recording: Path) -> None:
        name = kept.match
        entries = list(entries_of(recording))
        recorder = Recorder.resume(recording, when_full="continue", checkpoint_s=self._checkpoint_s)
        match = Match(name, recorder)
        for entry in entries:
            if entry.frame and entry.step < recorder.call_number:
                match.remember(entry.request, entry.reply)
        if self._evidence is not None:
            match.logged = frozenset(
                findings_of(
                    self._evidence.folder, name, recorder.rulings, since_unix_s=kept.opened_unix_s - CLOCK_OFF_S
                )
            )
        self.matches[name], match.coming_back = match, True
        try:
            for entry in entries:
                if not entry.frame:
                    match.guards.take_up(entry.guards or {})
                    match.gateways.take_up(entry.gateways or {}, entry.joined or {})
                    continue
                if entry.step > recorder.call_number:
                    problem = (
                        f"its journal goes on at step {entry.step}, what came before ends at {recorder.call_number}"
                    )
                    raise RecordingError(recording, problem)
                if entry.step < recorder.call_number:
                    match.join_as_then(entry)
                else:
                    match.dropped = list(entry.dropped)
                    self.handle(entry.frame.decode() if entry.frame[:1] == b"{" else entry.frame)
        except RecordingError:
            del self.matches[name]
            raise
        finally:
            match.coming_back = False

    @property
    def is_empty(self) -> bool:
        """True if no match is open and none is being opened."""
        return not self.matches and not self._opening

    @property
    def is_busy(self) -> bool:
        """True while a request of some match is under way."""
        return any(match.busy for match in self.matches.values())

    # -- who is there -----------------------------------------------------------------------------------------

    def listed(self) -> tuple[OpenMatch, ...]:
        """The matches that are open, by name."""
        return tuple(match.told(name) for name, match in sorted(self.matches.items()))

    def left(self, asker: object) -> None:
        """An asker is gone."""
        for match in self.matches.values():
            match.askers.discard(asker)

    def abandoned(self, after_s: float) -> list[str]:
        """Matches that nobody who is still here has asked anything of, for so long."""
        return [name for name, match in self.matches.items() if not match.askers and match.idle_s >= after_s]

    def take_away(self, name: str) -> Match | None:
        """A match that is to be closed, which nobody can ask any more."""
        return self.matches.pop(name, None)

    def close(self, until: float = float("inf"), *, keep: bool = False) -> None:
        """Close every match; what was recorded is whole afterwards.

        until : `time.monotonic()` by which to be done. First every recording is ended, which is quick; then they are
            put together as far as there is time: what isn't is whole as it is
        keep : leave recorded matches open instead, for the next process (`go_on`)
        """
        matches = list(self.matches.values())
        self.matches.clear()
        ended = [match for match in matches if not (keep and match.can_go_on)]
        for match in matches:
            try:
                if match in ended:
                    match.close(compact=False)
                else:
                    match.leave_open()
            except (TinClockError, OSError):  # a full disk under one recording; the others are still to be closed
                self.failures += 1
        for match in ended:
            if time.monotonic() >= until:
                return
            try:
                match.compact()
            except (TinClockError, OSError):
                self.failures += 1
