"""A match through `tinclock serve` on loopback, 100 players at 64 Hz, 1,500 claims a second: load.py [SECONDS]

Each claim is sent by itself, four at a time within a tick. Prints percentiles of the time from sending one to having
its receipt, memory over time, and then how many claims a second go through in batches. With --unkind other
connections misbehave meanwhile: garbage, half a handshake, askers who never read, killed ones, and ten times the load
on a match of their own. --image FILE draws it.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import json
import multiprocessing
import os
import re
import socket
import subprocess
import sys
import threading
import time
import tomllib
from pathlib import Path

import msgspec
import numpy as np
import uvloop
from scipy.spatial.transform import Rotation
from standard_load import Crowd
from websockets.asyncio.client import connect as connect_async
from websockets.sync.client import connect

import tinclock
from tinclock.garden.gait import Gait
from tinclock.sample import data_file

PLAYERS, RATE_HZ, CLAIMS_A_SECOND, SLICE_S = 100, 64, 1500, 5.0
ROUND = 512
"""Ticks until the crowd walks its way again: its poses are worked out before the match, as a game's server has them."""
PACK, READ = msgspec.msgpack.Encoder().encode, msgspec.msgpack.Decoder().decode
ELSEWHERE = 10
"""How much less of this machine askers get who stand for other machines: what they cost there is not to be measured."""
RULES = data_file("garden.toml").read_text(encoding="utf-8").replace("interval_s = 0.18", "interval_s = 0.05")


class Match:
    """One match on one connection."""

    def __init__(self, port: int, name: str, players: int = PLAYERS) -> None:
        stay = connect(f"ws://127.0.0.1:{port}", max_size=None, compression=None)
        self.socket = contextlib.ExitStack().enter_context(stay)
        self.name, self.asked, self.sent = name, 0, [0] * players
        self.made: list[bytes] | None = None
        """Requests that wait, where they are made before they are sent."""
        self.ask("open", rules=RULES, level=data_file("garden_level.toml").read_text(encoding="utf-8"))
        who = [{"connection": f"c{k}", "account": f"a{k}", "team": ("copper", "pewter")[k % 2], "rig": "gardener",
                "weapon": "grit_rifle"} for k in range(players)]  # fmt: skip
        self.ids = [self.ask("call", call="admit", arguments=one)["answer"] for one in who]
        for entity in self.ids:
            self.ask("call", call="set_position", arguments={"entity": entity, "position": [0.0, 5.0, 0.0]})
        self.rig = rig = tinclock.Rig("gardener", tinclock.parse_rules(tomllib.loads(RULES)).rigs["gardener"])
        self.crowd = Crowd(players, Gait(rig.bones, rig.rest), np.random.default_rng(4))
        self.packed = np.array(self.ids, "<i8").tobytes()
        self.rng = np.random.default_rng(5)
        self.poses = [self.walk(tick) for tick in range(ROUND)]

    def send(self, do: str, **fields: object) -> None:
        """A request, without waiting."""
        self.asked += 1
        frame = PACK({"do": do, "request": self.asked, "match": self.name, **fields})
        if self.made is None:
            self.socket.send(frame)
        else:
            self.made.append(frame)

    def reply(self) -> dict:
        """The next reply."""
        return READ(self.socket.recv())

    def ask(self, do: str, **fields: object) -> dict:
        """A request and its reply."""
        self.send(do, **fields)
        reply = self.reply()
        if reply.get("ok") is False:
            raise SystemExit(reply["error"])
        return reply

    def walk(self, tick: int) -> tuple[list[list[float]], bytes]:
        """Where everybody's eyes are, and all bones."""
        bones = self.crowd.bones(tick / RATE_HZ).astype("<f4")
        head = bones[:, self.rig.eye_bone]
        eyes = head[:, :3] + Rotation.from_quat(head[:, 3:]).apply(self.rig.eye_at)
        return eyes.tolist(), bones.tobytes()

    def tick(self, tick: int) -> None:
        """Send a tick's poses."""
        self.send("tick", **self.told(tick))

    def told(self, tick: int) -> dict[str, object]:
        """What is told of a tick."""
        self.eyes, bones = self.poses[tick % ROUND]
        return {"tick": tick, "server_time": tick / RATE_HZ, "entities": self.packed, "bones": bones,
                "snapshot_sent": tick % 2 == 0}  # fmt: skip

    def claims(self, tick: int, count: int) -> list[tuple[str, float, bytes]]:
        """Shots and moves, as bytes."""
        out, newest = [], tick - tick % 2
        for k in self.rng.integers(0, len(self.ids), count).tolist():
            out.append(self.claim(k, tick, newest, shoots=k % 2 == 1))
        return out

    def everybody(self, tick: int) -> list[tuple[str, float, bytes]]:
        """One claim of each player: a shot of every fourth, and moves."""
        return [self.claim(k, tick, tick - tick % 2, shoots=(k + tick) % 4 == 0) for k in range(len(self.ids))]

    def claim(self, k: int, tick: int, newest: int, *, shoots: bool) -> tuple[str, float, bytes]:
        """A shot or a move of player k."""
        self.sent[k] += 1
        if shoots:
            way = self.rng.normal(0.0, 1.0, 3)
            way = (way / np.linalg.norm(way)).tolist()
            claim = {"kind": "shot", "sequence": self.sent[k], "actor": self.ids[k], "weapon": "grit_rifle",
                     "origin": self.eyes[k], "direction": way,
                     "view": [newest - 10, newest - 8, 0.5]}  # fmt: skip
        else:
            claim = {"kind": "move", "sequence": self.sent[k], "actor": self.ids[k],
                     "position": [0.0, 5.0, 0.0], "client_time": tick / RATE_HZ + self.sent[k] * 1e-6}  # fmt: skip
        return f"c{k}", tick / RATE_HZ, PACK(claim)


