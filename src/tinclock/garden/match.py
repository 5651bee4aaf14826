"""Playing a garden match: server ticks, clients' frames and the network between them, one seeded loop."""

from __future__ import annotations

import hashlib
from collections import deque
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.errors import RulesError
from tinclock.core.referee import Referee
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.timeline.views import Interpolation
from tinclock.garden.arms import Arms
from tinclock.garden.barrow import BarrowRun, Wheelbarrow
from tinclock.garden.crosshair import Crosshair
from tinclock.garden.fixtures import DRY_S, SPRINKLERS_AT, Door, Fixture, Sprinkler
from tinclock.garden.gait import Bodies, Gait, turn
from tinclock.garden.gardener import Gardener
from tinclock.garden.network import Path, Post
from tinclock.garden.played import BoundPoint, ClockPoint, Played
from tinclock.garden.scenario import WEAPONS, load_garden, seats
from tinclock.garden.screen import SentSnapshot
from tinclock.garden.walking import Ground, Walker
from tinclock.recordings.recorder import Recorder
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    import pathlib
    from collections.abc import Callable, Mapping

    from numpy.typing import NDArray

    from tinclock.core.combat.events import Event
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.garden.seat import TrueShot

PING_EVERY_S = 0.25
RESPAWN_S = 2.5
RIG = "gardener"
SENT_STEPS = 4096.0
"""Rounding of snapshots: steps per metre, and steps of a quaternion's component."""
LIFT = Bodies._fields.index("lift")
HEADER_BYTES = 40
BODY_BYTES = 230
"""Size of one body in a snapshot: 19 bones, 12 bytes each."""


def simulate_match(
    *,
    seed: int = 7,
    seconds: float = 20.0,
    players: int = 8,
    cheats: Mapping[str, Mapping[str, float]] | None = None,
    rules: Rules | None = None,
    scenario: str = "skirmish",
    record_to: str | pathlib.Path | None = None,
    on_ruling: Callable[[Referee, Ruling, object], None] | None = None,
    on_progress: Callable[[float], None] | None = None,
) -> Played:
    """Play and rule a match of gardeners. The same seed gives the same rulings.

    players : from 2 to 100
    cheats : what accounts do that is cheats, by account and kind, each with a strength up to 1; see `cheats.KINDS`
    rules : other rules than the scenario's own
    scenario : "skirmish", or "barrow": with a wheelbarrow to ride, healing, waves, phases and a barrel that bursts
    record_to : a folder for a recording; what is the truth about it is `Played`'s, never the recording's
    on_ruling : called with the referee, the ruling and its claim, while the poses it looked at are still in the history
    on_progress : called with the share that is done, about ten times a second of play
    """
    match = _Match(seed, seconds, players, cheats, rules, scenario, record_to, on_ruling)
    ticks = round(seconds * match.rate_hz)
    for tick in range(ticks):
        match.tick(tick)
        if on_progress is not None and tick % 6 == 0:
            on_progress(tick / ticks)
    match.settle(ticks)
    if on_progress is not None:
        on_progress(1.0)
    return Played(
        match.garden, match.seats, match.names, match.rulings, match.shots, match.events,
        np.array(match.paths, np.float32).reshape(ticks, len(match.seats), 2), seed, seconds,
        match.clocks, match.bounds, match.trails,
    )  # fmt: skip


