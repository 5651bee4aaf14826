"""The loop: datagrams in, answers, snapshots and news out. python server.py [PORT] [SECONDS]"""

from __future__ import annotations

import asyncio
import json
import sys
import time
from pathlib import Path

from arena import Arena

import tinclock
from tinclock.wire import EventBatch, Join, Ping, decode_message, encode

PINGS_EVERY_S, SILENT_S = 0.25, 5.0


class Server(asyncio.DatagramProtocol):
    """Tells connections apart by their address. Put your own log-in before `join`: an address proves nothing."""

    def __init__(self, arena: Arena) -> None:
        self.arena, self.started = arena, asyncio.get_running_loop().time()
        self.heard: dict[tuple[str, int], float] = {}

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The socket is open."""
        self.transport: asyncio.DatagramTransport = transport  # type: ignore[assignment]

    @property
    def now(self) -> float:
        """Server time."""
        return asyncio.get_running_loop().time() - self.started

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """Something came from somebody."""
        name = f"{addr[0]}:{addr[1]}"
        if addr not in self.heard:
            if not isinstance(decode_message(data), Join):
                return  # of one who was let go: it makes no second body, which nobody would play
            self.arena.join(name, account=name)
        self.heard[addr] = self.now
        answer = self.arena.receive(name, data, self.now)
        if answer is not None:
            self.transport.sendto(answer, addr)

    def tick(self) -> None:
        """One step of the match, and what it means to everybody."""
        for addr in [addr for addr, at in self.heard.items() if self.now - at > SILENT_S]:
            del self.heard[addr]
            self.arena.leave(f"{addr[0]}:{addr[1]}")
        arena, events = self.arena, self.arena.step(self.now)
        if arena.tick % arena.rules.match.snapshot_every == 0:
            bodies = {entity: arena.place(entity) for entity in arena.entities.values()}
            snapshot = json.dumps({"kind": "snapshot", "tick": arena.tick, "bodies": bodies}).encode()
            for addr in self.heard:
                self.transport.sendto(snapshot, addr)
        if events:  # datagrams get lost: a real game tells news again until it is acknowledged
            for addr in self.heard:
                self.transport.sendto(encode(EventBatch(tuple(events)), "json"), addr)
        if arena.tick % round(PINGS_EVERY_S * arena.rules.match.tick_rate_hz) == 0:
            for addr in self.heard:
                nonce = arena.server.ping(f"{addr[0]}:{addr[1]}", self.now)
                self.transport.sendto(encode(Ping(nonce), "json"), addr)


async def main(port: int, seconds: float) -> None:
    """Serve for so long, recording the match."""
    print("loading kernels (about a minute the first time, then a second)", flush=True)
    tinclock.warm_up()
    folder = Path("matches") / f"{time.strftime('%Y%m%d-%H%M%S')}-{port}"
    folder.parent.mkdir(exist_ok=True)
    arena, loop = Arena(record_to=folder), asyncio.get_running_loop()
    _, server = await loop.create_datagram_endpoint(lambda: Server(arena), local_addr=("127.0.0.1", port))
    print(f"udp 127.0.0.1:{port}, recording {folder}", flush=True)
    while server.now < seconds:
        server.tick()
        await asyncio.sleep(max(0.0, (arena.tick + 1) / arena.rules.match.tick_rate_hz - server.now))
    if arena.recorder is not None:
        arena.recorder.close()
    last = f", tinclock explain {folder} {arena.last_ruling}" if arena.last_ruling else ""
    print(f"{arena.tick + 1} ticks; next: tinclock info {folder}{last}")


if __name__ == "__main__":
    port, seconds = (sys.argv[1:] + ["7465", "3600"][len(sys.argv) - 1 :])[:2]
    asyncio.run(main(int(port), float(seconds)))
