"""Play the garden matches that the shipped calibration is made from, and the ones that judge it.

    python tools/calibration_matches.py made FOLDER      # 16 matches, three blatant accounts each: calibrate by these
    python tools/calibration_matches.py judged FOLDER    # 16 matches, ten cheating accounts each, at 0.5 and at 1
    tinclock calibrate FOLDER/* --out src/tinclock/intake/data/calibration.json --note "..."
    tinclock detection FOLDER/* --honest-histories 20000 --image-folder docs/screenshots

Sixteen players for five minutes, on connections of every quality. Two processes; a match that is there already stays.
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from itertools import cycle
from pathlib import Path

from tinclock.garden.cheats import KINDS
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import name_of
from tinclock.garden.truth import write_truth

PLAYERS, SECONDS, PROCESSES = 16, 300.0, 2
SETS = {"made": (range(3000, 3016), 3), "judged": (range(4000, 4016), 10)}
"""Seeds of each set, and the number of cheating accounts in each match."""


def cheating_in(which: str) -> dict[int, dict[str, dict[str, float]]]:
    """Return for each seed of a set its cheating accounts: types, strengths and seats all take turns."""
    seeds, many = SETS[which]
    strengths = (1.0,) if which == "made" else (0.5, 1.0)
    acts = cycle((kind, strength) for strength in strengths for kind in KINDS)
    chosen = {}
    for place, seed in enumerate(seeds):
        seats = [(place * 5 + turn * 3) % PLAYERS for turn in range(many)]  # 3 and 16 share no factor: no seat twice
        chosen[seed] = {name_of(seat): dict([next(acts)]) for seat in seats}
    return chosen


def play(seed: int, cheats: dict[str, dict[str, float]], folder: Path) -> str:
    """Play one match into a folder, and its truth beside it."""
    recording, truth = folder / f"m{seed}", folder / f"m{seed}-truth"
    if truth.exists():
        return f"{recording.name} is there already"
    played = simulate_match(seed=seed, seconds=SECONDS, players=PLAYERS, cheats=cheats, record_to=recording)
    write_truth(played, truth)
    return f"{recording.name}: {len(played.rulings)} rulings"


def main() -> None:
    """Play a set."""
    which, folder = sys.argv[1], Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    with ProcessPoolExecutor(PROCESSES) as pool:
        for done in [pool.submit(play, seed, cheating, folder) for seed, cheating in cheating_in(which).items()]:
            print(done.result(), flush=True)


if __name__ == "__main__":
    main()
