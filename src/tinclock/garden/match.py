"""Playing a garden match: server ticks, clients' frames and the network between them, one seeded loop."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.combat.weapons import Weapon
from tinclock.core.referee import Referee
from tinclock.core.timeline.views import Drawing
from tinclock.garden.gait import Bodies, Gait, turn
from tinclock.garden.gardener import Gardener, Seat, Shot
from tinclock.garden.network import Post
from tinclock.garden.scenario import Garden, load_garden, seats
from tinclock.garden.screen import Crosshair, Snapshot
from tinclock.garden.walking import Ground, Walker

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from tinclock.core.claims import ShotClaim
    from tinclock.core.records import Event, Ruling

PING_EVERY_S = 0.25
RESPAWN_S = 2.5
RIG, WEAPON = "gardener", "pea_rifle"


class ClockPoint(NamedTuple):
    """What the referee knew of a connection's clock when an answer had come in, and the truth. Seconds."""

    server_time: float
    round_trip_s: float
    offset_low_s: float
    offset_high_s: float
    offset_s: float
    offset_bound_s: float
    true_offset_s: float
    shortest_s: float
    jitter_s: float


class BoundPoint(NamedTuple):
    """One claim's view against its bounds: ages on arrival, in seconds. ruled_s is nan where nothing was ruled."""

    server_time: float
    claimed_s: float
    ruled_s: float
    newest_s: float
    oldest_s: float
    cap_s: float


class Played(NamedTuple):
    """A match that was played.

    clocks, bounds : by connection, in order of time
    shots : what each claim's shooter saw, by (connection, sequence)
    paths : (ticks, players, 2) float32, metres, nan where dead: places in the plane, server's view
    """

    garden: Garden
    seats: list[Seat]
    entities: dict[int, str]
    rulings: list[Ruling]
    shots: dict[tuple[str, int], Shot]
    events: list[Event]
    paths: NDArray[np.float32]
    seed: int
    seconds: float
    clocks: dict[str, list[ClockPoint]]
    bounds: dict[str, list[BoundPoint]]

    def shot_of(self, ruling: Ruling) -> Shot | None:
        """What the shooter of a ruling saw; None for a claim nobody fired."""
        return self.shots.get((ruling.connection, ruling.sequence))

    def conduct_of(self, account: str) -> str:
        """Whether an account is honest, or what it does."""
        return next(seat.conduct for seat in self.seats if seat.account == account)


def play_match(
    *,
    seed: int = 7,
    seconds: float = 20.0,
    on_ruling: Callable[[Referee, Ruling, object], None] | None = None,
    on_progress: Callable[[float], None] | None = None,
) -> Played:
    """Play and rule a match of eight gardeners. The same seed gives the same rulings.

    on_ruling : called with the referee, the ruling and its claim, while the poses it looked at are still in the history
    on_progress : called with the share that is done, about ten times a second of play
    """
    match = _Match(seed, on_ruling)
    ticks = round(seconds * match.rate_hz)
    for tick in range(ticks):
        match.tick(tick)
        if on_progress is not None and tick % 6 == 0:
            on_progress(tick / ticks)
    match.settle(ticks)
    if on_progress is not None:
        on_progress(1.0)
    return Played(
        match.garden, match.seats, match.entities, match.rulings, match.shots, match.events,
        np.array(match.paths, np.float32).reshape(ticks, len(match.seats), 2), seed, seconds,
        match.clocks, match.bounds,
    )  # fmt: skip