def resident_mb(port: int) -> float:
    """Memory of the service, as it tells itself."""
    return float(re.search(r"^process_resident_memory_bytes (\S+)", metrics(port), re.M).group(1)) / 2**20


def frame_of(match: Match, do: str, **fields: object) -> bytes:
    """A request as `send` would send it."""
    match.made = []
    match.send(do, **fields)
    (frame,) = match.made
    return frame


async def steady(match: Match, seconds: float, port: int) -> dict:
    """The load at its own pace, on one event loop, as a game's server asks; percentiles by slices of time."""
    async with connect_async(f"ws://127.0.0.1:{port}", max_size=None, compression=None) as line:
        sent_at: dict[int, float] = {}
        waits, ruled = list[float](), 0

        async def read() -> None:
            nonlocal ruled
            async for frame in line:
                reply, now = READ(frame), time.perf_counter()
                if reply["request"] in sent_at:
                    waits.append(now - sent_at.pop(reply["request"]))
                    ruled += len(reply.get("rulings", []))
                elif reply.get("state") is not None:
                    return

        reading, slices, memory, sent = asyncio.create_task(read()), [], [], 0
        start = began = time.perf_counter()
        for tick in range(int(seconds * RATE_HZ)):
            await line.send(frame_of(match, "tick", **match.told(tick)))
            batch = match.claims(tick, CLAIMS_A_SECOND // RATE_HZ + (tick % 16 < 7)) if tick > 20 else []
            for place, claim in enumerate(batch):
                if place % 4 == 0:  # sleeping for every one would be late by as much as they are apart
                    await until(start + (tick + 0.15 + 0.8 * place / len(batch)) / RATE_HZ)
                frame = frame_of(match, "claims", claims=[claim])
                sent_at[match.asked] = time.perf_counter()
                await line.send(frame)
                sent += 1
            if time.perf_counter() - began > SLICE_S and waits:
                recent = waits[-int(SLICE_S * CLAIMS_A_SECOND) :]
                slices.append([time.perf_counter() - start, *(1000.0 * np.quantile(recent, (0.5, 0.99)))])
                memory.append(await asyncio.to_thread(resident_mb, port))
                began = time.perf_counter()
            await until(start + (tick + 1) / RATE_HZ)
        late = (time.perf_counter() - start) / seconds - 1.0
        await line.send(frame_of(match, "state"))
        await asyncio.wait_for(reading, 60.0)
    p50, p99, most = (1000.0 * float(v) for v in np.quantile(waits, (0.5, 0.99, 1.0)))
    return {
        "seconds": seconds, "claims": sent, "lost": sent - ruled, "median_ms": p50, "p99_ms": p99,
        "worst_ms": most, "behind": late, "memory_mb": memory, "slices": slices,
    }  # fmt: skip


async def until(at: float) -> None:
    """Wait until an instant of `time.perf_counter`."""
    await asyncio.sleep(max(0.0, at - time.perf_counter()))


def batches(port: int, name: str, ticks: int, out: multiprocessing.Queue | None = None) -> tuple[float, float]:
    """Claims a second, in a match of its own: a request with all claims of a tick, one ahead of the replies, and the
    poses of that tick with it. All requests are made before the first is sent. And the service's own time for each,
    microseconds of a core.
    """
    match = Match(port, name)
    match.made = made = []
    for tick in range(24 + ticks):
        match.tick(tick)
        if tick >= 24:
            match.send("claims", claims=match.everybody(tick))
    start, busy = time.perf_counter(), 0.0
    for count, frame in enumerate(made):
        if count == 24:
            start, busy = time.perf_counter(), cpu_s(port)
        match.socket.send(frame)
        if count > 1:
            match.socket.recv()
    match.socket.recv()
    last = match.reply()["rulings"]
    took = time.perf_counter() - start
    rate = ticks * PLAYERS / took
    accepted = sum(one["outcome"] == "accepted" for one in last)
    assert accepted > 0.8 * PLAYERS, f"{accepted} accepted"
    if out is not None:
        out.set_position(rate)
    return rate, 1e6 * (cpu_s(port) - busy) / (ticks * PLAYERS)


def on_workers(workers: int, ticks: int) -> float:
    """Claims a second of one match on each of so many workers, each with an asker of its own, on the same cores."""
    from tinclock.serve.workers import worker_of

    service, port = served("--workers", str(workers))
    names = [next(f"m{n}" for n in range(1000) if worker_of(f"m{n}", workers) == k) for k in range(workers)]
    out: multiprocessing.Queue = multiprocessing.Queue()
    askers = [multiprocessing.Process(target=batches, args=(port, name, ticks, out), daemon=True) for name in names]
    try:
        for one in askers:
            one.start()
        return sum(out.get(timeout=60.0) for _ in askers)
    finally:
        service.terminate()
        service.wait(20)


def served(*options: str) -> tuple[subprocess.Popen, int]:
    """A service of our own, and its port."""
    run = [str(Path(sys.executable).parent / "tinclock"), "serve", "--port", "0", *options]
    service = subprocess.Popen(run, stdout=subprocess.PIPE, text=True)
    while ":" not in (told := json.loads(service.stdout.readline())).get("where", ""):  # or a worker
        pass
    threading.Thread(target=service.stdout.read, daemon=True).start()  # a log that nobody reads would stop it
    return service, int(told["where"].rsplit(":", 1)[1])


def misbehave(port: int) -> None:
    """Everything that one shouldn't do, until killed."""
    os.nice(ELSEWHERE)
    half = [socket.create_connection(("127.0.0.1", port)) for _ in range(20)]  # half-open: they never say anything
    half[0].sendall(b"GET / HTTP/1.1\r\nHos")
    rng, number = np.random.default_rng(os.getpid()), 0
    while True:
        number += 1
        try:
            with connect(f"ws://127.0.0.1:{port}", open_timeout=30) as one:
                for _ in range(50):
                    one.send(rng.bytes(int(rng.integers(1, 3000))))
                    one.recv(timeout=30)
            with connect(f"ws://127.0.0.1:{port}", open_timeout=30) as mute:  # asks and never reads
                for _ in range(200):
                    mute.send(PACK({"do": "state", "request": 1, "match": "steady"}))
                mute.socket.close()  # and is gone without a word
        except (Exception, SystemExit):  # the server may well cut such askers off
            time.sleep(0.05)


def tenfold(port: int) -> None:
    """Ten times the load on a match of its own, or as much as the service takes."""
    os.nice(ELSEWHERE)
    match, tick = Match(port, f"tenfold-{os.getpid()}"), 0
    while True:
        match.tick(tick)
        match.reply()
        if tick > 20:
            match.ask("claims", claims=match.claims(tick, 10 * CLAIMS_A_SECOND // RATE_HZ))
        tick += 1


def main() -> None:
    """Start the service, load it, print."""
    seconds = next((float(a) for a in sys.argv[1:] if a.replace(".", "").isdigit()), 600.0)
    service, port = served()
    rude = []
    try:
        match = Match(port, "steady")
        if "--unkind" in sys.argv:
            rude = [multiprocessing.Process(target=work, args=(port,), daemon=True) for work in (misbehave, tenfold)]
            for one in rude:
                one.start()
        gc.collect()
        gc.freeze()  # what the asker waits for in its own memory isn't the service's doing
        with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
            found = runner.run(steady(match, seconds, port))
        for one in rude:
            one.kill()
            one.join()
        found["batch_claims_per_s"], found["batch_us_of_a_core_each"] = batches(port, "batches", 1500)
        found["matches_failed"] = "tinclock_failed_matches_total 0.0" not in metrics(port)
    finally:
        for one in rude:
            one.kill()
        service.terminate()
    found["exit"] = service.wait(20)
    found["batch_claims_per_s_two_workers"] = on_workers(2, 1500)
    if "--image" in sys.argv:
        draw(found, Path(sys.argv[sys.argv.index("--image") + 1]))
    memory = found["memory_mb"]
    found["slices_p99_ms"] = [round(p99, 1) for _, _, p99 in found["slices"]]
    print(json.dumps({**{k: v for k, v in found.items() if k not in ("slices", "memory_mb")},
                      "memory_mb_first_last": [memory[0], memory[-1]] if memory else []}, indent=2))  # fmt: skip


def cpu_s(port: int) -> float:
    """What the service has had of a core, seconds; 0.0 where several processes tell."""
    told = re.findall(r"^process_cpu_seconds_total (\S+)", metrics(port), re.M)
    return float(told[0]) if len(told) == 1 else 0.0


def metrics(port: int) -> str:
    """What Prometheus would be told."""
    from urllib.request import urlopen

    with urlopen(f"http://127.0.0.1:{port}/metrics", timeout=10) as answer:
        return answer.read().decode()


def draw(found: dict, path: Path) -> None:
    """Percentiles and memory over time."""
    from tinclock.report.style import INK, RAY, STRUCK, dress, new_figure, save

    figure = new_figure("load.py")
    figure.text(
        0.06, 0.94, f"{PLAYERS} players, {CLAIMS_A_SECOND} claims a second through `tinclock serve`", fontsize=15
    )
    grid = figure.add_gridspec(2, 1, left=0.07, right=0.97, top=0.86, bottom=0.08, hspace=0.35)
    above, below = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    at, p50, p99 = zip(*found["slices"], strict=True)
    above.plot(at, p99, color=STRUCK, label="99th percentile")
    above.plot(at, p50, color=RAY, label="median")
    above.set_yscale("log")
    above.legend(frameon=False)
    below.plot(at, found["memory_mb"], color=INK)
    below.set_ylim(bottom=0.0)
    dress(above, "from sending a claim to having its receipt", "seconds", "ms")
    dress(below, "memory of the service", "seconds", "MB")
    save(figure, path)


if __name__ == "__main__":
    main()
