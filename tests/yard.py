"""A yard with a wall, stairs and one client that reports its moves: honest players, and one who spends allowances.

The spender has read the source. It knows at once where the server has its body, has a steady line that answers every
ping, and claims as much as it likes: the server's cuts show the most that any claim gets. Metres and seconds.
"""

from __future__ import annotations

import heapq
import math
from collections import Counter
from typing import Any, NamedTuple

import msgspec
import numpy as np

import tinclock
from tinclock.garden.network import Path, line_of
from tinclock.garden.scenario import data_file
from tinclock.wire.codec import decode_claim

RULES = tinclock.load_rules(data_file("garden.toml"))
SPEED, JUMP, GRAVITY = 5.0, 0.55, 9.81
TRIP_S, AHEAD_S = 0.02, 100.0
"""One way of the spender's line, and its clock's offset."""
LAG_S = 2 * TRIP_S + 0.1
"""Age of the spender's views on arrival."""
WALL_X = 29.95


def yard() -> tinclock.Level:
    """Flat ground with a wall at x = 30."""
    return tinclock.Level.from_boxes([[0, 0, -0.5], [30, 0, 1.0]], [[200, 200, 0.5], [0.05, 50, 2.0]])


def stairs() -> tinclock.Level:
    """Five stairs up along x, each 5 m long and 0.3 m high, and a drop at their end."""
    steps = [[10 + 5 * k, 0, 0.15 * (k + 1)] for k in range(5)]
    sizes = [[2.5, 300, 0.15 * (k + 1)] for k in range(5)]
    return tinclock.Level.from_boxes([[0, 0, -0.5], *steps], [[300, 300, 0.5], *sizes])


