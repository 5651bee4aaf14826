"""How the cost of a batch grows with matches, cores and a cluster's workers. batches.py [--seconds S]

Yardstick, in the same run: one recording ruled again (or weighed) in this process, warm.
"""

from __future__ import annotations

import argparse
import shutil
import tempfile
import time
from pathlib import Path

import numpy as np

from tinclock.batch.jobs import Task, do
from tinclock.batch.pools import ClusterPool, LocalPool
from tinclock.batch.run import run_batch
from tinclock.recordings import recordings_in
from tinclock.sample import simulate_match

PLAYERS, MOST = 16, 32


def main() -> None:
    """Measure and print."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--seconds", type=float, default=20.0, help="Length of each match.")
    seconds = asked.parse_args().seconds
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        matches = folder / "matches"
        simulate_match(seed=7, seconds=seconds, players=PLAYERS, record_to=matches / "m00")
        size = sum(file.stat().st_size for file in (matches / "m00").rglob("*") if file.is_file())
        print(f"a match: {PLAYERS} players, {seconds:.0f} s, {size / PLAYERS / seconds / 1000:.1f} kB a player-second")
        for number in range(1, MOST):
            shutil.copytree(matches / "m00", matches / f"m{number:02}")
        for job in ("again", "weigh"):
            measure(job, folder, recordings_in([matches]), seconds)


def measure(job, folder: Path, recordings: list[Path], seconds: float) -> None:
    """One kind of sweep."""
    task = Task(job=job)
    do(task, str(recordings[0]))
    begin = time.perf_counter()
    do(task, str(recordings[1]))
    alone = time.perf_counter() - begin
    minutes = PLAYERS * seconds / 60.0
    print(f"{job}: one recording alone, warm: {alone:.2f} s, {minutes / alone:.0f} player-minutes a second")
    for workers in (1, 2):
        counts = (4, 8, 16, MOST) if workers == 2 else (4, 16)
        took = [timed(folder, task, recordings[:count], LocalPool(workers)) for count in counts]
        each, start = np.polyfit(counts, took, 1)
        told = ", ".join(f"{count} in {t:.1f} s" for count, t in zip(counts, took, strict=True))
        print(
            f"  {workers} processes: {told}: {start:.1f} s and {each:.2f} s a recording, "
            f"{alone / each / workers:.2f} of {workers} x alone"
        )
    from distributed import LocalCluster

    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
        counts = (4, 16, MOST)
        took = []
        for count in counts:
            pool = ClusterPool(cluster.scheduler_address)
            took.append(timed(folder, task, recordings[:count], pool))
            pool.close()
        each, start = np.polyfit(counts, took, 1)
        told = ", ".join(f"{count} in {t:.1f} s" for count, t in zip(counts, took, strict=True))
        print(f"  cluster of 2 workers: {told}: {each:.2f} s a recording, {alone / each / 2:.2f} of 2 x alone")


def timed(folder: Path, task: Task, recordings: list[Path], pool) -> float:
    """How long a whole sweep takes, tables and start of its processes included."""
    into = folder / f"out-{time.monotonic_ns()}"
    begin = time.perf_counter()
    swept = run_batch(into, task, recordings, pool)
    assert swept.done == len(recordings)
    assert not swept.broken
    return time.perf_counter() - begin


if __name__ == "__main__":
    main()
