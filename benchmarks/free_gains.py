"""What a client gains by spending allowances, and what honest players lose to them: free_gains.py [SECONDS]

A spender that has read the source searches report rates, sizes of claims, clocks, silences and instants. Each number is
the best of its search, against the same with allowances of zero. The second table plays honest runners over every
quality of line, at 8 to 128 reports a second, for SECONDS each (default 60).
"""

from __future__ import annotations

import itertools
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from yard import (
    JUMP,
    NONE,
    RULES,
    SPEED,
    STRICT,
    Way,
    distance,
    greatest_height,
    honest,
    lean,
    leap,
    shots_in,
    to_and_fro,
)

RATES = (8, 16, 32, 64, 128)
AHEAD_M = (0.001, 0.01, 0.05, 0.3, 2.5)


def best(name: str, unit: str, goal: str, found: dict[str, float]) -> None:
    """Print a row."""
    print(
        f"{name:44s} {unit:10s} " + "  ".join(f"{key} {value:+8.3f}" for key, value in found.items()) + f"  goal {goal}"
    )


def gains() -> None:
    """Print the first table."""
    both = {"default": RULES, "strict": STRICT}
    ways = [
        Way(rate, ahead, fast) for rate, ahead, fast in itertools.product(RATES, AHEAD_M, (1.0, 1.001, 1.005, 1.02))
    ]
    ways += [
        Way(rate, 2.5, 1.0, every, silent) for rate in RATES for every, silent in ((1.0, 0.09), (3.0, 0.2), (5.0, 0.9))
    ]
    best("distance over 20 s", "% of speed", "+2", {
        name: 100.0 * (max(distance(rules, way) for way in ways) / SPEED - 1.0) for name, rules in both.items()
    })  # fmt: skip
    turns = [(Way(rate), half) for rate in RATES for half in (0.125, 0.25, 0.5)]
    plain = [to_and_fro(NONE, way, half) for way, half in turns]
    more = {
        name: max(to_and_fro(rules, *turn) / without for turn, without in zip(turns, plain, strict=True))
        for name, rules in both.items()
    }
    best("distance to and fro", "%", "+2", {name: 100.0 * (share - 1.0) for name, share in more.items()})
    best("height over a jump's", "m", "0", {
        name: max(greatest_height(rules, Way(rate, ahead)) for rate in RATES for ahead in AHEAD_M) - JUMP
        for name, rules in both.items()
    })  # fmt: skip
    for silent in (0.09, 0.3, 0.9):
        best(f"one report after {silent:g} s of silence", "m", "-", {
            name: max(leap(rules, silent, rate) for rate in RATES) for name, rules in both.items()
        })  # fmt: skip
    held = {name: max(leap(rules, 0.9, rate, pongs=False) for rate in RATES) for name, rules in both.items()}
    best("the same, its pongs held back too", "m", "-", held)
    best("into a wall that it leans on", "m", "0", {
        name: max(lean(rules, step) for step in (0.0005, 0.002, 0.004, 0.05)) for name, rules in both.items()
    })  # fmt: skip
    for weapon, count in (("grit_rifle", 6), ("gravel_scatter", 3)):
        whole = (count - 1) * RULES.weapons[weapon].interval_s
        for pongs, dither_s in (("", 0.0), (", dithered pongs", 0.06)):
            least = {
                name: min(shots_in(rules, weapon, count, k / 500.0, dither_s=dither_s) for k in range(65))
                for name, rules in both.items()
            }
            shares = {name: 100.0 * (found / whole - 1.0) for name, found in least.items()}
            best(f"time to {count} shots, {weapon}{pongs}", "%", "-1", shares)


def losses(seconds: float) -> None:
    """Print the second table."""
    print(f"\n{'line':14s} reports/s  reports  adjusted in 1,000  over 10 cm  farthest cm  findings")
    for quality in ("wired", "home_wireless", "mobile", "distant", "awful"):
        for rate in RATES:
            played = [honest(quality, rate, seed, seconds) for seed in range(4)]
            reports = sum(one.reports for one in played)
            off = [apart for one in played for apart in one.off_m]
            codes = sum((one.codes for one in played), start=played[0].codes.__class__())
            told = ", ".join(
                f"{code} {count}" for code, count in codes.most_common() if code not in ("repeated_sequence",)
            )
            print(
                f"{quality:14s} {rate:9d} {reports:8d} {1000.0 * len(off) / reports:18.2f} "
                f"{sum(apart > 0.1 for apart in off):11d} {100.0 * max(off, default=0.0):12.1f}  {told}",
                flush=True,
            )


if __name__ == "__main__":
    gains()
    losses(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0)
