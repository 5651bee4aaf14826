"""What choosing the view gains, by quality of the line, and in whole matches: view_shopping.py [SECONDS [SEEDS]]

The first table looks at honest players' shots: same trigger, same aim, and the best view that has no finding, with the
lag tracked and without. The second plays matches in which one account of each quality shops, by several ways.
"""

from __future__ import annotations

import sys
from collections import defaultdict
from typing import Any

import msgspec

from tinclock.core.analysis.choices import Choices, Gained
from tinclock.garden.match import play_match
from tinclock.garden.scenario import SEATED_ON, load_garden, name_of

PLAYERS = len(SEATED_ON)
WAYS: dict[str, dict[str, float]] = {
    "honest": {},
    "quietly": {"shop_views": 0.16},
    "fully": {"shop_views": 1.0},
    "fully, dithered pongs": {"shop_views": 1.0, "dither_pongs": 0.75},
    "fully, delayed pongs": {"shop_views": 1.0, "delay_pongs": 1.0},
}


def rules_with(tracked: bool) -> Any:
    """The garden's rules; without tracking, a lag may be anything."""
    rules = load_garden().rules
    view = msgspec.structs.replace(rules.view, lag_allowance_s=rules.view.lag_allowance_s if tracked else 1e6)
    return msgspec.structs.replace(rules, view=view)


def on_honest_shots(seconds: float, seeds: int) -> None:
    """Print the first table."""
    print(f"{'line':14s} {'lag':10s} shots  hits in 100  best  more hits  more damage  choice ms")
    for tracked in (False, True):
        rows: dict[str, Gained] = defaultdict(Gained)
        for seed in range(seeds):
            choices = Choices()
            honest = {name_of(k): {} for k in range(PLAYERS)}
            play_match(
                seed=70 + seed, seconds=seconds, players=PLAYERS, unfair=honest, rules=rules_with(tracked),
                on_ruling=choices.take,
            )  # fmt: skip
            for place in range(PLAYERS):
                one = choices.gained.get(f"line-{name_of(place)}", Gained())
                for name in (SEATED_ON[place], "all"):
                    rows[name] = rows[name].plus(one)
        for name, row in sorted(rows.items(), key=lambda item: (item[0] == "all", item[0])):
            print(
                f"{name:14s} {'tracked' if tracked else 'free':10s} {row.shots:5d} {100 * row.hits / row.shots:11.1f} "
                f"{100 * row.best_hits / row.shots:6.1f} {100 * (row.more_hits or 0.0):+9.1f}% "
                f"{100 * (row.best_damage / row.damage - 1):+11.1f}% {1e3 * row.choice_s / row.shots:9.0f}"
            )


def in_whole_matches(seconds: float, seeds: int) -> None:
    """Print the second table: every account shops in the same way, so that all lines are in one match."""
    print(f"\n{'way':24s} {'lag':8s} shots  hits in 100  damage a shot  restless in 100  two-faced accounts")
    for tracked in (False, True):
        for way, dials in WAYS.items():
            shots = hits = restless = 0
            damage, faces = 0.0, set[str]()
            for seed in range(seeds):
                unfair = {name_of(k): dials for k in range(PLAYERS)}
                played = play_match(
                    seed=90 + seed, seconds=seconds, players=PLAYERS, unfair=unfair, rules=rules_with(tracked)
                )
                for ruling in played.rulings:
                    codes = {finding.code for finding in ruling.findings}
                    if "two_faced_clock" in codes:
                        faces.add(f"{seed}{ruling.account}")
                    if ruling.kind == "shot" and ruling.account and ruling.view_time is not None:
                        shots, hits = shots + 1, hits + bool(ruling.hits)
                        damage, restless = damage + ruling.damage, restless + ("view_restless" in codes)
            print(
                f"{way:24s} {'tracked' if tracked else 'free':8s} {shots:5d} {100 * hits / shots:11.1f} "
                f"{damage / shots:13.2f} {100 * restless / shots:15.1f} {len(faces):10d} of {seeds * PLAYERS}"
            )


def main() -> None:
    """Measure and print."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 90.0
    seeds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    on_honest_shots(seconds, seeds)
    in_whole_matches(seconds, seeds)


if __name__ == "__main__":
    main()
