"""Search for the policy that gains most by choosing views: view_shopping.py [SECONDS [POLICIES [MATCHES]]]

The opponent has read the source and knows every body's future, see `tests/shopping.py`. A coordinate search pulls one
dial after the other and keeps a value that adds damage while evidence by findings stays below 10 decibans. All
policies play the same shots, on lines of every quality. Two processes play them.
"""

from __future__ import annotations

import multiprocessing
import pathlib
import sys
from functools import partial

sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "tests"))

from shopping import BLURS_ALL, DIALS, ODD, UNEVEN, Gain, Policy, World

MAX_DECIBANS = 10.0
PONGS: tuple[dict[str, float], ...] = ({}, {"late_pongs": 0.75, "late_s": 0.05})
"""Each value of a dial is tried with the pongs at hand, and with some that are late."""
KNOWN = {
    "tells no lag": Policy(tells=False, stamps=False),
    "tells no lag, half its pongs 110 ms late": Policy(tells=False, stamps=False, late_pongs=0.5, late_s=0.11),
    "tells a lag, half its pongs 110 ms late": Policy(late_pongs=0.5, late_s=0.11),
    "names held snapshots": Policy(held_views=1.0),
    "stamps and views early together, late pongs": Policy(dither_s=0.1, late_pongs=0.5, late_s=0.11),
    "leaves sequence numbers free": Policy(free_numbers=True),
    "tells the rewind limit as its lag": Policy(extra_s=0.3),
    "silent for 2.1 of 4 s": Policy(silent_s=2.1),
    "clock leaps 130 ms every 1.5 s": Policy(steps_s=0.13),
    "reconnects every 10 s": Policy(reconnects_s=10.0),
    "opens a second connection every 5 s": Policy(reconnects_s=5.0, second=True),
    "lag breathes by 60 ms with fights": Policy(breathes_s=0.06),
    "sends every 50 ms": Policy(every_s=0.05),
    "blurs all: pongs, stamps, clock, silence": BLURS_ALL,
    "tells no lag, late pongs, uneven reports": UNEVEN,
    "chooses, and nothing else": Policy(),
}
_worlds: list[World] = []


def play(policy: Policy, seconds: float, matches: int, *, chooses: bool = True) -> dict[str, Gain]:
    """Return what each line's quality gets of a policy, and all together."""
    while len(_worlds) < matches:
        _worlds.append(World(70 + len(_worlds), seconds))
    out: dict[str, Gain] = {}
    for world in _worlds:
        for quality, gain in world.replay(policy, chooses).items():
            for name in (quality, "all"):
                out[name] = out.get(name, Gain()).plus(gain)
    return out


def more(gain: Gain, honest: Gain) -> tuple[float, float]:
    """Return how many per cent of hits and of damage a policy adds."""
    return 100.0 * (gain.hits / max(1, honest.hits) - 1.0), 100.0 * (gain.damage / max(1e-9, honest.damage) - 1.0)


def show(name: str, found: dict[str, Gain], honest: dict[str, Gain]) -> None:
    """Print a row: hits and damage by line, the width of the choice, and the evidence."""
    print(f"{name:46s}", end="")
    for quality in sorted(honest):
        print(" {}: {:+.1f}/{:+.1f}%".format(quality.replace("_", " "), *more(found[quality], honest[quality])), end="")
    every = found["all"]
    print(f"  choice {1e3 * every.choice_s / every.shots:.0f} ms, {every.decibans:.0f} decibans", flush=True)


def search(
    pool: multiprocessing.pool.Pool, play_it: partial, honest: dict[str, Gain], policies: int
) -> dict[Policy, dict[str, Gain]]:
    """Pull dials until so many policies were played; returns what each got."""
    best, gain, played = Policy(), 0.0, dict[Policy, dict[str, Gain]]()
    while len(played) < policies:
        before = len(played)
        for dial, values in DIALS.items():
            ways = [best._replace(**{**pongs, dial: value}) for value in values for pongs in PONGS]
            fresh = [way for way in dict.fromkeys(ways) if way not in played]
            for way, found in zip(fresh, pool.map(play_it, fresh, chunksize=1), strict=True):
                played[way] = found
                adds = more(found["all"], honest["all"])[1]
                if adds > gain and found["all"].decibans < MAX_DECIBANS:
                    best, gain = way, adds
                    print(f"  {len(played):4d} policies: damage {adds:+.1f}%  {differs(way)}", flush=True)
        if len(played) == before:  # nothing near the best is new: go on from another corner
            best = Policy(*(values[(before + 7 * k) % len(values)] for k, values in enumerate(DIALS.values())))
    return played


def differs(policy: Policy) -> str:
    """Return the dials that a policy pulls."""
    usual = Policy()
    return ", ".join(f"{n}={v:g}" for n, v, u in zip(policy._fields, policy, usual, strict=True) if v != u)


def main() -> None:
    """Measure and print."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 45.0
    policies = int(sys.argv[2]) if len(sys.argv) > 2 else 500
    matches = int(sys.argv[3]) if len(sys.argv) > 3 else 1
    play_it = partial(play, seconds=seconds, matches=matches)
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        honest = pool.apply(partial(play_it, chooses=False), (Policy(),))
        shots = {quality: gain.shots for quality, gain in sorted(honest.items())}
        print(f"shots by line: {shots}. Hits and damage against the honest view:")
        for name, found in zip(KNOWN, pool.map(play_it, KNOWN.values(), chunksize=1), strict=True):
            show(name, found, honest)
        print("honest clients: shots ruled at their screen's view, in per cent, and decibans by findings")
        for name, found in zip(ODD, pool.map(partial(play_it, chooses=False), ODD.values(), chunksize=1), strict=True):
            shares = (f"{q.replace('_', ' ')} {100.0 * g.as_claimed / g.shots:.1f}" for q, g in sorted(found.items()))
            print(f"{name:46s} {', '.join(shares)}; {found['all'].decibans:.0f} decibans")
        if policies:
            played = search(pool, play_it, honest, policies)
            quiet = {way: found for way, found in played.items() if found["all"].decibans < MAX_DECIBANS}
            for quality in sorted(honest):
                best = max(quiet, key=lambda way, quality=quality: more(quiet[way][quality], honest[quality])[1])
                show(f"best of {len(played)} on {quality.replace('_', ' ')}", quiet[best], honest)
                print(f"    {differs(best)}")


if __name__ == "__main__":
    main()