class _Match:
    def __init__(
        self, seed: int, seconds: float, players: int, cheats: Mapping[str, Mapping[str, float]] | None,
        rules: Rules | None, scenario: str, record_to: str | pathlib.Path | None,
        on_ruling: Callable[[Referee, Ruling, object], None] | None,
    ) -> None:  # fmt: skip
        garden = load_garden(scenario)
        self._seed = seed
        self.garden = garden if rules is None else garden._replace(rules=rules)
        rules = self.garden.rules
        self.rate_hz, self._every = rules.match.tick_rate_hz, rules.match.snapshot_every
        self.seats = seats(players, seconds, np.random.default_rng([seed, 0]), cheats)
        self.referee = Referee(rules, level=self.garden.level, seed=seed)
        self._server: Referee | Recorder
        told = sorted((account, sorted(kinds.items())) for account, kinds in (cheats or {}).items())
        played = repr((seed, seconds, players, told, msgspec.json.encode(rules)))
        match = hashlib.sha256(played.encode()).hexdigest()[:32]  # the same match however often it is played
        self._server = self.referee if record_to is None else Recorder(record_to, self.referee, match=match)
        self._on_ruling = on_ruling
        rig = self.referee.history.rigs[RIG]
        self._gait = Gait(rig.bones, rig.rest)
        self._eye_bone, self._eye_at = rig.eye_bone, np.array(rig.eye_at)
        self._up, self._down = self._posts(seed)
        self._rig_of: dict[int, str] = {}
        crosshair = Crosshair(rules.rigs, self._rig_of, self.garden.boxes, self.garden.surfaces)
        self._ground = ground = Ground(self.garden.level)
        self.players = [self._admit(k, seed, ground, crosshair) for k in range(players)]
        self._number = {player.entity: k for k, player in enumerate(self.players)}
        self.entities = {player.entity: player.seat.account for player in self.players}
        self._fixtures = self._furnish()
        self.names = {**self.entities, **{fixture.entity: fixture.rig.replace("_", " ") for fixture in self._fixtures}}
        self._ids = [*self.entities, *(fixture.entity for fixture in self._fixtures)]
        self._meet()
        self._run = self._barrow_run(seconds) if scenario == "barrow" else None
        # how far the server's body trails the client's own: the trip of its inputs, and a little to ride out jitter
        self.trails = [int((p.seat.line.up_s + 2 * p.seat.line.jitter_s) * self.rate_hz) + 1 for p in self.players]
        self._states = [deque([p.walker.state], maxlen=128) for p in self.players]
        self._cut = np.zeros((players, 2))
        self._ruled: list[set[int]] = [set() for _ in range(players)]
        self._eyes = np.zeros((players, 3))
        self._back_at: dict[int, float] = {}
        self._landed: dict[int, tuple[float, float]] = {}
        """Places of riders who got off and whose clients don't know it yet."""
        self._asked: dict[int, float] = {}
        self.clocks: dict[str, list[ClockPoint]] = {seat.connection: [] for seat in self.seats}
        self.bounds: dict[str, list[BoundPoint]] = {seat.connection: [] for seat in self.seats}
        self.rulings: list[Ruling] = []
        self.shots: dict[tuple[str, int], TrueShot] = {}
        self.events: list[Event] = []
        self.paths: list[NDArray[np.float64]] = []

    def _posts(self, seed: int) -> tuple[Post, Post]:
        lines = [seat.line for seat in self.seats]
        up = [Path(line, line.up_s, np.random.default_rng([seed, 1, k])) for k, line in enumerate(lines)]
        down = [Path(line, line.down_s, np.random.default_rng([seed, 4, k])) for k, line in enumerate(lines)]
        return Post(up), Post(down)

    def _admit(self, k: int, seed: int, ground: Ground, crosshair: Crosshair) -> Gardener:
        seat, rules = self.seats[k], self.garden.rules
        rng = np.random.default_rng([seed, 2, k])
        walker = Walker(ground, np.random.default_rng([seed, 3, k]))
        entity = self._server.admit(
            connection=seat.connection, account=seat.account, team=seat.team, rig=RIG, name=seat.account,
            weapons=[name for name in WEAPONS if name in rules.weapons], weapon="grit_rifle",
            interpolation=Interpolation(interpolation_delay_s=seat.delay_s), server_time=0.0,
        )  # fmt: skip
        self._server.set_position(entity, (walker.x, walker.y, 0.0), 0.0)
        self._rig_of[entity] = RIG
        key = bytes.fromhex(self.referee.welcome(seat.connection).spread_key)
        arms = Arms({name: rules.weapons[name] for name in WEAPONS if name in rules.weapons}, key, "grit_rifle")
        return Gardener(seat, entity, ground, walker, crosshair, self.garden.level, arms, rng)

    def _barrow_run(self, seconds: float) -> BarrowRun:
        rules = self.garden.rules
        needs: dict[str, Mapping[str, object]]
        needs = {"rigs.wheelbarrow": rules.rigs, "counters.water": rules.counters, "items.watering_can": rules.items}
        needs |= {f"phases.{phase}": rules.phases for phase in ("warm_up", "play", "over")}
        missing = [f"{key}: the barrow run needs it" for key, table in needs.items() if key.split(".")[1] not in table]
        if missing:
            raise RulesError("rules", missing)
        barrow = next(fixture for fixture in self._fixtures if isinstance(fixture, Wheelbarrow))
        return BarrowRun(self._server, self.referee, barrow, [player.entity for player in self.players], seconds)

    def _furnish(self) -> list[Fixture]:
        rigs, out = self.referee.history.rigs, list[Fixture]()
        if Door.rig in rigs:
            out.append(Door(self._server))
        if Sprinkler.rig in rigs:
            out += [Sprinkler(self._server, rigs[Sprinkler.rig], at, 2.0 * k) for k, at in enumerate(SPRINKLERS_AT)]
        if Wheelbarrow.rig in rigs:
            out.append(Wheelbarrow(self._server, self._ground, np.random.default_rng([self._seed, 5])))
        self._rig_of.update({fixture.entity: fixture.rig for fixture in out})
        return out

    def _meet(self) -> None:
        """Tell every player who its enemies are: the other team, and what wets it."""
        wet = {f.entity: f.rig for f in self._fixtures if f.rig == Sprinkler.rig}
        for player in self.players:
            foes = {p.entity: RIG for p in self.players if p.seat.team != player.seat.team}
            player.enemies = {**foes, **wet}
            team = [p.entity for p in self.players if p.seat.team == player.seat.team]
            player.mates = tuple(entity for entity in team if entity != player.entity)

    # -- a tick -----------------------------------------------------------------------------------------------

    def tick(self, tick: int) -> None:
        """One server tick: mail, respawns, poses, a snapshot every other tick, then the clients' frames."""
        now = tick / self.rate_hz
        self._deliver(now)
        self._respawn(now)
        bodies = self._record(tick, now)
        for fixture in self._fixtures:
            ruling = fixture.act(now, self.referee.ledger.alive(fixture.entity))
            if ruling is not None:
                self._note(ruling, None)
        for ruling in self._server.advance(now):
            self._note(ruling, None)
        self._tell(tick, now, bodies)
        if tick % int(PING_EVERY_S * self.rate_hz) == 0:
            for k, player in enumerate(self.players):
                nonce = self._server.ping(player.seat.connection, now)
                self._asked[nonce] = now
                self._down.send(now, k, "ping", nonce, 40)
        self._frames(now)

    def settle(self, ticks: int) -> None:
        """Rule what is still under way, without moving on: the match is over."""
        end = (ticks - 1) / self.rate_hz
        self._deliver(end + 0.3)
        self.events += self.referee.events()
        if isinstance(self._server, Recorder):
            self._server.close()

    def _deliver(self, now: float) -> None:
        for parcel in self._down.arrived(now):
            player = self.players[parcel.client]
            client_time = player.seat.clock(parcel.arrives_at)
            if parcel.kind == "ping":
                at, client_time = player.lies.pong(parcel.arrives_at, client_time)
                self._up.send(at, parcel.client, "pong", (parcel.content, client_time), 40)
            elif parcel.kind == "receipt":
                player.told(parcel.content, client_time)
            else:
                player.shown(parcel.content, client_time)
        for parcel in self._up.arrived(now):
            self._take(parcel.client, parcel.kind, parcel.content, parcel.arrives_at)

    def _take(self, client: int, kind: str, content: Any, at: float) -> None:
        """Something that a client sent has arrived."""
        connection = self.seats[client].connection
        if kind == "pong":
            nonce, client_time = content
            if self._server.pong(connection, nonce, client_time, at) == "used":
                self._note_clock(client, nonce, client_time, at)
            return
        for sequence, received, again in content:
            if not (again and sequence in self._ruled[client]):
                self._ruled[client].add(sequence)
                self._rule(client, received, at)

    def _rule(self, client: int, received: bytes, at: float) -> None:
        connection, claim = self.seats[client].connection, decode_claim(received)
        given = received if isinstance(self._server, Recorder) else claim
        ruling = self._server.rule(connection, given, received_at=at)
        self._note(ruling, claim)
        if isinstance(claim, MoveClaim):
            if ruling.position is not None:
                self._cut[client] = (claim.position[0] - ruling.position[0], claim.position[1] - ruling.position[1])
        else:
            self._note_bounds(connection, claim, ruling)
        self._down.send(at, client, "receipt", ruling.receipt(), 90)

    def _note(self, ruling: Ruling, claim: object) -> None:
        self.rulings.append(ruling)
        if self._on_ruling is not None:
            self._on_ruling(self.referee, ruling, claim)

    def _note_clock(self, client: int, nonce: int, client_time: float, received_at: float) -> None:
        clock, asked = self.referee.clock(self.seats[client].connection), self._asked.pop(nonce)
        self.clocks[self.seats[client].connection].append(
            ClockPoint(
                server_time=received_at,
                round_trip_s=received_at - asked,
                offset_low_s=client_time - received_at,
                offset_high_s=client_time - asked,
                offset_s=clock.offset_s,
                offset_bound_s=clock.offset_bound_s,
                true_offset_s=self.seats[client].clock(received_at) - received_at,
                shortest_s=clock.round_trip_s,
                jitter_s=clock.jitter_s,
            )
        )

    def _note_bounds(self, connection: str, claim: object, ruling: Ruling) -> None:
        history, view = self.referee.history, getattr(claim, "view", None)
        if view is None or not (history.holds(view.from_tick) and history.holds(view.to_tick)):
            return
        claimed = ruling.received_at - history.time_of(view)
        ruled = float("nan") if ruling.rewound_s is None else ruling.rewound_s
        bounds = self.referee.view_bounds(connection)
        self.bounds[connection].append(BoundPoint(ruling.received_at, claimed, ruled, *bounds))

    def _respawn(self, now: float) -> None:
        for entity in [e for e, at in self._back_at.items() if at <= now]:
            del self._back_at[entity]
            self._server.spawn(entity, now)
            k = self._number.get(entity)
            if k is None:
                continue
            walker = self.players[k].walker
            walker.place_anew()
            self._states[k].clear()
            self._states[k].append(walker.state)
            self._cut[k] = 0.0
            self._server.set_position(entity, (walker.x, walker.y, 0.0), now)

    def _record(self, tick: int, now: float) -> list[NDArray[np.float64]]:
        for player, states in zip(self.players, self._states, strict=True):
            player.move(1.0 / self.rate_hz)
            states.append(player.walker.state)
        trailing = np.array(
            [states[max(0, len(states) - 1 - trail)] for states, trail in zip(self._states, self.trails, strict=True)]
        )
        trailing[:, :2] -= self._cut
        if self._run is not None:
            self._decide(self._run, now, trailing)
        current = np.array([player.walker.state for player in self.players])
        both = self._gait.bones(Bodies(*np.concatenate([trailing, current]).T))  # one call: they cost by the call
        feet = both[: len(trailing), 0, :2]
        own = both[len(trailing) :, self._eye_bone]
        self._eyes = own[:, :3] + turn(own[:, 3:], self._eye_at)
        alive = [self.referee.ledger.alive(player.entity) for player in self.players]
        extra = [fixture.step(now, 1.0 / self.rate_hz, feet[alive]) for fixture in self._fixtures]
        self._ground.barred = next((f.bars for f in self._fixtures if isinstance(f, Door)), None)
        # in the steps in which snapshots are sent, so that clients draw just what is recorded
        bodies = [np.rint(pose * SENT_STEPS) / SENT_STEPS for pose in (*both[: len(trailing)], *extra)]
        self._server.record(tick, now, self._ids, bodies)
        self.paths.append(np.where(np.array(alive)[:, None], feet, np.nan))
        return bodies

    def _decide(self, run: BarrowRun, now: float, bodies: NDArray[np.float64]) -> None:
        """Let the game's server decide, and put riders on what they ride. bodies : (players, fields), metres"""
        alive = {p.entity: k for k, p in enumerate(self.players) if self.referee.ledger.alive(p.entity)}
        riding = set(run.rides)
        feet = {entity: (float(bodies[k, 0]), float(bodies[k, 1])) for entity, k in alive.items()}
        run.step(now, 1.0 / self.rate_hz, feet)
        for entity in riding - set(run.rides):
            self._landed[self._number[entity]] = run.barrow.place
        for entity, (x, y, lift) in run.seats.items():
            k = self._number[entity]
            bodies[k, 0], bodies[k, 1], bodies[k, LIFT] = x, y, lift
        for k, (x, y) in list(self._landed.items()):
            walker = self.players[k].walker
            if not walker.sits:  # its client knows by now
                del self._landed[k]
                self._states[k].clear()
                self._states[k].append(walker.state)
                self._cut[k] = 0.0
            bodies[k, 0], bodies[k, 1], bodies[k, LIFT] = x, y, 0.0

    def _tell(self, tick: int, now: float, bodies: list[NDArray[np.float64]]) -> None:
        fresh = self.referee.events()
        self.events += fresh
        for event in fresh:
            if event.kind == "death":
                wait = RESPAWN_S if event.entity in self._number else DRY_S
                back_at = event.server_time + wait if self._run is None else self._run.back_at(event)
                self._back_at[event.entity] = back_at
        if tick % self._every:
            return
        self._server.snapshot_sent(tick)
        ledger = self.referee.ledger
        drawn = {
            entity: (ledger.life(entity), pose)
            for entity, pose in zip(self._ids, bodies, strict=True)
            if ledger.alive(entity)
        }
        health = {player.entity: ledger.health(player.entity) for player in self.players}
        game = None if self._run is None else self._run.state
        snapshot = SentSnapshot(tick, now, drawn, health, game)
        size = BODY_BYTES * len(drawn)
        for k in range(len(self.players)):
            self._down.send(now, k, "snapshot", snapshot, size)

    def _frames(self, now: float) -> None:
        for k, (player, eye) in enumerate(zip(self.players, self._eyes.tolist(), strict=True)):
            shot = player.frame(now, 1.0 / self.rate_hz, (eye[0], eye[1], eye[2]))
            if shot is not None:
                self.shots[player.seat.connection, shot.claim.sequence] = shot
            packet = player.mail.packet(player.seat.clock(now))
            if packet:
                self._up.send(now, k, "claims", packet, HEADER_BYTES + sum(len(item.claim) for item in packet))
