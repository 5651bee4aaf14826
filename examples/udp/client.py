"""A client over UDP: predicts itself, is put right by receipts, draws the others between snapshots, shoots at one."""

from __future__ import annotations

import asyncio
import math
import sys

import msgspec
from lossy import calling

import tinclock
from tinclock.garden.scenario import data_file
from tinclock.wire.bundle import client_bundle
from tinclock.wire.messages import Answer, Join, Joined, News, Ping, Pong, ToClient

DELAY_TICKS, STEP_S, PACE_M_S, EYE_UP_M, GIVE_UP_S = 6.4, 1 / 32, 3.0, 1.65, 30.0
PACK, READ = msgspec.msgpack.Encoder().encode, msgspec.msgpack.Decoder(ToClient).decode


class Client:
    """What one player's program knows."""

    def __init__(self, name: str) -> None:
        self.name, self.joined, self.place = name, None, [0.0, 0.0, 0.0]
        self.sequence = self.snapshots = self.corrected = self.shots = self.upheld = self.hits = 0
        self.waiting: dict[int, bytes] = {}
        self.moves: list[tuple[int, list[float]]] = []
        self.held: dict[int, dict[int, list[float]]] = {}
        self.newest, self.newest_at = 0, 0.0

    def take(self, data: bytes, _: object) -> None:
        """A datagram came."""
        if b"snapshot" in data[:20]:
            self.shown(msgspec.msgpack.decode(data, strict=False, type=dict))
            return
        message = READ(data)
        if isinstance(message, Joined) and self.joined is None:
            self.joined, self.state, self.sequence = message, message.state, message.next_sequence - 1
        elif isinstance(message, Ping):
            self.line.send(PACK(Pong(message.nonce, self.clock())))
        elif isinstance(message, News) and self.joined is not None:
            for event in message.events:  # the same ones come again and again: each counts once
                if event.number == self.state.number + 1:
                    self.state = tinclock.follow(self.state, event)
        elif isinstance(message, Answer):
            self.answered(message.receipt)

    def answered(self, receipt: tinclock.Receipt) -> None:
        """A claim was ruled. Where the server has the body elsewhere, go there and walk again what came after."""
        if self.waiting.pop(receipt.sequence, None) is not None:
            self.upheld += receipt.outcome == "upheld"
            self.hits += len(receipt.hits)
        known = [place for number, place in self.moves if number == receipt.sequence]
        if known and receipt.told is not None and receipt.told.position is not None:
            off = [a - b for a, b in zip(receipt.told.position, known[0], strict=True)]
            if math.hypot(*off) > 1e-6:
                self.corrected += 1
                self.place = [a + b for a, b in zip(self.place, off, strict=True)]
            self.moves = [(number, place) for number, place in self.moves if number > receipt.sequence]

    def shown(self, snapshot: dict) -> None:
        """A snapshot came: where everybody is, and with the first one where we are."""
        self.snapshots += 1
        bodies = {int(entity): place for entity, place in snapshot["bodies"].items()}
        if self.joined is not None and not self.moves and self.place == [0.0, 0.0, 0.0]:
            self.place = list(bodies.get(self.joined.entity, self.place))
        self.held[snapshot["tick"]] = bodies
        if snapshot["tick"] > self.newest:
            self.newest, self.newest_at = snapshot["tick"], self.clock()

    def clock(self) -> float:
        """This client's own."""
        return asyncio.get_running_loop().time() + 100.0 * len(self.name)

    def claim(self, kind: type, *, keep: bool = True, **fields: object) -> None:
        """Number a claim and send it. It is kept until it is answered, unless the next one makes up for it."""
        self.sequence += 1
        data = PACK(kind(self.sequence, self.joined.entity, **fields))
        self.line.send(data)
        if keep:
            self.waiting[self.sequence] = data

    def shoot(self) -> None:
        """At the nearest other that the screen shows, 100 ms ago, between two snapshots that came."""
        drawn = self.newest + (self.clock() - self.newest_at) * 64 - DELAY_TICKS
        before, after = (
            max((t for t in self.held if t <= drawn), default=0),
            min((t for t in self.held if t > drawn), default=0),
        )
        if not (before and after):
            return
        share, eye = (drawn - before) / (after - before), [*self.place[:2], self.place[2] + EYE_UP_M]
        both = {e: (p, self.held[after][e]) for e, p in self.held[before].items() if e in self.held[after]}
        others = {
            e: [u + share * (v - u) for u, v in zip(*way, strict=True)]
            for e, way in both.items()
            if e != self.joined.entity
        }
        if others:
            aim = min(others.values(), key=lambda place: math.dist(place, self.place))
            to = [aim[0] - eye[0], aim[1] - eye[1], aim[2] + 1.3 - eye[2]]
            way = tuple(v / math.hypot(*to) for v in to)
            self.shots += 1
            self.claim(tinclock.ShotClaim, weapon="pea_rifle", origin=(eye[0] + 0.09, eye[1], eye[2]), direction=way,
                       view=tinclock.View(before, after, share))  # fmt: skip


async def main(name: str, port: int, seconds: float) -> None:
    """Play for a while, then leave."""
    client, loop = Client(name), asyncio.get_running_loop()
    client.line = await calling(port, client.take, seed=len(name))
    digests, start = client_bundle(tinclock.load_rules(data_file("garden.toml"))).digests, loop.time()
    while client.joined is None:
        if loop.time() - start > GIVE_UP_S:
            raise SystemExit(f"{name}: no server answers on port {port}")
        client.line.send(PACK(Join((1,), digests)))
        await asyncio.sleep(0.1)
    step = 0
    while loop.time() - start < seconds:
        step += 1
        if client.place != [0.0, 0.0, 0.0]:
            client.place[0] += PACE_M_S * STEP_S * math.cos(step / 20)
            client.place[1] += PACE_M_S * STEP_S * math.sin(step / 20)
            client.claim(tinclock.MoveClaim, keep=False, position=tuple(client.place), command_time=client.clock())
            client.moves.append((client.sequence, list(client.place)))
            if step % 12 == 0:
                client.shoot()
        for number in [n for n in client.waiting if n < client.sequence - 4]:
            client.line.send(client.waiting[number])  # unanswered for long: the same bytes once more
        await asyncio.sleep(STEP_S)
    for _ in range(40):  # what is still under way
        for data in client.waiting.values():
            client.line.send(data)
        await asyncio.sleep(0.05)
        if not client.waiting:
            break
    health, own = {row.entity: row.health for row in client.state.entities}, client.joined
    print(f"{name}: entity {own.entity}, same rules {own.same_rules}, {client.snapshots} snapshots; "
          f"{client.sequence} claims, {len(client.waiting)} unanswered; {client.shots} shots, {client.hits} hits, "
          f"{client.corrected} corrections; event {client.state.number}, health {health}")  # fmt: skip
    for _ in range(5):
        client.line.transport.sendto(b"leave")


if __name__ == "__main__":
    asyncio.run(main(sys.argv[1], int(sys.argv[2]), float(sys.argv[3])))