class _Match:
    def __init__(self, seed: int, on_ruling: Callable[[Referee, Ruling, object], None] | None) -> None:
        rng = np.random.default_rng([seed, 0])
        self.garden = load_garden()
        rules = self.garden.rules
        self.rate_hz, self._every = rules.match.tick_rate_hz, rules.match.snapshot_every
        self.seats = seats(rng)
        self.referee = Referee(rules, level=self.garden.level, seed=seed)
        self._on_ruling = on_ruling
        rig = self.referee.history.rigs[RIG]
        self._gait = Gait(rig.bones, rig.rest)
        self._eye_bone, self._eye_at = rig.eye_bone, np.array(rig.eye_at)
        self._network_rng = np.random.default_rng([seed, 1])
        self._up, self._down = Post(), Post()
        ground = Ground(self.garden.level)
        weapon = Weapon(WEAPON, rules.weapons[WEAPON])
        crosshair = Crosshair(rules.rigs[RIG], self.garden.boxes, self.garden.surfaces, weapon.penetration)
        self.players = [self._admit(k, seed, ground, crosshair, weapon) for k in range(len(self.seats))]
        self.entities = {player.entity: player.seat.account for player in self.players}
        for player in self.players:
            player.others = {p.entity: p.seat.team for p in self.players if p is not player}
        # how far the server's body trails the client's own: the trip of its inputs, and a little to ride out jitter
        self._trail = [int((p.seat.line.up_s + 2 * p.seat.line.jitter_s) * self.rate_hz) + 1 for p in self.players]
        self._states = [deque([p.walker.state], maxlen=128) for p in self.players]
        self._eyes = np.zeros((len(self.players), 3))
        self._back_at: dict[int, float] = {}
        self._asked: dict[int, float] = {}
        self.clocks: dict[str, list[ClockPoint]] = {seat.connection: [] for seat in self.seats}
        self.bounds: dict[str, list[BoundPoint]] = {seat.connection: [] for seat in self.seats}
        self.rulings: list[Ruling] = []
        self.shots: dict[tuple[str, int], Shot] = {}
        self.events: list[Event] = []
        self.paths: list[NDArray[np.float64]] = []

    def _admit(self, k: int, seed: int, ground: Ground, crosshair: Crosshair, weapon: Weapon) -> Gardener:
        seat = self.seats[k]
        entity = self.referee.admit(
            connection=seat.connection,
            account=seat.account,
            team=seat.team,
            rig=RIG,
            weapon=WEAPON,
            drawing=Drawing(interpolation_delay_s=seat.delay_s),
        )
        rng = np.random.default_rng([seed, 2, k])
        walker = Walker(ground, np.random.default_rng([seed, 3, k]))
        return Gardener(seat, entity, walker, crosshair, weapon, float(rng.uniform(-300.0, 300.0)), rng)

    def tick(self, tick: int) -> None:
        """One server tick: mail, respawns, poses, a snapshot every other tick, then the clients' frames."""
        now = tick / self.rate_hz
        self._deliver(now)
        self._respawn(now)
        bones = self._record(tick, now)
        self._tell(tick, now, bones)
        if tick % int(PING_EVERY_S * self.rate_hz) == 0:
            for k, player in enumerate(self.players):
                nonce = self.referee.ping(player.seat.connection, now)
                self._asked[nonce] = now
                self._send_down(k, now, "ping", nonce)
        self._frames(now)

    def settle(self, ticks: int) -> None:
        """Rule what is still under way, without moving on: the match is over."""
        end = (ticks - 1) / self.rate_hz
        self._deliver(end + 0.3)
        self.events += self.referee.events()

    def _send_down(self, client: int, now: float, kind: str, content: object) -> None:
        line = self.seats[client].line
        self._down.send(now, line.down_s, line, self._network_rng, client, kind, content)

    def _send_up(self, client: int, now: float, kind: str, content: object) -> None:
        line = self.seats[client].line
        self._up.send(now, line.up_s, line, self._network_rng, client, kind, content)

    def _deliver(self, now: float) -> None:
        for parcel in self._down.arrived(now):
            player = self.players[parcel.client]
            client_time = parcel.arrives_at + player.clock_offset_s
            if parcel.kind == "ping":
                self._send_up(parcel.client, parcel.arrives_at, "pong", (parcel.content, client_time))
            else:
                player.told(parcel.content, client_time)
        for parcel in self._up.arrived(now):
            connection = self.seats[parcel.client].connection
            if parcel.kind == "pong":
                nonce, client_time = parcel.content
                if self.referee.pong(connection, nonce, client_time, parcel.arrives_at) == "used":
                    self._note_clock(parcel.client, nonce, client_time, parcel.arrives_at)
                continue
            ruling = self.referee.rule(connection, parcel.content, received_at=parcel.arrives_at)
            self.rulings.append(ruling)
            self._note_bounds(connection, parcel.content, ruling)
            if self._on_ruling is not None:
                self._on_ruling(self.referee, ruling, parcel.content)
            for hit in ruling.hits:
                if hit.lethal:
                    self._back_at[hit.victim] = ruling.received_at + RESPAWN_S

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
                true_offset_s=self.players[client].clock_offset_s,
                shortest_s=clock.round_trip_s,
                jitter_s=clock.jitter_s,
            )
        )

    def _note_bounds(self, connection: str, claim: ShotClaim, ruling: Ruling) -> None:
        history = self.referee.history
        view = claim.view
        if view is None or not (history.holds(view.from_tick) and history.holds(view.to_tick)):
            return
        claimed = ruling.received_at - history.time_of(view)
        ruled = float("nan") if ruling.rewound_s is None else ruling.rewound_s
        bounds = self.referee.view_bounds(connection)
        self.bounds[connection].append(BoundPoint(ruling.received_at, claimed, ruled, *bounds))

    def _respawn(self, now: float) -> None:
        for entity in [e for e, at in self._back_at.items() if at <= now]:
            del self._back_at[entity]
            k = next(k for k, player in enumerate(self.players) if player.entity == entity)
            self.players[k].walker.place_anew()
            self._states[k].clear()
            self._states[k].append(self.players[k].walker.state)
            self.referee.spawn(entity, now)

    def _record(self, tick: int, now: float) -> NDArray[np.float32]:
        for player, states in zip(self.players, self._states, strict=True):
            player.move(1.0 / self.rate_hz)
            states.append(player.walker.state)
        trailing = [
            states[max(0, len(states) - 1 - trail)] for states, trail in zip(self._states, self._trail, strict=True)
        ]
        current = [player.walker.state for player in self.players]
        both = self._gait.bones(Bodies(*np.array([*trailing, *current]).T))  # one call: small arrays cost by the call
        bones = both[: len(trailing)].astype(np.float32)
        own = both[len(trailing) :, self._eye_bone]
        self._eyes = own[:, :3] + turn(own[:, 3:], self._eye_at)
        self.referee.record(tick, now, [player.entity for player in self.players], bones)
        alive = np.array([self.referee.ledger.alive(player.entity) for player in self.players])
        self.paths.append(np.where(alive[:, None], bones[:, 0, :2], np.nan))
        return bones

    def _tell(self, tick: int, now: float, bones: NDArray[np.float32]) -> None:
        self.events += self.referee.events()
        if tick % self._every:
            return
        self.referee.published(tick)
        ledger = self.referee.ledger
        bodies = {
            player.entity: (ledger.life(player.entity), bones[k])
            for k, player in enumerate(self.players)
            if ledger.alive(player.entity)
        }
        snapshot = Snapshot(tick, now, bodies)
        for k in range(len(self.players)):
            self._send_down(k, now, "snapshot", snapshot)

    def _frames(self, now: float) -> None:
        for k, player in enumerate(self.players):
            shot = player.act(now, 1.0 / self.rate_hz, self._eyes[k])
            if shot is not None:
                self.shots[player.seat.connection, shot.claim.sequence] = shot
                self._send_up(k, now, "claim", shot.claim)
