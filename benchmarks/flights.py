"""2,000 projectiles in the air among 100 bodies and 20,000 triangles: python benchmarks/flights.py [--json]

The yardstick is the same sweep in NumPy without any culling: every projectile's way of one tick against every hitbox's
bounding sphere and every triangle.
"""

from __future__ import annotations

import json
import math
import sys
import time

import msgspec
import numpy as np
from rich.console import Console
from rich.table import Table
from standard_load import RATE_HZ, Crowd, bench_rules
from timeline_costs import hills
from tinclock.core.rules.flights import BounceRules, ProjectileRules

import tinclock
from tinclock.core.combat.flights import Flights
from tinclock.core.rules.weapons import WeaponRules
from tinclock.garden.gait import Gait

PLAYERS, TRIANGLES, TICKS = 100, 20_000, 48
KINDS = {
    "straight": ProjectileRules(speed_m_s=30.0, gravity_m_s2=0.0, lifetime_s=30.0, max_live=10**6),
    "ballistic": ProjectileRules(speed_m_s=30.0, radius_m=0.05, lifetime_s=30.0, max_live=10**6, on_level="bounce",
                             bounce=BounceRules(restitution=0.8, most=10**6)),
    "with drag": ProjectileRules(speed_m_s=30.0, radius_m=0.05, drag_per_m=0.005, lifetime_s=30.0, max_live=10**6,
                             on_level="bounce", bounce=BounceRules(restitution=0.8, most=10**6)),
}  # fmt: skip


class Air:
    """A match with so many projectiles of one kind in the air."""

    def __init__(self, count: int, kind: str) -> None:
        rng = np.random.default_rng(3)
        thrower = WeaponRules(kind="projectile", damage=1e-6, interval_s=1e-9, range_m=1e6, projectile=KINDS[kind])
        rules = msgspec.structs.replace(bench_rules(), weapons={"thrower": thrower})
        vertices, faces = hills(TRIANGLES)
        self.level = tinclock.Level(vertices, faces)
        self.referee = tinclock.Referee(rules, level=self.level, seed=3)
        rig = self.referee.history.rigs["gardener"]
        self.crowd = Crowd(PLAYERS, Gait(rig.bones, rig.rest), rng)
        self.entities = [
            self.referee.admit(connection=f"c{k}", account=f"a{k}", rig="gardener") for k in range(PLAYERS)
        ]
        self.tick = -1
        self.record()
        self.flights: Flights = self.referee._desk.flights
        roster = self.referee._roster
        for k in range(count):
            actor = roster.actors[self.entities[k % PLAYERS]]
            place = tuple(rng.uniform([-35, -35, 5], [35, 35, 12]).tolist())
            way = rng.normal(size=3) * [1.0, 1.0, 0.3]
            velocity = tuple((30.0 * way / np.linalg.norm(way)).tolist())
            self.flights.launch(
                actor, roster.connections[actor.connection], roster.weapons["thrower"], place, velocity, 0.0, 0.0
            )

    def record(self) -> None:
        self.tick += 1
        bones = self.crowd.bones(self.tick / RATE_HZ)
        bones[..., 2] += 4.0
        self.referee.record(self.tick, self.tick / RATE_HZ, self.entities, bones)

    def step(self) -> float:
        """One tick; returns the seconds that `advance` took."""
        self.record()
        start = time.perf_counter()
        self.referee.advance(self.tick / RATE_HZ)
        return time.perf_counter() - start


def brute_force(air: Air, some: int = 40) -> float:
    """Seconds that NumPy takes for one tick of one projectile, without culling: spheres and triangles only."""
    live = list(air.flights.live.values())[:some]
    now = air.tick / RATE_HZ
    start = np.array([air.flights.position_at(one, now) for one in live])
    way = np.array([air.flights.velocity_at(one, now) for one in live]) / RATE_HZ
    boxes = [air.referee.history.hitboxes_at(e, tinclock.View(air.tick, air.tick, 0.0)) for e in air.entities]
    centres = np.concatenate([box.centres for box in boxes])
    reach = np.concatenate([np.linalg.norm(box.sizes, axis=1) for box in boxes])
    a, b, c = (air.level.vertices[air.level.faces[:, k]] for k in range(3))
    began = time.perf_counter()
    for p, d in zip(start, way, strict=True):
        to = centres - p
        share = np.clip(to @ d / (d @ d), 0.0, 1.0)
        np.flatnonzero(np.linalg.norm(to - share[:, None] * d, axis=1) <= reach + 0.05)
        e1, e2, s = b - a, c - a, p - a
        h = np.cross(d, e2)
        with np.errstate(divide="ignore", invalid="ignore"):
            f = 1.0 / np.einsum("ij,ij->i", e1, h)
            u = f * np.einsum("ij,ij->i", s, h)
            q = np.cross(s, e1)
            t = f * np.einsum("ij,ij->i", e2, q)
        np.flatnonzero((u >= 0.0) & (t >= 0.0) & (t <= 1.0))
    return (time.perf_counter() - began) / len(live)


def main() -> None:
    """Measure and print."""
    rows, figures = [], {}
    for kind in KINDS:
        for count in (500, 1000, 2000, 4000) if kind == "ballistic" else (2000,):
            air = Air(count, kind)
            times = [air.step() for _ in range(TICKS)][8:]
            alive = len(air.flights.live)
            tick = float(np.median(times))
            figures[f"{kind}, {count}"] = {"tick_s": tick, "share_of_tick": tick * RATE_HZ, "in the air": alive}
            rows.append((kind, count, alive, tick))
            if kind == "ballistic" and count == 2000:
                brute = brute_force(air) * count
    figures["NumPy brute force, 2000, s"] = brute
    if "--json" in sys.argv:
        print(json.dumps(figures, indent=2))
        return
    console = Console(width=None if sys.stdout.isatty() else 100)
    table = Table(box=None, header_style="bold")
    for name in ("projectile", "launched", "still in the air", "ms a tick", "us each", "share of a tick"):
        table.add_column(name, justify="left" if name == "projectile" else "right")
    for kind, count, alive, tick in rows:
        table.add_row(
            kind, f"{count}", f"{alive}", f"{tick * 1e3:.2f}", f"{tick / max(alive, 1) * 1e6:.2f}",
            f"{tick * RATE_HZ:.1%}",
        )  # fmt: skip
    console.print(
        f"{PLAYERS} bodies x 19 parts, {TRIANGLES:,} triangles, {RATE_HZ:g} Hz; goal: 2,000 within 25% of a tick"
    )
    console.print(table)
    ours = next(tick for kind, count, _, tick in rows if (kind, count) == ("ballistic", 2000))
    console.print(f"NumPy brute force for 2,000: {brute:.1f} s a tick, {brute / ours:.0f} times ours")
    assert math.isfinite(brute)


if __name__ == "__main__":
    main()
