"""A match that another server logged, put to a referee in the order in which it happened, and recorded."""

from __future__ import annotations

import hashlib
from shutil import rmtree
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec
from msgspec.structs import replace

from tinclock.core.errors import LogError, TinClockError
from tinclock.core.referee import Referee
from tinclock.core.timeline.views import Interpolation
from tinclock.intake.settings import without_deaths
from tinclock.recordings.recorder import Recorder

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.intake.logs.reading import Logs
    from tinclock.intake.logs.records import LoggedClaim, LoggedPing, LoggedPlayer, LoggedSpawn

# What happens first where times are equal: who joins is there for the tick, and a claim sees the tick of its instant.
JOIN, SPAWN, PING, TICK, PONG, CLAIM, LEAVE = range(7)


class FromLogs(NamedTuple):
    """Result of a logged match.

    entities : the last one of each player, by the logs' own id
    rulings : with where in the logs each claim stood, in order
    ended_s : server time of the last tick
    """

    entities: dict[str, int]
    rulings: list[tuple[str, Ruling]]
    ended_s: float


def record_logs(
    logs: Logs, rules: Rules, path: Path, *, level: Level | None = None, seed: int = 0, no_deaths: bool = False,
    on_progress: Callable[[float], None] | None = None,
) -> FromLogs:  # fmt: skip
    """Rule on everything that was claimed and record it all.

    Where the logs don't tell of weapons taken in hand and reloaded, each is at hand when it is used and never empty.


    path : a folder that doesn't exist yet
    no_deaths : with so much health that nobody dies, so that each claim is judged by itself: the other server's deaths
        are not in its logs, or came of other rules

    Raises `RecordingError` for the folder, `LogError` for logs whose order no match can have.
    """
    if no_deaths:
        rules = without_deaths(rules)
    if not logs.handled:
        rules = _never_empty(rules)
    rules = replace(rules, match=replace(rules.match, rejoin="new"))  # logs don't tell what one came back with
    recorder = Recorder(path, Referee(rules, level=level, seed=seed), match=_identity_of(logs))
    try:
        with recorder:
            return _Play(recorder, logs).run(on_progress)
    except LogError:  # half a match would only be in the way of the next try
        rmtree(path, ignore_errors=True)
        raise


def _identity_of(logs: Logs) -> str:
    """Return an identity that a match has however often its logs are taken over, and by whatever rules."""
    digest = hashlib.sha256(repr((sorted(logs.players), logs.claims, logs.poses.names)).encode())
    digest.update(logs.poses.times.tobytes())
    digest.update(logs.poses.poses.tobytes())
    return digest.hexdigest()[:32]


def _never_empty(rules: Rules) -> Rules:
    never = {
        "magazine": None,
        "reserve": None,
        "reload_s": 0.0,
        "reload_interruptible": False,
        "reload_when_empty": False,
    }
    weapons = {name: msgspec.structs.replace(one, **never) for name, one in rules.weapons.items()}

    return msgspec.structs.replace(rules, weapons=weapons)


