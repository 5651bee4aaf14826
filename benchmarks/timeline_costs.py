"""What the history and the level cost, beside their yardsticks: python benchmarks/timeline_costs.py [--json]"""

from __future__ import annotations

import json
import sys

import numpy as np
from frozen_scene import FrozenScene
from rewound_ray import claims_of
from rich.console import Console
from rich.table import Table
from standard_load import RATE_HZ, TICKS, build, each_microseconds, microseconds, versus

import tinclock

LEVEL_TRIANGLES = 250_000
LEVEL_RAYS = 20_000


def recording() -> dict[str, float]:
    """One tick of the standard load, and the bytes that a second of it takes."""
    load, crowd = build(shots=1)
    history, tick = load.referee.history, history_tick(load.referee.history)
    poses = [crowd.bones((tick + k) / RATE_HZ) for k in range(64)]

    def record() -> None:
        nonlocal tick
        for pose in poses:
            tick += 1
            history.record(tick, tick / RATE_HZ, load.entities, pose)

    raw = len(load.entities) * 19 * 7 * 4 * TICKS
    return {
        "recording one tick": microseconds(record, len(poses), 20),
        "history over raw poses": history.nbytes / raw * TICKS / history.capacity,
        "half-size history over raw poses": build(shots=1, storage="half")[0].referee.history.nbytes / raw,
    }


def history_tick(history: tinclock.PoseHistory) -> int:
    """The newest tick."""
    return history.newest_tick


def growth() -> dict[str, float]:
    """One shot among 100 and among 1000 entities, as densely spread, batch of 20,000."""
    out = {}
    for count in (100, 1000):
        load, _ = build(count)
        history, referee = load.referee.history, load.referee
        calls = [
            (lambda c=c, k=k, r=referee, t=load.now: r.rule(c, k, received_at=t)) for c, k in claims_of(load, 6000)
        ]
        each_microseconds(calls[:1000])
        out[f"Referee.rule, {count} entities"] = float(np.median(each_microseconds(calls[1000:])))
        out[f"one of many shots, {count} entities"] = microseconds(
            lambda h=history, s=load: h.nearest_many(
                s.origins, s.directions, s.from_ticks, s.to_ticks, s.fractions, ignore=s.shooters
            ),
            len(load.origins),
        )
    return out


def hills(triangles: int) -> tuple[np.ndarray, np.ndarray]:
    """A rolling ground with towers on it: a closed-ish level of about that many triangles."""
    side = int(np.sqrt(triangles / 2))
    x, y = np.meshgrid(np.linspace(-100, 100, side + 1), np.linspace(-100, 100, side + 1), indexing="ij")
    rng = np.random.default_rng(3)
    z = 3 * np.sin(x / 9) * np.cos(y / 13) + 9.0 * (rng.random(x.shape) > 0.995)
    cell = np.arange(side)[:, None] * (side + 1) + np.arange(side)
    a, b, c, d = cell, cell + 1, cell + side + 1, cell + side + 2
    faces = np.stack([np.stack([a, c, b], -1), np.stack([b, c, d], -1)], 2).reshape(-1, 3)
    return np.stack([x, y, z], -1).reshape(-1, 3), faces


def level_rays() -> dict[str, float]:
    """First hits on 250,000 triangles, ours and Embree's on the same mesh, the same rays."""
    vertices, faces = hills(LEVEL_TRIANGLES)
    level, frozen = tinclock.Level(vertices, faces), FrozenScene.of_mesh(vertices, faces)
    rng = np.random.default_rng(4)
    origins = rng.uniform([-95, -95, 4.5], [95, 95, 8], (LEVEL_RAYS, 3))
    way = rng.normal(size=(LEVEL_RAYS, 3)) * [1, 1, 0.25]
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    o, d = origins.astype(np.float32), way.astype(np.float32)
    ours, theirs = level.first_many(origins, way, np.inf), frozen.distances(o, d)
    hit = np.isfinite(ours.distance_m)
    assert (hit == (theirs < 1e30)).mean() > 0.999, "the two disagree on who hits"
    assert np.median(np.abs(ours.distance_m[hit] - theirs[hit])) < 1e-3, "the two disagree on where"
    out = {"level hit share": float(hit.mean())}
    duel = versus(lambda: level.first_many(origins, way, np.inf), lambda: frozen.distances(o, d), LEVEL_RAYS)
    out["level ray, ours"], out["level ray, Embree"], out["level ratio"] = duel
    return out


def main() -> None:
    """Measure and print."""
    figures = recording() | growth() | level_rays()
    if "--json" in sys.argv:
        print(json.dumps(figures, indent=2))
        return
    console = Console(width=100 if not sys.stdout.isatty() else None)
    table = Table(box=None, header_style="bold")
    for name in ("what", "measured", "against", "goal"):
        table.add_column(name, justify="left" if name == "what" else "right")
    small, large = (figures[f"one of many shots, {n} entities"] for n in (100, 1000))
    ours, theirs = figures["level ray, ours"], figures["level ray, Embree"]
    table.add_row("recording one tick", f"{figures['recording one tick']:.0f} us", "", "at most 100 us")
    for name, goal in (("history over raw poses", "at most 1.25"), ("half-size history over raw poses", "")):
        table.add_row(name, f"{figures[name]:.2f}", "", goal)
    few, many = (figures[f"Referee.rule, {n} entities"] for n in (100, 1000))
    table.add_row("Referee.rule among 1000 entities", f"{many:.1f} us", f"{few:.1f} us among 100", "at most 3x")
    table.add_row("", f"{many / few:.2f}x", "", "")
    table.add_row("one shot of a batch among 1000", f"{large:.2f} us", f"{small:.2f} us among 100", "")
    table.add_row("level ray, 250,000 triangles", f"{ours:.2f} us", f"{theirs:.2f} us Embree", "at most 1.5x")
    table.add_row("", f"{figures['level ratio']:.2f}x", "", "")
    console.print(table)


if __name__ == "__main__":
    main()
