"""A player: python client.py [PORT] [SECONDS] [NAME]. It walks about and shoots by itself, and prints its receipts.

In a terminal you play it: type w, a, s or d to walk, f to fire at the nearest, q to leave, and press Enter.
"""

from __future__ import annotations

import asyncio
import json
import math
import sys
from collections import deque

import tinclock
from tinclock.wire import client_rules

DELAY_S, STEP_S, SPEED_M_S, CHEST_M = 0.1, 0.05, 3.0, 0.3
WAYS = {"w": (1.0, 0.0), "s": (-1.0, 0.0), "a": (0.0, 1.0), "d": (0.0, -1.0)}


class Client(asyncio.DatagramProtocol):
    """State of a player's program: its own position, the snapshots that came, the events that it got."""

    def __init__(self, hands: bool) -> None:
        self.entity, self.sequence, self.hands = 0, 0, hands
        self.place: list[float] | None = None
        self.heading, self.health = 0.0, 1.0
        self.snapshots: deque[tuple[float, int, dict[str, list[float]]]] = deque(maxlen=40)
        self.walk, self.told, self.leaving = "w", 0, False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The socket is open."""
        self.line: asyncio.DatagramTransport = transport  # type: ignore[assignment]

    def send(self, kind: str, **fields: object) -> None:
        """Send a message as JSON."""
        self.line.sendto(json.dumps({"kind": kind, **fields}).encode())

    def claim(self, kind: str, **fields: object) -> None:
        """Number a claim and send it."""
        self.sequence += 1
        self.send(kind, sequence=self.sequence, actor=self.entity, **fields)

    def clock(self) -> float:
        """This client's own clock."""
        return asyncio.get_running_loop().time()

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """Something came from the server."""
        message = json.loads(data)
        if message["kind"] == "join_accepted" and not self.entity:
            self.entity, self.sequence = message["entity"], message["next_sequence"] - 1
            print(f"in: entity {self.entity}, same rules as the server: {message['same_rules']}", flush=True)
        elif message["kind"] == "ping":
            self.send("pong", nonce=message["nonce"], client_time=self.clock())
        elif message["kind"] == "snapshot":
            if not self.snapshots or message["tick"] > self.snapshots[-1][1]:
                self.snapshots.append((self.clock(), message["tick"], message["bodies"]))
            if self.place is None and str(self.entity) in message["bodies"]:
                self.place = list(message["bodies"][str(self.entity)])
        elif message["kind"] == "events":
            for event in message["events"]:
                if event["kind"] == "spawn" and event["entity"] == self.entity and self.place is not None:
                    self.place, self.health = None, 1.0  # where, the next snapshot says
        elif message["kind"] == "receipt":
            self.answered(message["receipt"])

    def answered(self, receipt: dict) -> None:
        """A claim was ruled. The server's word on where this body is counts: a correction is taken over."""
        state = receipt.get("state") or {}
        if receipt["outcome"] != "accepted" and state.get("position") is not None:
            self.place = list(state["position"])
            self.heading += 0.0 if self.hands else 1.0  # away from what stood in the way
        if state.get("health", 1.0) <= 0.0 < self.health:
            print("dead; back in a few seconds", flush=True)
        self.health = state.get("health", self.health)
        if receipt["sequence"] == self.told:  # of moves only what went wrong is worth a line
            hits = [f"entity {hit['victim']} in the {hit['part']}" for hit in receipt.get("hits", ())]
            print(f"shot {receipt['sequence']}: {receipt['outcome']}; hit {' and '.join(hits) or 'nobody'}; "
                  f"{state.get('magazine')} left, health {state.get('health'):g}", flush=True)  # fmt: skip

    def view(self) -> tuple[list, dict[str, list[float]]] | None:
        """View of the screen: two snapshots that came, the fraction between them, and the bodies there."""
        at = self.clock() - DELAY_S
        for (came, tick, before), (then, later, after) in zip(self.snapshots, list(self.snapshots)[1:], strict=False):
            if came <= at <= then:
                share = (at - came) / max(then - came, 1e-6)
                bodies = {
                    who: [a + share * (b - a) for a, b in zip(place, after[who], strict=True)]
                    for who, place in before.items()
                    if who in after
                }
                return [tick, later, share], bodies
        return None

    def step(self) -> None:
        """Walk on, and say where to."""
        if self.place is None or self.health <= 0.0:
            return
        ahead, aside = WAYS.get(self.walk, (0.0, 0.0))
        if not self.hands:
            self.heading += 0.04  # round in a circle
        along = (math.cos(self.heading), math.sin(self.heading))
        self.place[0] += SPEED_M_S * STEP_S * (ahead * along[0] - aside * along[1])
        self.place[1] += SPEED_M_S * STEP_S * (ahead * along[1] + aside * along[0])
        shown = self.view()
        self.claim("move", position=self.place, client_time=self.clock(), heading=self.heading,
                   view=None if shown is None else shown[0])  # fmt: skip

    def fire(self) -> None:
        """At the nearest other that the screen shows."""
        shown = self.view()
        if shown is None or self.place is None or self.health <= 0.0:
            return
        view, bodies = shown
        others = [place for who, place in bodies.items() if who != str(self.entity)]
        if not others:
            return
        eye = [self.place[0], self.place[1], self.place[2] + 1.7]
        aim = min(others, key=lambda place: math.dist(place, self.place or place))
        to = [aim[0] - eye[0], aim[1] - eye[1], aim[2] + 0.95 + CHEST_M - eye[2]]
        length = math.hypot(*to)
        self.claim("shot", weapon="popper", origin=eye, direction=[v / length for v in to], view=view,
                   client_time=self.clock())  # fmt: skip
        self.told = self.sequence
        self.heading = math.atan2(to[1], to[0]) if self.hands else self.heading

    def typed(self) -> None:
        """A line was typed."""
        for key in sys.stdin.readline().strip():
            if key in WAYS:
                self.walk = key
            elif key == "f":
                self.fire()
            elif key == "q":
                self.leaving = True


async def main(port: int, seconds: float, name: str) -> None:
    """Play for a while."""
    loop, hands = asyncio.get_running_loop(), sys.stdin.isatty()
    _, client = await loop.create_datagram_endpoint(lambda: Client(hands), remote_addr=("127.0.0.1", port))
    digests, until = client_rules(tinclock.load_rules("rules.toml")).digests, loop.time() + seconds
    while not client.entity:
        if loop.time() > until:
            raise SystemExit(f"{name}: no server answers on port {port}; start it with `python server.py`")
        client.send("join", versions=[2], digests=digests)
        await asyncio.sleep(0.2)
    if hands:
        loop.add_reader(sys.stdin, client.typed)
        client.walk = ""
    step = 0
    while loop.time() < until and not client.leaving:
        step += 1
        client.step()
        if not hands and step % 10 == 0:
            client.fire()
        await asyncio.sleep(STEP_S)
    print(f"{name}: {client.sequence} claims, {len(client.snapshots)} snapshots held; left")


if __name__ == "__main__":
    port, seconds, name = (sys.argv[1:] + ["7465", "60", "me"][len(sys.argv) - 1 :])[:3]
    asyncio.run(main(int(port), float(seconds), name))
