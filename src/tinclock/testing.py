"""For your tests: a match on a small stage, whose players stand where they are put and say the truth, or as told.

::

    stage = Stage(rules)
    stage.enter("ada", (0.0, 0.0, 0.0))
    stage.enter("bob", (12.0, 0.0, 0.0))
    stage.run(1.0)
    ruling = stage.shoot("ada", "bob", part="head")
    assert ruling.outcome == "accepted" and ruling.hits[0].part == "head"
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.arrays import require_shape
from tinclock.core.errors import UnknownNameError
from tinclock.core.referee import Referee
from tinclock.core.timeline.rooted import rooted_bones
from tinclock.core.timeline.views import Interpolation, View

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.vectors import Triple
    from tinclock.recordings.recorder import Recorder

ROUND_TRIP_S, DELAY_S, PINGS_EVERY_S, TELLS_EVERY_S = 0.05, 0.1, 0.25, 0.06
CLIENTS_CLOCK_S = 100.0
"""Time by which clients' clocks are ahead of the server's."""


class _Body:
    """Position, facing and speed of a player; `since` is the time of its position.

    round_trip_s, delay_s : its line, and how far behind the newest snapshot its client draws
    bones : a pose that it was given; eye : where its eye was when it was last alive
    """

    def __init__(self, entity: int, rig: str, place: Sequence[float], facing_rad: float) -> None:
        self.entity, self.rig, self.sequence = entity, rig, 0
        self.facing_rad, self.since = facing_rad, 0.0
        self.place, self.velocity = np.array(place, float), np.zeros(3)
        self.round_trip_s, self.delay_s = ROUND_TRIP_S, DELAY_S
        self.bones: np.ndarray | None = None
        self.eye: Triple | None = None

    def at(self, now: float) -> list[float]:
        """Root place and turn, as `rooted_bones` takes them."""
        x, y, z = self.place + self.velocity * (now - self.since)
        return [x, y, z, 0.0, 0.0, math.sin(self.facing_rad / 2.0), math.cos(self.facing_rad / 2.0)]


class Stage:
    """A match that a test plays: everybody is on a line of its own and draws the others a little late.

    rules : as in your server; level : None for open ground; seed : of everything random
    record_to : a folder to record the match in (extra `recordings`); `close` ends it, or the end of a `with`
    """

    def __init__(
        self, rules: Rules, *, level: Level | None = None, seed: int = 1, record_to: str | Path | None = None
    ) -> None:
        self.referee = Referee(rules, level=level, seed=seed)
        self._server: Referee | Recorder = self.referee
        if record_to is not None:
            from tinclock.recordings.recorder import Recorder

            self._server = Recorder(record_to, self.referee)
        self._bodies: dict[str, _Body] = {}
        self._asked: list[tuple[str, int, float]] = []
        self.tick = -1
        self.now = 0.0
        """Server time of the newest tick."""

    def __enter__(self) -> Stage:
        """For `with`: a recording is ended at its end."""
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the recording, if there is one."""
        if self._server is not self.referee:
            self._server.close()  # type: ignore[union-attr]

    @property
    def server(self) -> Referee | Recorder:
        """The match itself: what your server says to it, such as `heal` or `set_phase`, is recorded too."""
        return self._server

    # -- who is there -----------------------------------------------------------------------------------------

    def enter(
        self, name: str, place: Sequence[float] = (0.0, 0.0, 0.0), *, facing_rad: float = 0.0, team: str = "",
        rig: str | None = None, weapon: str | None = None, round_trip_s: float = ROUND_TRIP_S,
        delay_s: float = DELAY_S,
    ) -> int:  # fmt: skip
        """Let a player in, named and connected as `name`; returns its entity.

        place : metres, its foot; facing_rad : about z, 0 looks along +x
        rig : by default the first of the rules that takes damage; weapon : by default the first of the rules
        round_trip_s : of its line; delay_s : how far behind the newest snapshot its client draws
        """
        table = self.referee.rules.rigs
        body = rig or next(one for one, rules in table.items() if not rules.blocks_only)
        entity = self._server.admit(
            connection=name, account=name, name=name, team=team, rig=body, weapon=weapon, server_time=self.now,
            interpolation=Interpolation(interpolation_delay_s=delay_s),
        )  # fmt: skip
        if self.referee.rules.movement is not None:
            self._server.set_position(entity, (float(place[0]), float(place[1]), float(place[2])), self.now)
        made = self._bodies[name] = _Body(entity, body, place, facing_rad)
        made.round_trip_s, made.delay_s = round_trip_s, delay_s
        return entity

    def pose(self, name: str, bones: np.ndarray | None) -> None:
        """Pose a player's bones from now on; None lets it stand as its rig does, where it walks.

        bones : (bones, 7) float64, places in metres and quaternions xyzw, in the order of the rig's bones.

        Raises `BadArrayError` for another shape.
        """
        body = self._body(name)
        count = len(self.referee.history.rigs[body.rig].bones)
        body.bones = None if bones is None else require_shape("bones", bones, (count, 7), np.float64)

    def leave(self, name: str) -> None:
        """A player leaves."""
        self._body(name)
        self._server.dismiss(name, self.now)
        del self._bodies[name]

    def walk(self, name: str, velocity_m_s: Sequence[float], *, facing_rad: float | None = None) -> None:
        """Walk on from its position at a velocity, until the next call."""
        body = self._body(name)
        body.place, body.since = np.array(body.at(self.now)[:3]), self.now
        body.velocity = np.array(velocity_m_s, float)
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
            poses = [self._posed(body) for body in bodies]
            self._server.record(self.tick, self.now, [body.entity for body in bodies], poses)
            for body in bodies:
                body.eye = self.referee.history.eye_now(body.entity)
            if self.tick % match.snapshot_every == 0:
                self._server.snapshot_sent(self.tick)
            if self.tick % max(1, round(TELLS_EVERY_S * match.tick_rate_hz)) == 0:
                self._tell_screens()
            rulings += self._server.advance(self.now)
        return rulings

    def _tell_screens(self) -> None:
        """Let every client report its screen, as clients do before they shoot."""
        for name, body in self._bodies.items():
            if self.now - body.round_trip_s - body.delay_s >= self.referee.history.first_snapshot_time:
                stamp = self.now - body.round_trip_s / 2.0 + CLIENTS_CLOCK_S
                self._server.report_view(name, self.view(name=name), stamp, self.now)

    def _posed(self, body: _Body) -> np.ndarray:
        posed: np.ndarray = (
            body.bones
            if body.bones is not None
            else (rooted_bones(self.referee.history.rigs[body.rig], [body.at(self.now)])[0])
        )
        return posed

    def _answer_pings(self) -> None:
        for asked in list(self._asked):
            name, nonce, sent_at = asked
            trip = self._bodies[name].round_trip_s if name in self._bodies else 0.0
            if sent_at + trip <= self.now:
                self._asked.remove(asked)
                if name in self._bodies:
                    self._server.pong(name, nonce, sent_at + trip / 2.0 + CLIENTS_CLOCK_S, sent_at + trip)
        if self.tick % max(1, round(PINGS_EVERY_S * self.referee.rules.match.tick_rate_hz)) == 0:
            self._asked += [(name, self._server.ping(name, self.now), self.now) for name in self._bodies]

    def view(self, older_s: float = 0.0, name: str | None = None) -> View:
        """Return the view of a player's honest screen as it acts, so that the claim arrives now; or an older one.

        name : whose; without one, a screen on a line as `enter` makes it by default
        """
        round_trip_s, delay_s = ROUND_TRIP_S, DELAY_S
        if name is not None:
            round_trip_s, delay_s = self._body(name).round_trip_s, self._body(name).delay_s
        delay = round_trip_s + delay_s + older_s
        return self.referee.history.view_at(max(self.now - delay, self.referee.history.first_snapshot_time))

    # -- claims -----------------------------------------------------------------------------------------------

    def claim(self, name: str, kind: str, **fields: object) -> Ruling:
        """Send a claim as a client would, numbered, as `name` unless `actor` says otherwise; it is ruled at once.

        kind : "shot", "melee", "launch", "trigger", "weapon_action", "use", "move", "status", ...; fields : as in the
        claim
        """
        body = self._body(name)
        body.sequence += 1
        claim = {"kind": kind, "sequence": body.sequence, "actor": body.entity, **fields}
        data = msgspec.json.encode(claim)
        if self._server is not self.referee:
            return self._server.rule(name, data, received_at=self.now)
        return self.referee.rule(name, msgspec.json.decode(data), received_at=self.now)

    def shoot(
        self, name: str, at: str | Sequence[float], *, part: str | None = None, weapon: str | None = None,
        kind: str = "shot", **lies: Any,
    ) -> Ruling:  # fmt: skip
        """Claim a shot (or a strike, or a launch) at somebody as the screen shows it, or at a place.

        at : a player's name, or metres; part : which hitbox, by default the first
        weapon : by default the one in hand; lies : any fields of the claim, as they are to be said instead

        Somebody who is dead shoots from where it was. Raises `UnknownNameError` for somebody or something that isn't
        there at the view.
        """
        history, view = self.referee.history, lies.get("view") or self.view(name=name)
        eye = history.eye_now(self.entity(name)) or self._body(name).eye
        target = np.array(self._middle(at, part, view) if isinstance(at, str) else at, float)
        if eye is None:
            raise UnknownNameError("body in the newest tick", name, ())
        way = target - np.array(eye)
        state = self.referee.state().entity(self.entity(name))
        told = {
            "weapon": weapon or (state.weapon if state is not None else ""), "origin": eye,
            "direction": tuple((way / np.linalg.norm(way)).tolist()), "view": view, **lies,
        }  # fmt: skip
        return self.claim(name, kind, **told)

    def _middle(self, name: str, part: str | None, view: View) -> np.ndarray:
        """Return the middle of a hitbox on the screen."""
        boxes = self.referee.history.hitboxes_at(self.entity(name), view)
        if boxes is None:
            raise UnknownNameError("body at the view", name, ())
        if part is not None and part not in boxes.parts:
            raise UnknownNameError("part", part, boxes.parts)
        middle: np.ndarray = boxes.centres[0 if part is None else boxes.parts.index(part)]
        return middle
