"""What twenty settings cost in one pass over a recording, in passes with one setting: ranges.py [RECORDING ...]

Without a recording: the standard load of 20 s, and a garden match of 8 for 40 s. Both alternate; medians are told.
"""

from __future__ import annotations

import json
import shutil
import statistics
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING

import recordings
from rich.console import Console
from rich.table import Table

from tinclock.recordings import Recording, replay, replay_sweep, with_setting
from tinclock.sample import simulate_match

if TYPE_CHECKING:
    from collections.abc import Callable

GOAL, ROUNDS = 3.0, 5
SETTINGS = [0.02 * k for k in range(1, 21)]


def seconds(do: Callable[[], object]) -> float:
    """How long something takes."""
    start = time.perf_counter()
    do()
    return time.perf_counter() - start


def passes(path: Path) -> tuple[float, float]:
    """Seconds that one pass takes, and that twenty settings of the oldest view take together."""
    rules = Recording(path).require_header().rules
    tried = [with_setting(rules, "view.max_rewind_s", value) for value in SETTINGS]
    replay(Recording(path)), replay_sweep(Recording(path), tried[:2])  # kernels load
    one, all_of_them = [], []
    for _ in range(ROUNDS):
        one.append(seconds(lambda: replay(Recording(path))))
        all_of_them.append(seconds(lambda: replay_sweep(Recording(path), tried)))
        one.append(seconds(lambda: replay(Recording(path))))
    return statistics.median(one), statistics.median(all_of_them)


def main() -> None:
    """Measure and print."""
    given = [Path(one) for one in sys.argv[1:] if not one.startswith("-")]
    folder = Path(tempfile.mkdtemp())
    try:
        if not given:
            given = [folder / "standard load", folder / "garden match"]
            _, _, recorder = recordings.play(given[0])
            recorder.close()
            simulate_match(seed=1, seconds=40.0, players=8, record_to=given[1])
        rows = {path.name: passes(path) for path in given}
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    if "--json" in sys.argv:
        print(json.dumps(rows, indent=2))
        return
    table = Table(box=None, pad_edge=False, title=f"{len(SETTINGS)} settings in one pass", title_justify="left")
    for name in ("recording", "one setting", "all of them", "in passes", "goal"):
        table.add_column(name, justify="left" if name == "recording" else "right")
    for name, (one, together) in rows.items():
        share = together / one
        met = f"at most {GOAL:g}: {'met' if share <= GOAL else 'missed'}"
        table.add_row(name, f"{one:.2f} s", f"{together:.2f} s", f"{share:.1f}", met)
    Console(width=100).print(table)


if __name__ == "__main__":
    main()