def height(x: float) -> float:
    """The stairs' height."""
    return 0.3 * (int((x - 7.5) // 5) + 1) if 7.5 <= x < 32.5 else 0.0


def rules_with(**changes: Any) -> tinclock.Rules:
    """The garden's rules with other values of whole tables' keys, as movement={"tolerance_m": 0.0}."""
    tables = {
        table: values if table == "strictness" else msgspec.structs.replace(getattr(RULES, table), **values)
        for table, values in changes.items()
    }
    return msgspec.structs.replace(RULES, **tables)


STRICT = rules_with(movement={"tolerance_m": 0.02, "time_tolerance_s": 0.15}, muzzle={"reach_m": 0.4},
                    fire_rate={"tolerance_s": 0.08})  # fmt: skip
NONE = rules_with(movement={"tolerance_m": 0.0, "rounding_m": 0.0, "skin_m": 0.0})


class Yard:
    """A match with one body that its client moves, `body`, on a steady line.

    as_bytes : claims arrive encoded; answers : pings are answered; dither_s : every second pong is so late
    """

    def __init__(
        self, rules: tinclock.Rules = RULES, level: tinclock.Level | None = None, start: tuple[float, float, float]
        = (0.0, 0.0, 0.0), *, as_bytes: bool = False, answers: bool = True, dither_s: float = 0.0,
    ) -> None:  # fmt: skip
        self.referee = tinclock.Referee(rules, level=level or yard(), seed=1)
        self.body = self.referee.admit(connection="c", account="a", team="copper", rig="gardener")
        self.rest = self.referee.history.rigs["gardener"].rest
        self.referee.set_position(self.body, start, 0.0)
        self.as_bytes, self.answers, self.dither_s = as_bytes, answers, dither_s
        self.others: dict[int, tuple[float, float, float]] = {}
        self.tick = self.sequence = 0
        self.codes: Counter[str] = Counter()
        self._pings: list[tuple[float, int]] = []
        self.until(5.0)

    @property
    def place(self) -> tuple[float, float, float]:
        """Where the server has the body."""
        return self.referee.position(self.body)

    def pose(self, place: tuple[float, float, float]) -> np.ndarray:
        return np.hstack([self.rest + place, np.tile([0.0, 0.0, 0.0, 1.0], (len(self.rest), 1))])

    def until(self, at: float) -> None:
        """Let the server run to a time: ticks at 64 Hz, every second one sent, four pings a second."""
        while self.tick / 64 <= at:
            now = self.tick / 64
            places = {self.body: self.place, **self.others}
            self.referee.record(self.tick, now, list(places), np.stack([self.pose(p) for p in places.values()]))
            if self.tick % 2 == 0:
                self.referee.snapshot_sent(self.tick)
            if self.tick % 4 == 0 and now > LAG_S:
                view = self.referee.history.view_at(now - LAG_S)
                self.referee.report_view("c", view, now - TRIP_S + AHEAD_S, now)
            if self.tick % 16 == 0 and self.answers:
                late = self.dither_s * (self.tick // 16 % 2)
                self._pings.append((now + 2 * TRIP_S + late, self.referee.ping("c", now)))
            while self._pings and self._pings[0][0] <= now:
                back, nonce = self._pings.pop(0)
                self.referee.pong("c", nonce, back - TRIP_S + AHEAD_S, back)
            self.tick += 1

    def say(self, at: float, kind: type, **fields: Any) -> tinclock.Ruling:
        """A claim arrives."""
        self.until(at)
        self.sequence += 1
        claim: Any = kind(sequence=self.sequence, actor=self.body, **fields)
        if self.as_bytes:
            claim = decode_claim(msgspec.msgpack.encode(claim))
        ruling = self.referee.rule("c", claim, received_at=at)
        self.codes.update(finding.code for finding in ruling.findings)
        return ruling

    def move(self, at: float, place: tuple[float, float, float], stamp: float | None = None) -> tuple[float, ...]:
        """A move report arrives, stamped as honest unless it says otherwise; returns the accepted place."""
        stamp = at - TRIP_S if stamp is None else stamp
        place = (float(place[0]), float(place[1]), float(place[2]))
        self.say(at, tinclock.claims.MoveClaim, position=place, client_time=stamp + AHEAD_S)
        return self.place


# -- the spender --------------------------------------------------------------------------------------------------


class Way(NamedTuple):
    """How somebody spends: reports a second, how far ahead of its speed each claims, how fast its clock runs,
    and every how many seconds it is silent for how long.
    """

    rate: int = 64
    ahead_m: float = 2.5
    fast: float = 1.0
    every_s: float = math.inf
    silent_s: float = 0.0


def distance(rules: tinclock.Rules, way: Way, seconds: float = 20.0, **more: Any) -> float:
    """Metres a second that a runner along x gets."""
    game = Yard(rules, start=(-100.0, 50.0, 0.0), **more)
    at = stamp = 5.0
    x, quiet = -100.0, way.every_s
    while at < 5.0 + seconds:
        step = 1.0 / way.rate
        if at - 5.0 > quiet:
            step, quiet = step + way.silent_s, quiet + way.every_s
        at, stamp = at + step, stamp + step * way.fast
        x = game.move(at, (x + SPEED * step + way.ahead_m, 50.0, 0.0), stamp - TRIP_S)[0]
    return (x + 100.0) / (at - 5.0)


def to_and_fro(rules: tinclock.Rules, way: Way, half_s: float, seconds: float = 10.0) -> float:
    """Metres a second that a body covers which turns round every `half_s`."""
    game = Yard(rules, start=(-100.0, 50.0, 0.0))
    at, x, gone, sign, turn = 5.0, -100.0, 0.0, 1, 5.0 + half_s
    while at < 5.0 + seconds:
        at += 1.0 / way.rate
        if at >= turn:
            sign, turn = -sign, turn + half_s
        to = game.move(at, (x + sign * way.ahead_m, 50.0, 0.0))[0]
        gone, x = gone + abs(to - x), to
    return gone / seconds


def greatest_height(rules: tinclock.Rules, way: Way, seconds: float = 4.0) -> float:
    """Metres above the ground that a body gets which claims to be so much higher with each report."""
    game = Yard(rules, start=(-50.0, 0.0, 0.0))
    at, z, most = 5.0, 0.0, 0.0
    while at < 5.0 + seconds:
        at += 1.0 / way.rate
        z = game.move(at, (-50.0, 0.0, z + way.ahead_m))[2]
        most = max(most, z)
    return most


def leap(rules: tinclock.Rules, silent_s: float, rate: int = 64, *, pongs: bool = True) -> float:
    """Metres that one report moves a runner who was silent. pongs : whether they came meanwhile"""
    game = Yard(rules, start=(-100.0, 50.0, 0.0))
    at, x = 5.0, -100.0
    for _ in range(2 * rate):
        at += 1.0 / rate
        x = game.move(at, (x + SPEED / rate, 50.0, 0.0))[0]
    if not pongs:
        game.answers, game._pings = False, []
    return game.move(at + silent_s, (x + SPEED * silent_s, 50.0, 0.0))[0] - x


def lean(rules: tinclock.Rules, step_m: float) -> float:
    """Metres that the body's ball sinks into a wall, by reports of so small a step."""
    game = Yard(rules, start=(29.3, 0.0, 0.0))
    at, x = 5.0, 29.3
    for _ in range(600):
        at += 1.0 / 64
        x = game.move(at, (x + step_m, 0.0, 0.0))[0]
    return 0.25 - (WALL_X - x)


def shots_in(
    rules: tinclock.Rules, weapon: str, count: int, early_s: float, burst_s: float = 6.0, *, dither_s: float = 0.0
) -> float:
    """Seconds from the first to the last of so many shots, each as early as passes; the best of several bursts."""
    game, best = Yard(rules, dither_s=dither_s), math.inf
    game.referee.set_weapon(game.body, weapon, 5.0)
    interval = RULES.weapons[weapon].interval_s
    for burst in range(5):
        at = begin = 6.0 + burst * burst_s
        for shot in range(count):
            if shot:
                at += interval - (early_s if shot == count - 1 else 0.0)
            if fire(game, at, weapon).outcome == "rejected":
                break
        else:
            best = min(best, at - begin)
    return best


def fire(game: Yard, at: float, weapon: str = "grit_rifle", **fields: Any) -> tinclock.Ruling:
    """A shot along x from the server's own eye, with an honest view."""
    game.until(at)
    eye = game.referee.history.eye_now(game.body)
    values = {"weapon": weapon, "origin": eye, "direction": (1.0, 0.0, 0.0),
              "view": game.referee.history.view_at(at - LAG_S), **fields}  # fmt: skip
    return game.say(at, tinclock.claims.ShotClaim, **values)


# -- the honest ---------------------------------------------------------------------------------------------------


class Adjusted(NamedTuple):
    """Of an honest player's reports: how many, which findings, and how far off each adjusted place was."""

    reports: int
    codes: Counter[str]
    off_m: list[float]


class Runner:
    """A body that runs, turns, climbs stairs, jumps and falls as games let bodies do, in steps of a frame."""

    def __init__(self, rng: np.random.Generator, frame_s: float) -> None:
        self.rng, self.frame_s = rng, frame_s
        self.x = self.y = self.z = self.vx = self.vy = self.vz = 0.0
        self._wanted = (4.0, 0.0)

    def step(self) -> None:
        rng, frame = self.rng, self.frame_s
        if rng.random() < 1.5 * frame:
            angle, speed = rng.uniform(0.0, 2.0 * math.pi), rng.choice([0.0, 2.5, 5.0, 5.0, 5.0])
            self._wanted = speed * math.cos(angle), speed * math.sin(angle)
        wx, wy = (
            -abs(w) * np.sign(p) if abs(p) > 45.0 else w for w, p in zip(self._wanted, (self.x, self.y), strict=True)
        )
        dx, dy = wx - self.vx, wy - self.vy
        share = min(1.0, 60.0 * frame / max(1e-9, math.hypot(dx, dy)))
        self.vx, self.vy = self.vx + share * dx, self.vy + share * dy
        to = self.x + self.vx * frame
        if max(height(to + side) for side in (-0.27, 0.0, 0.27)) - self.z > 0.5:
            to, self.vx = self.x, 0.0
        self.x, self.y = to, self.y + self.vy * frame
        ground = max(height(self.x + side) for side in (-0.2, 0.0, 0.2))  # its ball rests on an edge
        if self.vz == 0.0 and self.z - ground <= 0.4:
            self.z = ground
            if rng.random() < 0.7 * frame:
                self.vz = math.sqrt(2.0 * GRAVITY * JUMP) - 0.5 * GRAVITY * frame
        if self.vz != 0.0 or self.z > ground:
            self.z, self.vz = self.z + self.vz * frame, self.vz - GRAVITY * frame
            if self.z <= ground:
                self.z, self.vz = ground, 0.0


def honest(quality: str, rate: int, seed: int, seconds: float = 60.0, rules: tinclock.Rules = RULES) -> Adjusted:
    """Play an honest runner over a line of a quality, and follow what the server told it."""
    rng = np.random.default_rng(seed)
    line = line_of(quality, seconds, rng)
    up, down = Path(line, line.up_s, rng), Path(line, line.down_s, rng)
    game, runner = Yard(rules, stairs(), answers=False), Runner(rng, 1 / 120)
    queue: list[tuple[float, int, tuple[Any, ...]]] = []
    told, corrected, reports, off_m = {}, 0, 0, []
    at = next_report = 5.0

    def send(path: Path, now: float, *what: Any) -> None:
        for arrives in path.send(now, 60):
            heapq.heappush(queue, (arrives, len(queue) + 7919 * reports, what))

    next_ping = 5.0
    while at < 5.0 + seconds:
        runner.step()
        at += runner.frame_s
        if at >= next_report:
            next_report = max(at, next_report + 1.0 / rate)
            game.sequence += 1
            place = (runner.x, runner.y, runner.z)
            told[game.sequence] = place
            send(up, at, "move", game.sequence, place, at * 1.0001 + AHEAD_S)
        while (queue and queue[0][0] <= at) or next_ping <= at:
            if next_ping <= (queue[0][0] if queue else math.inf):
                game.until(next_ping)
                send(down, next_ping, "ping", game.referee.ping("c", next_ping))
                next_ping += 0.25
                continue
            now, _, what = heapq.heappop(queue)
            if what[0] == "ping":
                send(up, now, "pong", what[1], now * 1.0001 + AHEAD_S)
            elif what[0] == "pong":
                game.referee.pong("c", what[1], what[2], now)
            elif what[0] == "move":
                _, sequence, place, stamp = what
                game.until(now)
                claim = tinclock.claims.MoveClaim(sequence, game.body, place, client_time=stamp)
                ruling = game.referee.rule("c", claim, received_at=now)
                reports += 1
                game.codes.update(finding.code for finding in ruling.findings)
                if sequence in told and ruling.position is not None and ruling.outcome != "rejected":
                    apart = math.dist(ruling.position, place)
                    off_m += [apart] if apart > 1e-6 else []
                send(down, now, "told", sequence, ruling.outcome, ruling.position)
            else:
                _, sequence, outcome, position = what
                place = told.pop(sequence, None)
                if place is not None and outcome == "adjusted" and position is not None and sequence > corrected:
                    runner.x, runner.y, runner.z = (
                        runner.x + position[0] - place[0],
                        runner.y + position[1] - place[1],
                        runner.z + position[2] - place[2],
                    )
                    corrected = game.sequence
    return Adjusted(reports, game.codes, off_m)