class _Play:
    def __init__(self, recorder: Recorder, logs: Logs) -> None:
        self.to, self.logs = recorder, logs
        self.entities: dict[str, int] = {}
        self.rulings: list[tuple[str, Ruling]] = []
        self.flown: dict[str, int] = {}
        self.sequences: dict[str, int] = {}
        self.nonces: dict[int, tuple[int, int]] = {}
        self.issued: dict[str, int] = {}
        self.in_hand: dict[str, str] = {}
        self.weapon: dict[str, str | None] = {}
        self.placed: dict[str, bool] = {}

    def run(self, on_progress: Callable[[float], None] | None) -> FromLogs:
        steps = sorted(self._steps(), key=lambda step: step[:2])
        for number, (at, what, one) in enumerate(steps):
            try:
                self._do(at, what, one)
            except LogError:
                raise
            except TinClockError as error:
                raise LogError([f"{_described(what, one)} at {at:.3f} s of server time: {error}"]) from error
            if on_progress is not None and number % 256 == 0:
                on_progress(number / len(steps))
        times = self.logs.poses.times
        return FromLogs(self.issued, self.rulings, float(times[-1]) if len(times) else 0.0)

    def _steps(self) -> list[tuple[float, int, Any]]:
        logs, poses = self.logs, self.logs.poses
        first = float(poses.times[0]) if len(poses.times) else 0.0
        steps: list[tuple[float, int, Any]] = []
        for name, sessions in logs.players.items():
            for player in sessions:
                steps.append((first if player.joins is None else player.joins, JOIN, (name, player)))
                if player.leaves is not None:
                    steps.append((player.leaves, LEAVE, (name, player)))
        steps += [(at, TICK, index) for index, at in enumerate(poses.times.tolist())]
        steps += [(spawn.server_time, SPAWN, spawn) for spawn in logs.spawns]
        for ping in logs.pings:
            steps += [(ping.sent_at, PING, ping), (ping.received_at, PONG, ping)]
        return [*steps, *((claim.received_at, CLAIM, claim) for claim in logs.claims)]

    def _do(self, at: float, what: int, one: Any) -> None:
        if what == TICK:
            self._tick(one)
        elif what == CLAIM:
            self._claim(one)
        elif what == JOIN:
            name, player = one
            self._join(name, player, at)
        elif what == PING:
            self._ping(one)
        elif what == PONG:
            entity, nonce = self.nonces.pop(id(one), (0, 0))
            if entity and self.entities.get(one.player) == entity:  # who came back answers no ping of before
                self.to.pong(one.player, nonce, one.client_time, at)
        elif what == SPAWN:
            self._spawn(one)
        else:
            name, player = one
            self._leave(name, player, at)

    def _join(self, name: str, player: LoggedPlayer, at: float) -> None:
        self.sequences.pop(name, None)
        self.in_hand.pop(name, None)
        self.placed[name], self.weapon[name] = player.placed, player.weapon
        self.entities[name] = self.issued[name] = self._enter(name, player, at)

    def _enter(self, name: str, player: LoggedPlayer, at: float) -> int:
        if player.placed:
            return self.to.add_entity(
                player.rig, team=player.team, name=name, weapon=player.weapon or "", server_time=max(at, 0.0)
            )
        interpolation = None if player.interpolation_delay_s is None else Interpolation(player.interpolation_delay_s)
        return self.to.admit(
            connection=name, account=player.account, team=player.team, rig=player.rig, name=name,
            weapon=player.weapon, interpolation=interpolation, server_time=max(at, 0.0),
        )  # fmt: skip

    def _spawn(self, spawn: LoggedSpawn) -> None:
        entity = self.entities.get(spawn.player)
        if entity is None:
            return
        if spawn.server_time > 0.0:  # joining begins the first life
            self.to.spawn(entity, spawn.server_time)
        if spawn.position is not None:
            self.to.set_position(entity, spawn.position, spawn.server_time)

    def _leave(self, name: str, player: LoggedPlayer, at: float) -> None:
        entity = self.entities.pop(name)
        if player.placed:
            self.to.remove(entity, at)
        else:
            self.to.dismiss(name, at)

    def _tick(self, index: int) -> None:
        poses = self.logs.poses
        tick, at = int(poses.ticks[index]), float(poses.times[index])
        bodies = {self.entities[name]: bones for name, bones in poses.bodies(index).items() if name in self.entities}
        self.to.record(tick, at, list(bodies), list(bodies.values()))
        if poses.published[index]:
            self.to.snapshot_sent(tick, at)
        self.rulings += [("(fired by the server)", ruling) for ruling in self.to.advance(at)]

    def _ping(self, ping: LoggedPing) -> None:
        if ping.player in self.entities:
            nonce = self.to.ping(ping.player, ping.sent_at)
            self.nonces[id(ping)] = self.entities[ping.player], nonce

    def _claim(self, claim: LoggedClaim) -> None:
        fields = dict(claim.fields)
        self.sequences[claim.player] = fields.setdefault("sequence", self.sequences.get(claim.player, 0) + 1)
        for key in ("victim", "target"):
            if key in fields:
                fields[key] = self.entities.get(fields[key], 0)
        if claim.kind == "impact":
            fields["projectile"] = self.flown.get(claim.projectile or "", 0)
        self._at_hand(claim)
        said = {"kind": claim.kind, "actor": self.entities.get(claim.player, 0), **fields}
        if self.placed.get(claim.player, False):
            ruling = self.to.act(said["actor"], said, server_time=claim.received_at)
        else:
            ruling = self.to.rule(claim.player, msgspec.json.encode(said), received_at=claim.received_at)
        self.rulings.append((claim.where, ruling))
        launched = ruling.state.projectiles if ruling.state is not None and claim.kind == "launch" else ()
        if claim.projectile and launched:
            self.flown[claim.projectile] = launched[0]

    def _at_hand(self, claim: LoggedClaim) -> None:
        """Take the weapon that a claim names as the one in hand, where logs don't tell."""
        weapon, player = claim.fields.get("weapon"), claim.player
        rules = self.to.referee.rules
        if self.logs.handled or player not in self.entities or weapon not in rules.weapons:
            return
        if self.in_hand.get(player, self.weapon[player]) != weapon:
            self.to.set_weapon(self.entities[player], str(weapon), claim.received_at)
        self.in_hand[player] = str(weapon)


def _described(what: int, one: Any) -> str:
    if what == TICK:
        return f"pose {one + 1}"
    if what in (JOIN, LEAVE):
        return str(one[0])
    return str(getattr(one, "where", None) or getattr(one, "player", None) or one)
