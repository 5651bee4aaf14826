"""The standard load: gardeners running about on open ground, recorded for a second, and shots at random views."""

from __future__ import annotations

import math
import time
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

import tinclock
from tinclock import Rules, load_rules
from tinclock.garden.gait import Bodies, Gait
from tinclock.sample import data_file

if TYPE_CHECKING:
    from collections.abc import Callable

RATE_HZ = 64.0
TICKS = 64
HIT_SHARE = 2 / 3


class Load(NamedTuple):
    """A recorded second, and shots into it.

    Shots aim at a hitbox where it was at their view, two thirds of them well, one third past it. `frozen_directions`
    are the same shots aimed at where the same hitboxes are at the frozen instant, the newest tick.
    """

    referee: tinclock.Referee
    entities: list[int]
    shooters: np.ndarray
    origins: np.ndarray
    directions: np.ndarray
    frozen_directions: np.ndarray
    from_ticks: np.ndarray
    to_ticks: np.ndarray
    fractions: np.ndarray

    @property
    def now(self) -> float:
        """Server time of the newest tick."""
        return self.referee.history.newest_time


def bench_rules() -> Rules:
    """The garden's rules with a weapon that is always ready, so that every claim runs through every check."""
    import msgspec

    rules = load_rules(data_file("garden.toml"))
    rifle = msgspec.structs.replace(rules.weapons["grit_rifle"], interval_s=0.001, damage=1e-6)
    ready = msgspec.structs.replace(rules.fire_rate, tolerance_s=60.0)
    return msgspec.structs.replace(rules, weapons={"grit_rifle": rifle}, fire_rate=ready)


def yard(side: float) -> tinclock.Level:
    """Ground, four walls around it, and a bed every five metres, 0.2 m high: every shot is tested against them."""
    half = side / 2 + 8.0
    boxes = [([0.0, 0.0, -0.5], [half, half, 0.5])]
    boxes += [([x * half, y * half, 1.5], [max(abs(y) * half, 0.2), max(abs(x) * half, 0.2), 1.5])
              for x, y in ((1, 0), (-1, 0), (0, 1), (0, -1))]  # fmt: skip
    steps = np.arange(-half + 2.5, half, 5.0)
    boxes += [([float(x), float(y), 0.1], [1.0, 0.5, 0.1]) for x in steps for y in steps]
    return tinclock.Level.from_boxes([centre for centre, _ in boxes], [size for _, size in boxes])


class Crowd:
    """Bodies that run on circles of their own: bones at any time."""

    def __init__(self, count: int, gait: Gait, rng: np.random.Generator) -> None:
        side = 6.0 * math.sqrt(count)  # as many metres each, whatever their number
        self.x, self.y = rng.uniform(-side / 2, side / 2, (2, count))
        self.radius, self.speed = rng.uniform(1.0, 5.0, count), rng.uniform(1.0, 4.5, count)
        self.start = rng.uniform(0.0, 2.0 * np.pi, count)
        self.gait = gait

    def bones(self, t: float) -> np.ndarray:
        """(n, bones, 7) float32 at a time in seconds."""
        angle = self.start + self.speed / self.radius * t
        zero = np.zeros_like(angle)
        return self.gait.bones(
            Bodies(
                self.x + self.radius * np.cos(angle), self.y + self.radius * np.sin(angle), angle + np.pi / 2, zero,
                3.3 * self.speed * t + self.start, self.speed, zero,
            )
        ).astype(np.float32)  # fmt: skip


def build(count: int = 100, shots: int = 20_000, seed: int = 1, storage: str = "full") -> tuple[Load, Crowd]:
    """The standard load with `count` entities, on walled ground with beds too low to stand in a shot's way."""
    rng = np.random.default_rng(seed)
    referee = tinclock.Referee(bench_rules(), level=yard(6.0 * math.sqrt(count)), seed=seed, storage=storage)
    rig = referee.history.rigs["gardener"]
    entities = [referee.admit(connection=f"c{k}", account=f"a{k}", team="", rig="gardener") for k in range(count)]
    crowd = Crowd(count, Gait(rig.bones, rig.rest), rng)
    for tick in range(TICKS):
        referee.record(tick, tick / RATE_HZ, entities, crowd.bones(tick / RATE_HZ))
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
    return _aim(referee, entities, shots, rng), crowd


def _aim(referee: tinclock.Referee, entities: list[int], shots: int, rng: np.random.Generator) -> Load:
    history = referee.history
    count = len(entities)
    shooter = rng.integers(0, count, shots)
    part = rng.integers(0, len(history.rigs["gardener"].parts), shots)
    from_ticks = 2 * rng.integers(19, 29, shots)  # snapshots 170 to 390 ms old
    fractions = rng.uniform(0.0, 1.0, shots)
    eyes = np.array([history.eye_now(entity) for entity in entities])
    apart = np.linalg.norm(eyes[:, None] - eyes[None], axis=2)
    near = np.argsort(apart, axis=1)[:, 1:100]  # targets are among the hundred nearest, however many there are
    target = near[shooter, rng.integers(0, near.shape[1], shots)]
    places = np.array([_centres(history, entities, tick) for tick in range(36, TICKS)])
    a, b = places[from_ticks - 36, target, part], places[from_ticks + 2 - 36, target, part]
    offset = np.where(rng.random(shots) < HIT_SHARE, 0.0, 1.0)[:, None] * np.array([0.0, 0.0, 3.0])
    origins = eyes[shooter]

    def towards(points: np.ndarray) -> np.ndarray:
        to = points + offset - origins
        return to / np.linalg.norm(to, axis=1, keepdims=True)

    return Load(
        referee, entities, np.array(entities)[shooter], origins,
        towards(a + fractions[:, None] * (b - a)), towards(places[-1, target, part]),
        from_ticks, from_ticks + 2, fractions,
    )  # fmt: skip


def _centres(history: tinclock.PoseHistory, entities: list[int], tick: int) -> np.ndarray:
    view = tinclock.View(tick, tick, 0.0)
    return np.array([history.hitboxes_at(entity, view).centres for entity in entities])


def microseconds(work: Callable[[], object], per: int, repeat: int = 7) -> float:
    """Best of several runs, in microseconds per item."""
    best = math.inf
    for _ in range(repeat):
        start = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - start)
    return best / per * 1e6


class Versus(NamedTuple):
    """Two things measured in turns: the best of each in microseconds per item, and the median of the rounds' ratios."""

    ours: float
    theirs: float
    ratio: float


def versus(ours: Callable[[], object], theirs: Callable[[], object], per: int, rounds: int = 25) -> Versus:
    """Measure two things in turns, so that a machine that slows down slows both."""
    times = np.empty((rounds, 2))
    ours(), theirs()
    for k in range(rounds):
        for column, work in enumerate((ours, theirs)):
            start = time.perf_counter()
            work()
            times[k, column] = time.perf_counter() - start
    best = times.min(axis=0) / per * 1e6
    return Versus(float(best[0]), float(best[1]), float(np.median(times[:, 0] / times[:, 1])))


def each_microseconds(calls: list[Callable[[], object]]) -> np.ndarray:
    """The time of every single call, in microseconds."""
    clock, out = time.perf_counter_ns, np.empty(len(calls))
    for k, call in enumerate(calls):
        start = clock()
        call()
        out[k] = clock() - start
    return out / 1e3
