"""A small authoritative server over UDP: joins, moves, shots, snapshots, pings, news; silent clients are let go."""

from __future__ import annotations

import asyncio
import sys
from collections import Counter

import msgspec
import numpy as np
from lossy import listening

import tinclock
from tinclock.sample import data_file
from tinclock.wire import EventBatch, Gateway, Join, Ping, client_rules, decode_message, encode

RATE_HZ, SILENT_S, TOLD_AGAIN = 64, 3.0, 48
PLACES = ((-6.0, -3.0, 0.0), (6.0, -3.0, 0.0), (0.0, -2.5, 0.0), (-3.0, -4.0, 0.0), (3.0, -4.0, 0.0))
PACK = msgspec.msgpack.Encoder().encode


class Server:
    """Who is in, and what they are told."""

    def __init__(self) -> None:
        rules = tinclock.load_rules(data_file("garden.toml"))
        self.referee = tinclock.Referee(rules, level=tinclock.load_level(data_file("garden_level.toml")), seed=7)
        self.digests = client_rules(rules).digests
        self.gateways: dict[tuple[str, int], Gateway] = {}
        self.entity: dict[tuple[str, int], int] = {}
        self.heard: dict[tuple[str, int], float] = {}
        self.count, self.outcomes, self.events = 0, Counter[str](), list[tinclock.Event]()
        self.start = asyncio.get_running_loop().time()

    @property
    def now(self) -> float:
        """Server time."""
        return asyncio.get_running_loop().time() - self.start

    def take(self, data: bytes, address: tuple[str, int]) -> None:
        """A datagram came: from a stranger who joins, or for somebody's gateway."""
        if data == b"leave":
            self.let_go(address)
            return
        if address not in self.gateways:
            if not isinstance(decode_message(data), Join):
                return  # of one who left, still under way then
            self.let_in(address)
        self.heard[address] = self.now
        gateway = self.gateways[address]
        answer = gateway.receive(data, self.now)
        if (ruling := gateway.last_ruling) is not None:
            self.outcomes[f"{ruling.kind} {ruling.outcome}" if ruling.first is None else "repeated"] += 1
        if answer is not None:
            self.line.send(answer, address)

    def let_in(self, address: tuple[str, int]) -> None:
        """Ids are the server's; the address is only where to answer."""
        self.count += 1
        name, place = f"c{self.count}", PLACES[self.count % len(PLACES)]
        team = ("copper", "pewter")[self.count % 2]
        entity = self.referee.admit(connection=name, account=name, team=team, rig="gardener", weapon="grit_rifle")
        self.referee.set_position(entity, place)
        self.gateways[address] = Gateway(self.referee, name, account=name, digests=self.digests)
        self.entity[address] = entity

    def let_go(self, address: tuple[str, int]) -> None:
        """Gone at once: nobody hits it any more, at any view."""
        if address in self.gateways:
            self.referee.dismiss(self.gateways.pop(address).connection)
            self.entity.pop(address), self.heard.pop(address)

    def tick(self, tick: int) -> None:
        """Poses, a snapshot every other tick, news, pings."""
        for address in [a for a, at in self.heard.items() if self.now - at > SILENT_S]:
            self.let_go(address)
        referee, ids = self.referee, sorted(self.entity.values())
        for entity in ids:
            if not referee.ledger.alive(entity):
                referee.spawn(entity, self.now)
        rig = referee.history.rigs["gardener"]
        roots = np.array([[*referee.position(entity), 0.0, 0.0, 0.0, 1.0] for entity in ids]).reshape(-1, 7)
        referee.record(tick, self.now, ids, tinclock.rooted_bones(rig, roots))
        referee.advance(self.now)
        self.events += referee.events()
        if tick % 2:
            return
        referee.snapshot_sent(tick)
        snapshot = PACK(
            {"kind": "snapshot", "tick": tick, "bodies": dict(zip(ids, roots[:, :3].tolist(), strict=True))}
        )
        news = encode(EventBatch(tuple(self.events[-TOLD_AGAIN:])))  # told again and again: a lost one is made good
        for address, gateway in list(self.gateways.items()):
            self.line.send(snapshot, address)
            self.line.send(news, address)
            if tick % 16 == 0:
                self.line.send(encode(Ping(referee.ping(gateway.connection, self.now))), address)


async def main(players: int, max_s: float) -> None:
    """Serve until so many have come and all have left, or for so long; the first line printed is the port."""
    server = Server()
    server.line, port = await listening(server.take, seed=1)
    print(port, flush=True)
    tick = 0
    while server.now < max_s:
        if server.count >= players and sum(event.kind == "left" for event in server.events) >= server.count:
            break
        server.tick(tick)
        tick += 1
        await asyncio.sleep(max(0.0, tick / RATE_HZ - server.now))
    kinds = Counter(event.kind for event in server.events)
    ruled, line = dict(sorted(server.outcomes.items())), server.line
    print(f"server: {server.count} joined, {kinds['left']} left, {len(server.events)} events; {ruled}; "
          f"{line.lost} datagrams lost, {line.twice} sent twice")  # fmt: skip


if __name__ == "__main__":
    asyncio.run(main(int(sys.argv[1]), float(sys.argv[2])))
