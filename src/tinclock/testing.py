"""For your tests: a match on a small stage, whose players stand where they are put and say the truth, or as told.

::

    stage = Stage(rules)
    stage.enter("ada", (0.0, 0.0, 0.0))
    stage.enter("bob", (12.0, 0.0, 0.0))
    stage.run(1.0)
    ruling = stage.shoot("ada", "bob", part="head")
    assert ruling.outcome == "upheld" and ruling.hits[0].part == "head"
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.errors import UnknownNameError
from tinclock.core.referee import Referee
from tinclock.core.timeline.rooted import rooted_bones
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling

ROUND_TRIP_S, PINGS_EVERY_S = 0.05, 0.25
CLIENTS_CLOCK_S = 100.0
"""How far clients' clocks are ahead of the server's."""


class _Body:
    """Where somebody stands, faces, and what it walks at; `since` is the time of its place."""

    def __init__(self, entity: int, rig: str, place: Sequence[float], facing_rad: float) -> None:
        self.entity, self.rig, self.sequence = entity, rig, 0
        self.facing_rad, self.since = facing_rad, 0.0
        self.place, self.velocity = np.array(place, float), np.zeros(3)

    def at(self, now: float) -> list[float]:
        """Root place and turn, as `rooted_bones` takes them."""
        x, y, z = self.place + self.velocity * (now - self.since)
        return [x, y, z, 0.0, 0.0, math.sin(self.facing_rad / 2.0), math.cos(self.facing_rad / 2.0)]


class Stage:
    """A match that a test plays: everybody is on a line with a round trip of 50 ms and draws the others 100 ms late.

    rules : as in your server; level : None for open ground; seed : of everything random
    """

    def __init__(self, rules: Rules, *, level: Level | None = None, seed: int = 1) -> None:
        self.referee = Referee(rules, level=level, seed=seed)
        self._bodies: dict[str, _Body] = {}
        self._asked: list[tuple[str, int, float]] = []
        self.tick = -1
        self.now = 0.0
        """Server time of the newest tick."""

    # -- who is there -----------------------------------------------------------------------------------------

    def enter(
        self, name: str, place: Sequence[float] = (0.0, 0.0, 0.0), *, facing_rad: float = 0.0, team: str = "",
        rig: str | None = None, weapon: str | None = None,
    ) -> int:  # fmt: skip
        """Let a player in, named and connected as `name`; returns its entity.

        place : metres, its foot; facing_rad : about z, 0 looks along +x
        rig : by default the first of the rules that takes damage; weapon : by default the first of the rules
        """
        table = self.referee.rules.rigs
        body = rig or next(one for one, rules in table.items() if not rules.blocks_only)
        entity = self.referee.admit(
            connection=name, account=name, name=name, team=team, rig=body, weapon=weapon, server_time=self.now
        )
        if self.referee.rules.movement is not None:
            self.referee.put(entity, (float(place[0]), float(place[1]), float(place[2])), self.now)
        self._bodies[name] = _Body(entity, body, place, facing_rad)
        return entity

    def leave(self, name: str) -> None:
        """A player leaves."""
        self._body(name)
        self.referee.dismiss(name, self.now)
        del self._bodies[name]

    def walk(self, name: str, velocity: Sequence[float], *, facing_rad: float | None = None) -> None:
        """A player walks on from where it is, in metres a second, until told otherwise."""
        body = self._body(name)
        body.place, body.since = np.array(body.at(self.now)[:3]), self.now
        body.velocity = np.array(velocity, float)
        body.facing_rad = body.facing_rad if facing_rad is None else facing_rad

    def _body(self, name: str) -> _Body:
        if name not in self._bodies:
            raise UnknownNameError("player on the stage", name, self._bodies)
        return self._bodies[name]

    def entity(self, name: str) -> int:
        """A player's entity."""
        return self._body(name).entity

    def health(self, name: str) -> float:
        """A player's health."""
        return self.referee.ledger.health(self.entity(name))

    # -- time -------------------------------------------------------------------------------------------------

    def run(self, seconds: float) -> list[Ruling]:
        """Let time pass, tick by tick; returns what the server fired and flew meanwhile."""
        match = self.referee.rules.match
        rulings: list[Ruling] = []
        for _ in range(max(1, round(seconds * match.tick_rate_hz))):
            self.tick += 1
            self.now = self.tick / match.tick_rate_hz
            self._answer_pings()
            bodies = [body for body in self._bodies.values() if self.referee.ledger.alive(body.entity)]
            rigs = self.referee.history.rigs
            poses = [rooted_bones(rigs[body.rig], [body.at(self.now)])[0] for body in bodies]
            self.referee.record(self.tick, self.now, [body.entity for body in bodies], poses)
            if self.tick % match.snapshot_every == 0:
                self.referee.published(self.tick)
            rulings += self.referee.advance(self.now)
        return rulings

    def _answer_pings(self) -> None:
        for name, nonce, sent_at in [one for one in self._asked if one[2] + ROUND_TRIP_S <= self.now]:
            self._asked.remove((name, nonce, sent_at))
            if name in self._bodies:
                client_time = sent_at + ROUND_TRIP_S / 2.0 + CLIENTS_CLOCK_S
                self.referee.pong(name, nonce, client_time, sent_at + ROUND_TRIP_S)
        if self.tick % max(1, round(PINGS_EVERY_S * self.referee.rules.match.tick_rate_hz)) == 0:
            self._asked += [(name, self.referee.ping(name, self.now), self.now) for name in self._bodies]

    def view(self, older_s: float = 0.0) -> View:
        """What an honest screen shows as its player acts, so that the claim arrives now; or something older."""
        delay = ROUND_TRIP_S + 0.1 + older_s
        return self.referee.history.view_at(max(self.now - delay, self.referee.history.first_snapshot_time))

    # -- claims -----------------------------------------------------------------------------------------------

    def say(self, name: str, kind: str, **fields: object) -> Ruling:
        """Send a claim as a client would, numbered, as `name` unless `actor` says otherwise; it is ruled at once.

        kind : "shot", "strike", "launch", "trigger", "handle", "use", "move", "status", ...; fields : as in the claim
        """
        body = self._body(name)
        body.sequence += 1
        claim = {"kind": kind, "sequence": body.sequence, "actor": body.entity, **fields}
        return self.referee.rule(name, msgspec.json.decode(msgspec.json.encode(claim)), received_at=self.now)

    def shoot(
        self, name: str, at: str | Sequence[float], *, part: str | None = None, weapon: str | None = None,
        kind: str = "shot", **lies: Any,
    ) -> Ruling:  # fmt: skip
        """Claim a shot (or a strike, or a launch) at somebody as the screen shows it, or at a place.

        at : a player's name, or metres; part : which hitbox, by default the first
        weapon : by default the one in hand; lies : any fields of the claim, as they are to be said instead

        Raises `UnknownNameError` for somebody or something that isn't there at the view.
        """
        history, view = self.referee.history, lies.get("view") or self.view()
        eye = history.eye_now(self.entity(name))
        target = np.array(self._middle(at, part, view) if isinstance(at, str) else at, float)
        if eye is None:
            raise UnknownNameError("body in the newest tick", name, ())
        way = target - np.array(eye)
        state = self.referee.state().entity(self.entity(name))
        told = {
            "weapon": weapon or (state.weapon if state is not None else ""), "origin": eye,
            "direction": tuple((way / np.linalg.norm(way)).tolist()), "view": view, **lies,
        }  # fmt: skip
        return self.say(name, kind, **told)

    def _middle(self, name: str, part: str | None, view: View) -> np.ndarray:
        """Where the middle of somebody's hitbox is on the screen."""
        boxes = self.referee.history.hitboxes_at(self.entity(name), view)
        if boxes is None:
            raise UnknownNameError("body at the view", name, ())
        if part is not None and part not in boxes.parts:
            raise UnknownNameError("part", part, boxes.parts)
        middle: np.ndarray = boxes.centres[0 if part is None else boxes.parts.index(part)]
        return middle
