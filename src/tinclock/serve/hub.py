"""Many matches, each by itself: requests go in as frames, replies come out; no sockets here."""

from __future__ import annotations

import math
from collections import Counter
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from tinclock.core.errors import BadNumberError, EvidenceError, TinClockError
from tinclock.core.referee import Referee
from tinclock.core.timeline.packed import Packed
from tinclock.core.timeline.views import Drawing
from tinclock.intake.level_file import parse_level
from tinclock.intake.rules_file import parse_rules
from tinclock.intake.toml_tables import parse_toml
from tinclock.serve.requests import (
    FROM_JSON,
    FROM_PACKED,
    NUMBER_JSON,
    NUMBER_PACKED,
    TO_JSON,
    TO_PACKED,
    Call,
    Claims,
    Close,
    Events,
    GetState,
    Open,
    Reply,
    Request,
    Ruled,
    Tick,
)
from tinclock.store.again import CALLS
from tinclock.store.evidence_log import SYNC_OF, EvidenceLog
from tinclock.store.recorder import Recorder
from tinclock.wire.codec import decode_claim

MOST_MATCHES = 1024


class Match:
    """One match: its referee, with a recorder in front where the hub records."""

    def __init__(self, asked: Open, folder: Path | None) -> None:
        rules = parse_rules(parse_toml(asked.rules, "rules"), "rules")
        level = None if asked.level is None else parse_level(parse_toml(asked.level, "level"), "level")
        self.referee = Referee(rules, level=level, seed=asked.seed)
        self.server: Referee | Recorder
        self.server = self.referee if folder is None else Recorder(folder / asked.match, self.referee)
        self.failed = ""

    def close(self) -> None:
        """Put down what was recorded."""
        if isinstance(self.server, Recorder):
            self.server.close()


