"""Rate limit of one connection: a hurried player's messages after a stall pass, a flood doesn't."""

from __future__ import annotations

from typing import Final, NamedTuple

from tinclock.core.errors import BadNumberError
from tinclock.core.ruling.claims import ImpactClaim, LaunchClaim, MeleeClaim
from tinclock.wire.messages import Join

COSTS: Final[dict[type, float]] = {LaunchClaim: 2.0, ImpactClaim: 2.0, MeleeClaim: 1.5, Join: 10.0}
"""Costs of messages that are more work than others, by kind; the rest cost 1. A join gets the full state."""


class FloodLimits(NamedTuple):
    """Average rate of a connection's messages, and the time for which it may save them up."""

    messages_per_s: float = 250.0
    bytes_per_s: float = 64_000.0
    saved_s: float = 2.0
    """A line that was silent for so long may send all of that at once."""
    unreadable_cost: float = 8.0
    """A message that can't be read counts as so many: reading garbage is work too."""


GAME_LIMITS: Final = FloodLimits(messages_per_s=20.0, bytes_per_s=16_000.0)
"""Limits of a connection's messages of the game's own (default 20 per second and 16 kB per second)."""
_GAME: Final = (b'{"kind":"game"', b'{"kind": "game"', b"\x82\xa4kind\xa4game", b"\x81\xa4kind\xa4game")


def is_of_the_game(received: bytes) -> bool:
    """True if a message is one of the game's own, by its first bytes: encoders write `kind` first."""
    return received.startswith(_GAME)


class FloodState(NamedTuple):
    """State of a guard: the server time, in seconds, until which each bucket is used up, and counts of messages."""

    messages_until: float
    bytes_until: float
    passed: int
    dropped: int
    dropped_bytes: int
    dropped_since: int


class FloodGuard:
    """Two token buckets of one connection: over any time T at most (T + saved_s) times each rate passes."""

    def __init__(self, limits: FloodLimits | None = None) -> None:
        self.limits = limits or FloodLimits()
        for name in ("messages_per_s", "bytes_per_s", "saved_s"):
            if not getattr(self.limits, name) > 0.0:
                raise BadNumberError(name, "a number above 0", getattr(self.limits, name))
        self._message_s, self._bytes_per_s = 1.0 / self.limits.messages_per_s, self.limits.bytes_per_s
        self._saved_s = self.limits.saved_s
        self.passed = self.dropped = self.dropped_bytes = 0
        self._messages_until = self._bytes_until = float("-inf")
        self._dropped_since = 0

    def admit(self, now: float, size: int) -> bool:
        """True if a message of so many bytes passes at a server time; one that doesn't costs nothing more."""
        messages, octets = self._messages_until, self._bytes_until
        messages = (messages if messages > now else now) + self._message_s
        octets = (octets if octets > now else now) + size / self._bytes_per_s
        latest = now + self._saved_s
        if messages > latest or octets > latest:
            self.refuse(size)
            return False
        self._messages_until, self._bytes_until = messages, octets
        self.passed += 1
        return True

    def state(self) -> FloodState:
        """State of the connection."""
        return FloodState(
            self._messages_until, self._bytes_until, self.passed, self.dropped, self.dropped_bytes, self._dropped_since
        )

    def take_up(self, state: FloodState) -> None:
        """Stand as another one did."""
        self._messages_until, self._bytes_until = state.messages_until, state.bytes_until
        self.passed, self.dropped, self.dropped_bytes, self._dropped_since = state[2:]

    def refuse(self, size: int) -> None:
        """A message is dropped for another reason than its rate; it is counted with the others."""
        self.dropped += 1
        self.dropped_bytes += size
        self._dropped_since += 1

    def charge(self, cost: float) -> None:
        """The message that just passed takes as much work as so many."""
        self._messages_until += (cost - 1.0) / self.limits.messages_per_s

    def take_dropped(self) -> int:
        """Return the number of dropped messages since the last call."""
        count, self._dropped_since = self._dropped_since, 0
        return count
