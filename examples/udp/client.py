"""A client over UDP: predicts itself, is put right by receipts, draws the others between snapshots, shoots at one."""

from __future__ import annotations

import asyncio
import math
import sys

import msgspec
from body import STEP_S, Body
from lossy import calling
from screen import Screen

import tinclock
from tinclock.claims import MoveClaim, ShotClaim
from tinclock.sample import data_file
from tinclock.wire import EventBatch, Join, JoinAccepted, Ping, Pong, ReceiptMessage, ToClient, client_rules

GIVE_UP_S = 30.0
PACK, READ = msgspec.msgpack.Encoder().encode, msgspec.msgpack.Decoder(ToClient).decode


class Client:
    """What one player's program knows."""

    def __init__(self, name: str) -> None:
        self.name, self.joined, self.body = name, None, Body()
        self.sequence = self.shots = self.hits = 0
        self.waiting: dict[int, bytes] = {}
        self.screen = Screen()

    def take(self, data: bytes, _: object) -> None:
        """A datagram came."""
        if b"snapshot" in data[:20]:
            bodies = self.screen.take(msgspec.msgpack.decode(data, strict=False, type=dict), self.clock())
            if self.joined is not None and self.body.place is None and self.joined.entity in bodies:
                self.body.place = list(bodies[self.joined.entity])
            return
        message = READ(data)
        if isinstance(message, JoinAccepted) and self.joined is None:
            self.joined, self.state, self.sequence = message, message.state, message.next_sequence - 1
        elif isinstance(message, Ping):
            self.line.send(PACK(Pong(message.nonce, self.clock())))
        elif isinstance(message, EventBatch) and self.joined is not None:
            for event in message.events:  # the same ones come again and again: each counts once
                if event.number == self.state.number + 1:
                    self.state = tinclock.client.apply_event(self.state, event)
        elif isinstance(message, ReceiptMessage):
            self.answered(message.receipt)

    def answered(self, receipt: tinclock.Receipt) -> None:
        """A claim was ruled."""
        if self.waiting.pop(receipt.sequence, None) is not None:
            self.hits += len(receipt.hits)
        self.body.answered(receipt)

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
        view = self.screen.view(self.clock())
        others = {} if view is None else self.screen.drawn(view, self.joined.entity)
        if others:
            eye = self.body.eye()
            aim = min(others.values(), key=lambda place: math.dist(place, self.body.place))
            to = [aim[0] - eye[0], aim[1] - eye[1], aim[2] + 1.3 - eye[2]]
            way = tuple(v / math.hypot(*to) for v in to)
            self.shots += 1
            self.claim(ShotClaim, weapon="grit_rifle", origin=(eye[0] + 0.09, eye[1], eye[2]), direction=way,
                       view=view)  # fmt: skip


async def main(name: str, port: int, seconds: float) -> None:
    """Play for a while, then leave."""
    client, loop = Client(name), asyncio.get_running_loop()
    client.line = await calling(port, client.take, seed=len(name))
    digests, start = client_rules(tinclock.load_rules(data_file("garden.toml"))).digests, loop.time()
    while client.joined is None:
        if loop.time() - start > GIVE_UP_S:
            raise SystemExit(f"{name}: no server answers on port {port}")
        client.line.send(PACK(Join((2,), digests)))
        await asyncio.sleep(0.1)
    step, body = 0, client.body
    while loop.time() - start < seconds:
        step += 1
        if body.place is not None:
            body.step(step / 20)
            client.claim(MoveClaim, keep=False, position=tuple(body.place), client_time=client.clock())
            body.moves.append((client.sequence, list(body.place)))
            if step % 12 == 0:
                client.shoot()
        for number in [n for n in client.waiting if n < client.sequence - 4]:
            client.line.send(client.waiting[number])  # unanswered for long: the same bytes once more
        await asyncio.sleep(STEP_S)
    until = loop.time() + 2.0
    while client.waiting and loop.time() < until:  # what is still under way
        for data in client.waiting.values():
            client.line.send(data)
        await asyncio.sleep(0.05)
    health, own = {row.entity: row.health for row in client.state.entities}, client.joined
    print(f"{name}: entity {own.entity}, same rules {own.same_rules}, {client.screen.snapshots} snapshots; "
          f"{client.sequence} claims, {len(client.waiting)} unanswered; {client.shots} shots, {client.hits} hits, "
          f"{body.corrected} corrections; event {client.state.number}, health {health}")  # fmt: skip
    for _ in range(5):
        client.line.transport.sendto(b"leave")


if __name__ == "__main__":
    asyncio.run(main(sys.argv[1], int(sys.argv[2]), float(sys.argv[3])))
