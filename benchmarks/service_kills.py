"""Kill a service with SIGKILL at random moments while two matches in pass-through mode go on: service_kills.py 300

Two workers, four joined clients in each match that shoot, a ping every second. One kill in ten hits the front, the
others a worker. Prints which matches were lost, and compares replies and recordings with the same matches played
without kills. (The reply to `open` names the folder; a kill before it goes out leaves an empty folder behind.)
"""

from __future__ import annotations

import contextlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from websockets.exceptions import WebSocketException
from websockets.sync.client import unix_connect

from tinclock import View
from tinclock.claims import ShotClaim
from tinclock.recordings import Recording, replay
from tinclock.serve.hub import Hub
from tinclock.serve.workers import worker_of

PLAYERS, RATE_HZ = 4, 64
NAMES = [next(name for name in "abcdef" if worker_of(name, 2) == number) for number in (0, 1)]
RULES = (files("tinclock.garden") / "data" / "garden.toml").read_text(encoding="utf-8")
POSE = np.array([[0.0, 0.0, 0.6, 0.0, 0.0, 0.0, 1.0]], "<f4")


def requests_of(match: str, ticks: int) -> list[dict[str, Any]]:
    """Return everything that a match's server asks, in order."""
    pack = msgspec.msgpack.encode
    out: list[dict[str, Any]] = [{"do": "open", "rules": RULES, "seed": 5}]
    names = [f"c{k}" for k in range(PLAYERS)]
    for name in names:
        who = {"connection": name, "account": f"{match}-{name}", "rig": "sprinkler", "weapon": "grit_rifle"}
        out.append({"do": "call", "call": "admit", "arguments": who})
    join = pack({"kind": "join", "versions": [2]})
    out.append({"do": "messages", "messages": [(name, 0.0, join) for name in names]})
    bones = np.concatenate([POSE + np.array([3 * k, 0, 0, 0, 0, 0, 0], "<f4") for k in range(PLAYERS)]).tobytes()
    ids = np.arange(1, PLAYERS + 1, dtype="<i8").tobytes()
    for tick in range(ticks):
        now = tick / RATE_HZ
        ticked = {"tick": tick, "server_time": now, "entities": ids, "bones": bones, "snapshot_sent": tick % 2 == 0}
        out.append({"do": "tick", **ticked})
        if tick % 8 == 7:
            view = View(tick - 7, tick - 5, 0.5)
            shots = [
                ShotClaim(tick // 8 + 1, k + 1, "grit_rifle", (3.0 * k, 0.0, 0.7), (1.0, 0.0, 0.0), view)
                for k in range(PLAYERS)
            ]
            messages = [(name, now, pack(shot)) for name, shot in zip(names, shots, strict=True)]
            out.append({"do": "messages", "messages": messages})
        if tick % 4 == 1:
            out.append({"do": "outgoing", "server_time": now, "ping": tick % RATE_HZ == 1})
    return [{"match": match, "request": number, **one} for number, one in enumerate(out, 1)]


class Server:
    """A game's server that asks everything once, however often the service dies meanwhile."""

    def __init__(self, folder: Path, log: Any) -> None:
        self.at, self.starting = folder / "s", threading.Lock()
        run = [sys.executable, "-m", "tinclock", "serve", "--unix", str(self.at), "--workers", "2"]
        self.run = [*run, "--checkpoint-interval", "1.5", "--record", str(folder / "matches")]
        self.log = log
        self.process = self.start()
        self.replies: dict[str, dict[int, bytes]] = {name: {} for name in NAMES}
        self.lost: list[str] = []

    def start(self) -> subprocess.Popen[bytes]:
        """Start the service."""
        return subprocess.Popen(self.run, stdout=self.log)

    def workers(self) -> list[int]:
        """Return the process numbers of its workers."""
        asked = subprocess.run(["ps", "-o", "pid=", "--ppid", str(self.process.pid)], capture_output=True, check=False)
        return [int(one) for one in asked.stdout.split()]

    def connected(self) -> Any:
        """Connect, starting the service again where it died."""
        while True:
            with contextlib.suppress(OSError, WebSocketException, EOFError):
                return unix_connect(str(self.at), uri="ws://localhost/", max_size=None)
            with self.starting:
                if self.process.poll() is not None:
                    self.process = self.start()
            time.sleep(0.02)

    def play(self, match: str, requests: list[dict[str, Any]]) -> None:
        """Ask everything of one match."""
        left = list(requests)
        while left and match not in self.lost:
            with contextlib.suppress(WebSocketException, OSError, EOFError), self.connected() as socket:
                self._go_on(socket, match, left)
            time.sleep(0.02)

    def close(self, match: str) -> None:
        """End a match, once its worker is there."""
        reply = {"again": True}
        while reply.get("retry"):
            time.sleep(0.1)
            with self.connected() as socket:
                socket.send(msgspec.msgpack.encode({"do": "close", "request": 0, "match": match}))
                reply = msgspec.msgpack.decode(socket.recv())

    def _go_on(self, socket: Any, match: str, left: list[dict[str, Any]]) -> None:
        taken = self.replies[match]
        if taken:
            asked = {"do": "resume", "request": 0, "match": match, "last_reply": max(taken)}
            socket.send(msgspec.msgpack.encode(asked))
            back = msgspec.msgpack.decode(socket.recv())
            if back.get("retry"):
                return
            if not back.get("ok", True):
                self.lost.append(f"{match}: {back}")
                self.lost.append(match)
                return
            for frame in back.get("replies", ()):
                self._take(match, frame, left)
        while left:
            socket.send(msgspec.msgpack.encode(left[0]))
            frame = socket.recv()
            if msgspec.msgpack.decode(frame).get("retry"):
                return
            self._take(match, frame, left)

    def _take(self, match: str, frame: bytes, left: list[dict[str, Any]]) -> None:
        if left and msgspec.msgpack.decode(frame)["request"] == left[0]["request"]:
            self.replies[match][left.pop(0)["request"]] = frame


def is_whole_state(reply: bytes) -> bool:
    """True if a reply only sends clients the full state, which they get after a kill."""
    sent = msgspec.msgpack.decode(reply).get("outgoing", ())
    return bool(sent) and all(msgspec.msgpack.decode(data)["kind"] == "full_state" for _, data in sent)


def kill_on(server: Server, kills: int, total: int, dice: random.Random, done: threading.Event) -> None:
    """Kill, each time once some more was answered; one kill in ten hits the front."""
    for number in range(kills):
        aim = number * total // (kills + 1) + dice.randint(0, total // (kills + 1))
        while sum(map(len, server.replies.values())) < aim and not done.is_set():
            time.sleep(0.001)
        if done.is_set():
            return
        workers = server.workers()
        with contextlib.suppress(ProcessLookupError):
            os.kill(server.process.pid if number % 10 == 9 or not workers else dice.choice(workers), signal.SIGKILL)
        if number % 20 == 19:
            print(f"{number + 1} kills", flush=True)


def main() -> None:
    """Play with and without kills, and compare."""
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    folder = Path(tempfile.mkdtemp())
    ticks = max(640, 12 * kills)
    requests = {name: requests_of(name, ticks) for name in NAMES}
    calm = Hub(folder / "calm")
    expected = {
        name: {one["request"]: calm.handle(msgspec.msgpack.encode(one)) for one in asked}
        for name, asked in requests.items()
    }
    calm.close()
    done = threading.Event()
    with (folder / "log").open("wb") as log:
        server = Server(folder, log)
        total = sum(map(len, requests.values()))
        killer = threading.Thread(target=kill_on, args=(server, kills, total, random.Random(3), done))
        players = [threading.Thread(target=server.play, args=one) for one in requests.items()]
        for thread in (killer, *players):
            thread.start()
        for thread in players:
            thread.join()
        done.set()
        killer.join()
        for name in NAMES:
            server.close(name)
        server.process.terminate()
        server.process.wait(30.0)
    print(f"{kills} kills, {total} requests; lost: {server.lost or 'none'}")
    for name in NAMES:
        kept_in = msgspec.msgpack.decode(server.replies[name][1])["answer"]
        first, second = Recording(folder / "calm" / name), Recording(kept_in)
        replies, asked = server.replies[name], expected[name]
        differing = [number for number, reply in asked.items() if number > 1 and replies.get(number) != reply]
        told = sum(is_whole_state(replies[number]) for number in differing)
        same = first.flushes[-1].rulings_sha256 == second.flushes[-1].rulings_sha256
        same &= first.flushes[-1].events_sha256 == second.flushes[-1].events_sha256
        print(
            f"{name}: {second.flushes[-1].rulings} rulings, replies that differ {len(differing) - told}, full states "
            f"sent after a kill {told}, digests equal {same}, as recorded {replay(second).as_recorded}"
        )


if __name__ == "__main__":
    main()
