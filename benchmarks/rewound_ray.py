"""Rewound hitscan against its yardsticks, in one run: python benchmarks/rewound_ray.py [--json]"""

from __future__ import annotations

import gc
import json
import os
import subprocess
import sys
import time

import brute_force
import numpy as np
from frozen_scene import FrozenScene
from rich.console import Console
from rich.table import Table
from standard_load import Load, build, each_microseconds, microseconds, versus

import tinclock

BRUTE_SHOTS = 400


def claims_of(load: Load, count: int) -> list[tuple[str, tinclock.claims.ShotClaim]]:
    """Some of the load's shots as decoded claims, numbered a connection; no shooter's views run backwards."""
    sent: dict[int, int] = {}
    out = []
    picked = np.random.default_rng(2).choice(len(load.origins), count, replace=False)
    shown = load.from_ticks + 2 * load.fractions
    turn = np.lexsort((shown, load.shooters))  # each shooter's shots in the order of its views ...
    place = np.empty(len(turn), np.int64)
    place[turn] = np.arange(len(turn)) - np.searchsorted(np.sort(load.shooters), load.shooters[turn])
    for k in sorted(picked, key=lambda k: place[k]):  # ... and the shooters in turn
        k = int(k)
        entity = int(load.shooters[k])
        sent[entity] = sent.get(entity, 0) + 1
        view = tinclock.View(int(load.from_ticks[k]), int(load.to_ticks[k]), float(load.fractions[k]))
        origin, along = (tuple(row[k].tolist()) for row in (load.origins, load.directions))
        out.append(
            (f"c{entity - 1}", tinclock.claims.ShotClaim(sent[entity], entity, "grit_rifle", origin, along, view))
        )
    return out


def measure() -> dict[str, float]:
    """All figures, in microseconds unless the name says otherwise."""
    load, _ = build()
    history = load.referee.history
    frozen = FrozenScene(history, load.entities)
    origins, along = load.origins.astype(np.float32), load.frozen_directions.astype(np.float32)

    def batch() -> tinclock.types.PartHits:
        return history.nearest_many(
            load.origins, load.directions, load.from_ticks, load.to_ticks, load.fractions, ignore=load.shooters
        )

    hits = batch()
    brute = brute_force.nearest(history, load, BRUTE_SHOTS)
    assert np.allclose(brute, hits.distance_m[:BRUTE_SHOTS], atol=1e-6), "the brute force disagrees"
    out = {"hit share": float((hits.entity > 0).mean()), "Embree triangles": float(frozen.triangles)}
    every_core = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(every_core)})  # Embree's binding uses one core: so do we
    duel = versus(batch, lambda: frozen.distances(origins, along), len(origins))
    os.sched_setaffinity(0, every_core)
    out["our batch, two thirds hit"], out["Embree batch"], out["batch ratio"] = duel
    out["NumPy brute force"] = microseconds(lambda: brute_force.nearest(history, load, BRUTE_SHOTS), BRUTE_SHOTS, 2)
    singles = [(lambda o=origins[k : k + 1], d=along[k : k + 1]: frozen.distances(o, d)) for k in range(4000)]
    gc.collect()
    gc.disable()
    before = float(np.median(each_microseconds(singles)))
    out |= _single(load)
    out["Embree single ray, median"] = (before + float(np.median(each_microseconds(singles)))) / 2
    gc.enable()
    out["import tinclock, seconds"] = _import_seconds()
    return out


def _rows(load: Load) -> zip:
    return zip(load.from_ticks, load.to_ticks, load.fractions, strict=True)


def _single(load: Load) -> dict[str, float]:
    history, referee = load.referee.history, load.referee
    views = [tinclock.View(int(a), int(b), float(f)) for a, b, f in _rows(load)]
    rays = [(tuple(o), tuple(d)) for o, d in zip(load.origins.tolist(), load.directions.tolist(), strict=True)]
    casts = [
        (lambda r=rays[k], v=views[k], s=int(load.shooters[k]): history.nearest(*r, v, ignore=s)) for k in range(6000)
    ]
    each_microseconds(casts[:500])
    claims = claims_of(load, 12_000)
    calls = [(lambda c=c, claim=claim: referee.rule(c, claim, received_at=load.now)) for c, claim in claims[:8000]]
    each_microseconds(calls[:2000])
    rule = each_microseconds(calls[2000:])
    together = []
    for begin in range(8000, len(claims), 1000):
        many = [(c, claim, load.now) for c, claim in claims[begin : begin + 1000]]
        start = time.perf_counter()
        referee.rule_many(many)
        together.append((time.perf_counter() - start) / len(many) * 1e6)
    return {
        "our single cast, median": float(np.median(each_microseconds(casts[500:]))),
        "Referee.rule, median": float(np.median(rule)),
        "Referee.rule, p99": float(np.percentile(rule, 99)),
        "Referee.rule_many, each": float(np.median(together)),
    }


def _import_seconds() -> float:
    best = 9.0
    for _ in range(5):
        start = time.perf_counter()
        subprocess.run([sys.executable, "-c", "import tinclock"], check=True)
        empty = time.perf_counter()
        subprocess.run([sys.executable, "-c", "pass"], check=True)
        best = min(best, (empty - start) - (time.perf_counter() - empty))
    return best


ROWS = (
    ("our batch, two thirds hit", "Embree batch", 1.5),
    ("Referee.rule, median", "Embree single ray, median", 3.0),
    ("Referee.rule, p99", "Referee.rule, median", 3.0),
    ("Referee.rule_many, each", "Embree batch", 7.0),
    ("our single cast, median", "Embree single ray, median", None),
)


def main() -> None:
    """Measure and print."""
    figures = measure()
    if "--json" in sys.argv:
        print(json.dumps(figures, indent=2))
        return
    console = Console(width=110 if not sys.stdout.isatty() else None)
    console.print(
        f"standard load: 100 entities x 19 hitboxes, 1 s of history at 64 Hz; {figures['hit share']:.0%} of shots hit; "
        f"Embree holds one frozen instant as {figures['Embree triangles']:,.0f} triangles"
    )
    table = Table(box=None, header_style="bold")
    for name in ("what", "us", "yardstick", "us ", "ratio", "goal"):
        table.add_column(name, justify="left" if name in ("what", "yardstick") else "right")
    for ours, theirs, goal in ROWS:
        a, b = figures[ours], figures[theirs]
        ratio = figures["batch ratio"] if ours.startswith("our batch") else a / b
        table.add_row(ours, f"{a:.2f}", theirs, f"{b:.2f}", f"{ratio:.2f}", "" if goal is None else f"at most {goal:g}")
    a, b = figures["NumPy brute force"], figures["our batch, two thirds hit"]
    table.add_row("NumPy brute force", f"{a:.1f}", "our batch", f"{b:.2f}", f"{a / b:.0f}", "at least 300")
    console.print(table)
    console.print(f"import tinclock: {figures['import tinclock, seconds']:.3f} s (goal 0.3)")


if __name__ == "__main__":
    main()
