"""Play the sample recording that ships with the package, and its truth, again: sample.py

A minute of four gardeners, one of whom inflates its damage; packed as hard as it goes, to stay under 2 MB.
"""

from __future__ import annotations

import shutil
from pathlib import Path

from tinclock.garden.match import simulate_match
from tinclock.garden.truth import write_truth
from tinclock.recordings.compact import compact

HERE = Path(__file__).resolve().parent.parent / "src" / "tinclock" / "garden" / "data"
MAX_BYTES = 2_000_000


def main() -> None:
    """Write `sample` and `sample-truth`."""
    for name in ("sample", "sample-truth"):
        shutil.rmtree(HERE / name, ignore_errors=True)
    cheating = {"clover": {"inflate_damage": 1.0}}
    played = simulate_match(seed=11, seconds=60.0, players=4, cheats=cheating, record_to=HERE / "sample")
    compact(HERE / "sample", level=19)
    write_truth(played, HERE / "sample-truth")
    size = sum(file.stat().st_size for name in ("sample", "sample-truth") for file in (HERE / name).rglob("*.*"))
    print(f"{len(played.rulings)} rulings, {size:,} bytes")
    if size >= MAX_BYTES:
        raise SystemExit(f"the sample must stay under {MAX_BYTES:,} bytes")


if __name__ == "__main__":
    main()
