"""Kill a recording match with SIGKILL at random moments; nothing that was flushed may be lost: kills.py

kills.py 200 kills two hundred times (the default) and ends with what survived.
"""

from __future__ import annotations

import os
import shutil
import signal
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from tinclock.recordings import Recording, replay
from tinclock.recordings.writer import Writer
from tinclock.sample import simulate_match

PLAYED_S, LONGEST_S = 30.0, 2.0


def killed_after(path: Path, seconds: float) -> int:
    """Record in a child and kill it; returns how many flushes it had reported."""
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        put = Writer._write

        def report(self: Writer, batch: object) -> None:
            put(self, batch)
            os.write(write, b".")

        Writer._write = report
        simulate_match(seed=9, seconds=PLAYED_S, players=3, record_to=path)
        os._exit(0)
    os.close(write)
    time.sleep(seconds)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    known = b""
    while chunk := os.read(read, 4096):
        known += chunk
    os.close(read)
    return len(known)


def main() -> None:
    """Kill, open, rule again, compare."""
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    simulate_match(seed=9, seconds=1.0, players=3)  # kernels load once, before the children
    dice, folder = np.random.default_rng(5), Path(tempfile.mkdtemp())
    flushed, torn, strays = 0, 0, 0
    whole: list[str] = []
    for number in range(kills):
        path = folder / "match"
        known = killed_after(path, float(dice.uniform(0.0, LONGEST_S)))
        if (path / "flushes.jsonl").exists():
            source = Recording(path)
            wrong = source.verify()
            again = replay(source) if source.flushes else None
            texts = source.table("rulings")["ruling"].to_pylist()
            if len(source.flushes) < known or wrong or (again is not None and not again.as_recorded):
                raise SystemExit(f"kill {number}: {known} flushes were reported, {len(source.flushes)} found; {wrong}")
            shorter, whole = sorted((texts, whole), key=len)
            if whole[: len(shorter)] != shorter:
                raise SystemExit(f"kill {number}: the rulings are not those of the other kills")
            flushed, torn, strays = (
                flushed + known,
                torn + source.damaged_tail,
                strays + bool(source.unreferenced_files),
            )
        elif known:
            raise SystemExit(f"kill {number}: {known} flushes were reported, none found")
        shutil.rmtree(path, ignore_errors=True)
    shutil.rmtree(folder, ignore_errors=True)
    print(
        f"{kills} kills: {flushed} flushes were reported and none was lost; {torn} torn lines and {strays} files "
        f"without a line were set aside; up to {len(whole)} rulings, all equal"
    )


if __name__ == "__main__":
    main()