class Hub:
    """All matches of one process.

    record_to : a folder in which each match is recorded; None: none is
    evidence : the log that findings are appended to before their receipts go out, synced as the match's trust asks
    """

    def __init__(self, record_to: str | Path | None = None, evidence: EvidenceLog | None = None) -> None:
        self._evidence = evidence
        self._folder = None if record_to is None else Path(record_to)
        self.matches: dict[str, Match] = {}
        self.requests: Counter[str] = Counter()
        self.outcomes: Counter[str] = Counter()
        self.failures = 0

    def handle(self, frame: bytes | str) -> bytes | str:
        """Do what a frame asks; returns the reply, written as the frame was. Never raises."""
        as_json = isinstance(frame, str)
        try:
            asked: Request = FROM_JSON.decode(frame) if as_json else FROM_PACKED.decode(frame)  # type: ignore[arg-type]
        except (msgspec.DecodeError, RecursionError, ValueError, TypeError) as error:
            self.requests["unreadable"] += 1
            reply = Reply(_number(frame), ok=False, error=f"unreadable request: {error}"[:200])
        else:
            self.requests[type(asked).__name__.lower()] += 1
            reply = self._reply(asked)
        return TO_JSON(reply).decode() if as_json else TO_PACKED(reply)

    def _reply(self, asked: Request) -> Reply:
        """A mistake of the asker is told; a fault of ours loses that match and no other."""
        match = self.matches.get(asked.match)
        try:
            if isinstance(asked, Open):
                return self._open(asked, match)
            if match is None:
                return Reply(asked.request, ok=False, error=f"no match {asked.match!r} is open")
            if match.failed:
                return Reply(asked.request, ok=False, error=f"the match failed: {match.failed}", failed=True)
            return self._do(asked, match)
        except (TinClockError, msgspec.ValidationError) as error:
            return Reply(asked.request, ok=False, error=str(error))
        except Exception as error:  # whatever it is, the other matches go on
            self.failures += 1
            told = f"{type(error).__name__}: {error}"
            if match is not None:
                match.failed = told
            return Reply(asked.request, ok=False, error=told, failed=True)

    def _open(self, asked: Open, match: Match | None) -> Reply:
        if match is not None:
            return Reply(asked.request, ok=False, error=f"match {asked.match!r} is open already")
        if len(self.matches) >= MOST_MATCHES:
            return Reply(asked.request, ok=False, error=f"{MOST_MATCHES} matches are open; no more fit")
        self.matches[asked.match] = Match(asked, self._folder)
        return Reply(asked.request)

    def _do(self, asked: Request, match: Match) -> Reply:
        if isinstance(asked, Claims):
            return self._claims(asked, match)
        if isinstance(asked, Tick):
            return self._tick(asked, match)
        if isinstance(asked, Call):
            return self._call(asked, match)
        if isinstance(asked, Events):
            return Reply(asked.request, events=tuple(match.referee.events(since=asked.since)))
        if isinstance(asked, GetState):
            return Reply(asked.request, state=match.referee.state())
        if isinstance(asked, Close):
            match.close()
            del self.matches[asked.match]
        return Reply(asked.request)

    def _claims(self, asked: Claims, match: Match) -> Reply:
        for place, (_, received_at, _) in enumerate(asked.claims):  # before any is ruled: a receipt must not get lost
            if not math.isfinite(received_at):
                raise BadNumberError(f"claims[{place}]: received_at", "a finite number of seconds", received_at)
        ruled, server = [], match.server
        for connection, received_at, received in asked.claims:
            claim: Any = received if isinstance(server, Recorder) else decode_claim(received)
            ruling = server.rule(connection, claim, received_at=received_at)
            self.outcomes[ruling.outcome] += 1
            ruled.append(_told(ruling))
        self._note(asked.match, match, ruled)
        return Reply(asked.request, ruled=tuple(ruled))

    def _note(self, name: str, match: Match, ruled: list[Ruled]) -> None:
        """Append what was found to the evidence log."""
        found = [{"match": name, "ruling": row.number, "finding": f} for row in ruled for f in row.findings]
        if self._evidence is None:
            return
        policy = SYNC_OF.get(match.referee.rules.trust, "soon")
        try:
            self._evidence.append("finding", found, sync=policy)
            self._evidence.flush_if_due()
        except EvidenceError as error:
            self.failures += 1
            if policy == "each":  # no receipt without its record: the match can't go on
                raise RuntimeError(f"evidence can't be written: {error}") from error

    def _tick(self, asked: Tick, match: Match) -> Reply:
        ids, bones, starts = _poses(asked, match.referee)
        match.server.record(asked.tick, asked.server_time, ids, Packed(bones, starts))
        if asked.published:
            match.server.published(asked.tick)
        fired = match.server.advance(asked.server_time)
        self.outcomes.update(ruling.outcome for ruling in fired)
        told = [_told(ruling) for ruling in fired]
        self._note(asked.match, match, told)
        return Reply(asked.request, ruled=tuple(told))

    def _call(self, asked: Call, match: Match) -> Reply:
        if asked.call not in CALLS:
            return Reply(
                asked.request, ok=False, error=f"no call {asked.call!r}; there are: {', '.join(sorted(CALLS))}"
            )
        arguments = dict(asked.arguments)
        if arguments.get("drawing") is not None:
            arguments["drawing"] = msgspec.convert(arguments["drawing"], Drawing)
        try:
            answer = getattr(match.server, asked.call)(**arguments)
        except TypeError as error:  # a name or number of arguments that the call doesn't have
            return Reply(asked.request, ok=False, error=f"{asked.call}: {error}")
        if asked.call == "act":
            return Reply(asked.request, ruled=(_told(answer),))
        return Reply(asked.request, answer=answer)

    def close(self) -> None:
        """Close every match; what was recorded is whole afterwards."""
        for match in self.matches.values():
            try:
                match.close()
            except TinClockError:  # a full disk under one recording; the others are still to be closed
                self.failures += 1
        self.matches.clear()


def warm() -> None:
    """Load every kernel that a match needs, so that the first real request doesn't wait for them."""
    from tinclock.garden.scenario import data_file

    texts = [data_file(name).read_text(encoding="utf-8") for name in ("garden.toml", "garden_level.toml")]
    hub = Hub()
    hub._reply(Open(1, "warm", *texts))
    hub._reply(Call(2, "warm", "admit", {"connection": "c", "account": "a", "rig": "sprinkler"}))
    for tick in (0, 1):
        bones = np.tile(np.array([0, 0, 0, 0, 0, 0, 1], "<f4"), 2).tobytes()
        hub._reply(Tick(3, "warm", tick, tick / 64, np.array([1], "<i8").tobytes(), bones))
    shot = {"kind": "shot", "sequence": 1, "actor": 1, "weapon": "pea_rifle", "origin": [0.1, 0.0, 0.0],
            "direction": [1.0, 0.0, 0.0], "view": [0, 1, 0.5]}  # fmt: skip
    hub._reply(Claims(4, "warm", (("c", 0.1, msgspec.json.encode(shot)),)))
    hub.close()


def _number(frame: bytes | str) -> int:
    """The number of a request that is otherwise unreadable, 0 where even that is."""
    try:
        return (NUMBER_JSON.decode(frame) if isinstance(frame, str) else NUMBER_PACKED.decode(frame)).request
    except (msgspec.DecodeError, RecursionError, ValueError, TypeError):
        return 0


def _told(ruling: Any) -> Ruled:
    return Ruled(ruling.number, ruling.connection, ruling.outcome, ruling.receipt(), ruling.findings)


def _poses(asked: Tick, referee: Referee) -> tuple[Any, Any, Any]:
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
