"""Datagrams on a bad line: some are lost, some arrive twice, on purpose and by a seed."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable

LOST, TWICE = 0.10, 0.05


class Line(asyncio.DatagramProtocol):
    """A socket whose sendings suffer; what arrives goes to `take(data, address)`."""

    def __init__(self, seed: int, take: Callable[[bytes, tuple[str, int]], None]) -> None:
        self._dice, self._take = random.Random(seed), take
        self.sent = self.lost = self.twice = 0

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The socket is open."""
        self.transport: asyncio.DatagramTransport = transport  # type: ignore[assignment]

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """Something came."""
        self._take(data, addr)

    def send(self, data: bytes, address: tuple[str, int] | None = None) -> None:
        """Send, with luck."""
        self.sent += 1
        if self._dice.random() < LOST:
            self.lost += 1
            return
        self.transport.sendto(data, address)
        if self._dice.random() < TWICE:
            self.twice += 1
            self.transport.sendto(data, address)


async def listening(take: Callable[[bytes, tuple[str, int]], None], seed: int) -> tuple[Line, int]:
    """A line that listens on a free port of this machine, and that port."""
    loop = asyncio.get_running_loop()
    transport, line = await loop.create_datagram_endpoint(lambda: Line(seed, take), local_addr=("127.0.0.1", 0))
    return line, transport.get_extra_info("sockname")[1]


async def calling(port: int, take: Callable[[bytes, tuple[str, int]], None], seed: int) -> Line:
    """A line to a port of this machine."""
    loop = asyncio.get_running_loop()
    _, line = await loop.create_datagram_endpoint(lambda: Line(seed, take), remote_addr=("127.0.0.1", port))
    return line
