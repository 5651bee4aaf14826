"""One match: who is in, where bodies are, what came of claims. No sockets here, so that tests can play it."""

from __future__ import annotations

import math
import secrets
from pathlib import Path

import msgspec
import numpy as np

import tinclock
from tinclock.wire import Gateway, client_rules

HERE = Path(__file__).parent
PLACES = ((-5.0, 0.0, 0.0), (5.0, 0.0, 0.0), (0.0, -5.0, 0.0), (0.0, 8.0, 0.0))
RESPAWN_S = 4.0


class Heading(msgspec.Struct):
    """Facing of a move's body, in radians from the x axis."""

    heading: float | None = None


def heading_of(data: bytes, before: float) -> float:
    """A move's own heading. It turns the body and nothing else, so any number will do, and nothing else will."""
    try:
        heading = msgspec.json.decode(data, type=Heading).heading
    except (msgspec.DecodeError, UnicodeDecodeError):
        return before
    return before if heading is None or not math.isfinite(heading) else math.remainder(heading, math.tau)


class Arena:
    """A match. `now` is always server time: seconds since it began."""

    def __init__(self, *, seed: int | None = None, record_to: Path | None = None) -> None:
        self.rules = tinclock.load_rules(HERE / "rules.toml")
        level = tinclock.load_level(HERE / "level.toml")
        # who knows the seed can work out everybody's spread: a fresh one a match, told to nobody
        self.referee = tinclock.Referee(self.rules, level=level, seed=secrets.randbits(64) if seed is None else seed)
        self.recorder = None if record_to is None else tinclock.recordings.Recorder(record_to, self.referee)
        self.server = self.recorder or self.referee  # the same calls; the recorder keeps them
        self.digests = client_rules(self.rules).digests
        self.gateways: dict[str, Gateway] = {}
        self.entities: dict[str, int] = {}
        self.facing: dict[int, float] = {}
        self.died: dict[int, float] = {}
        self.tick = -1
        self.last_ruling = 0

    def join(self, connection: str, account: str, team: str = "") -> int:
        """Admit a player that you have checked; `connection` is yours, never what a client says."""
        entity = self.server.admit(connection=connection, account=account, team=team, rig="walker", weapon="popper")
        self.server.set_position(entity, PLACES[entity % len(PLACES)])
        self.entities[connection], self.facing[entity] = entity, 0.0
        self.gateways[connection] = Gateway(self.server, connection, account=account, digests=self.digests)
        return entity

    def leave(self, connection: str) -> None:
        """Gone at once: nobody can hit that body any more, at any view."""
        self.server.dismiss(connection)
        del self.gateways[connection], self.entities[connection]

    def receive(self, connection: str, data: bytes, now: float) -> bytes | None:
        """A message came: join, pong or claim, JSON or MessagePack. Returns what to answer; it never raises."""
        gateway = self.gateways[connection]
        answer = gateway.receive(data, now)
        ruling = gateway.last_ruling
        if ruling is not None:
            self.last_ruling = ruling.number
        if ruling is not None and ruling.direction is not None:
            self.facing[ruling.entity] = math.atan2(ruling.direction[1], ruling.direction[0])
        elif ruling is not None and ruling.kind == "move" and ruling.outcome != "rejected":
            self.facing[ruling.entity] = heading_of(data, self.facing[ruling.entity])
        if ruling is not None and ruling.findings:
            print(ruling.explain())  # for you: why. A client is never told that
        return answer

    def step(self, now: float) -> list[tinclock.Event]:
        """One tick: poses, snapshot, held triggers, respawns. Returns what everybody is to be told."""
        self.tick += 1
        self._respawn(now)
        ids = sorted(self.entities.values())
        rig = self.referee.history.rigs["walker"]
        self.server.record(self.tick, now, ids, tinclock.rooted_bones(rig, self._roots(ids)))
        if self.tick % self.rules.match.snapshot_every == 0:
            self.server.snapshot_sent(self.tick)
        self.server.advance(now)
        events = self.referee.events()
        self.died |= {event.entity: now for event in events if event.kind == "death"}
        return events

    def _roots(self, ids: list[int]) -> np.ndarray:
        """Position and facing of each body. Games with animations give `record` every bone instead."""
        turns = [(math.sin(self.facing[e] / 2), math.cos(self.facing[e] / 2)) for e in ids]
        rows = [[*self.place(e), 0.0, 0.0, *turn] for e, turn in zip(ids, turns, strict=True)]
        return np.array(rows).reshape(-1, 7)

    def place(self, entity: int) -> tuple[float, float, float]:
        """Return the accepted position of a body."""
        place = self.referee.position(entity)
        assert place is not None  # everybody was put somewhere
        return place

    def _respawn(self, now: float) -> None:
        for entity, at in list(self.died.items()):
            if now - at >= RESPAWN_S:
                del self.died[entity]
                if entity in self.entities.values():
                    self.server.spawn(entity, now)
                    self.server.set_position(entity, PLACES[secrets.randbelow(len(PLACES))], now)
