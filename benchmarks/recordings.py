"""What recording costs a match, how large recordings are, how exact, how fast to seek and to rule again: recordings.py

Standard load: 100 gardeners with 19 hitboxes at 64 Hz, 128 shots a second. The yardstick for ruling again is real time.
"""

from __future__ import annotations

import json
import math
import shutil
import sys
import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np
from rich.console import Console
from rich.table import Table
from standard_load import RATE_HZ, Crowd, bench_rules, yard

import tinclock
from tinclock.garden.gait import Gait
from tinclock.recordings import Recorder, Recording, history_around, replay

PLAYERS, SECONDS, SHOTS_A_TICK = 100, 20, 2
TEAMS = ("copper", "pewter")


def play(folder: Path | None, seed: int = 3) -> tuple[np.ndarray, float, Recorder | None]:
    """A match; returns what each tick took on its own thread, the worst pose error, and the recorder."""
    rng = np.random.default_rng(seed)
    referee = tinclock.Referee(bench_rules(), level=yard(6.0 * math.sqrt(PLAYERS)), seed=seed)
    server = referee if folder is None else Recorder(folder, referee)
    rig = referee.history.rigs["gardener"]
    ids = [server.admit(connection=f"c{k}", account=f"a{k}", team=TEAMS[k % 2], rig="gardener") for k in range(PLAYERS)]
    crowd, sent, spent, worst = Crowd(PLAYERS, Gait(rig.bones, rig.rest), rng), [0] * PLAYERS, [], 0.0
    pack = msgspec.msgpack.Encoder().encode
    for tick in range(int(SECONDS * RATE_HZ)):
        now, bones, claims = tick / RATE_HZ, crowd.bones(tick / RATE_HZ), []
        for k in rng.integers(0, PLAYERS, SHOTS_A_TICK).tolist() if tick > 40 else []:
            sent[k] += 1
            eye = referee.history.eye_now(ids[k])
            view = tinclock.View(tick - tick % 2 - 10, tick - tick % 2 - 8, float(rng.random()))
            other = referee.history.bones_at(ids[int(rng.integers(0, PLAYERS))], view)
            to = other[2, :3] + 0.1 - eye
            way = tuple((to / np.linalg.norm(to)).tolist())
            claims.append((f"c{k}", pack(tinclock.claims.ShotClaim(sent[k], ids[k], "grit_rifle", eye, way, view))))
        start = time.perf_counter()
        server.record(tick, now, ids, bones)
        if tick % 2 == 0:
            server.snapshot_sent(tick)
        for connection, data in claims:
            given = data if folder is not None else msgspec.msgpack.decode(data, type=tinclock.claims.ShotClaim)
            server.rule(connection, given, received_at=now)
        server.advance(now)
        spent.append(time.perf_counter() - start)
        if tick % 97 == 5:
            kept = referee.history.bones_at(ids[0], tinclock.View(tick, tick, 0.0))
            worst = max(worst, float(np.linalg.norm(kept[:, :3] - bones[0, :, :3], axis=1).max()))
        time.sleep(max(0.0, 1.0 / RATE_HZ - (time.perf_counter() - start)))  # a server waits for its next tick
    return np.array(spent), worst, server if folder is not None else None


def main() -> None:
    """Measure and print."""
    folder = Path(tempfile.mkdtemp()) / "match"
    try:
        play(None)  # kernels load
        bare, _, _ = play(None)
        recorded, worst, recorder = play(folder)
        start = time.perf_counter()
        recorder.close()
        closing = time.perf_counter() - start
        source = Recording(folder)
        start = time.perf_counter()
        again = replay(source)
        ruling_again = time.perf_counter() - start
        start = time.perf_counter()
        history_around(source, source.ruling(again.rulings[-1].number))
        seeking = time.perf_counter() - start
        poses = sum(flush.pieces["poses"].bytes for flush in source.flushes if "poses" in flush.pieces)
        rows = {
            "share of a tick that recording takes, mean": (recorded.mean() - bare.mean()) * RATE_HZ,
            "share of a tick that recording takes, 99th percentile": float(
                (np.quantile(recorded, 0.99) - np.quantile(bare, 0.99)) * RATE_HZ
            ),
            "bytes a player-second, poses": poses / (PLAYERS * SECONDS),
            "bytes a player-second, everything": source.nbytes / (PLAYERS * SECONDS),
            "worst bone error, mm": worst * 1000.0,
            "seconds to close, however long the match was": closing,
            "times real time, ruling again": SECONDS / ruling_again,
            "seconds to see one shot's past": seeking,
            "ruled again bit for bit": again.as_recorded,
        }
    finally:
        shutil.rmtree(folder.parent, ignore_errors=True)
    if "--json" in sys.argv:
        print(json.dumps(rows, indent=2))
        return
    table = Table(
        box=None, pad_edge=False, title=f"{PLAYERS} players, {SECONDS} s at {RATE_HZ:g} Hz", title_justify="left"
    )
    table.add_column("what")
    table.add_column("measured", justify="right")
    for name, value in rows.items():
        table.add_row(name, f"{value:.4g}" if not isinstance(value, bool) else str(value))
    Console(width=100).print(table)


if __name__ == "__main__":
    main()
