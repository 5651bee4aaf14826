"""What a client has to send: claims that it repeats until they are answered, and others that it doesn't."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.wire.codec import encode_claim

if TYPE_CHECKING:
    from tinclock.core.claims import Claim

AGAIN_S, MOST_TRIES = 0.15, 5


class _Waiting:
    """A claim that wasn't answered yet."""

    __slots__ = ("again_at", "claim", "tries")

    def __init__(self, claim: bytes, again_at: float) -> None:
        self.claim, self.again_at, self.tries = claim, again_at, 1


class Mail:
    """The way out of one client. held_back_s : how long it keeps everything back, which is unfair."""

    def __init__(self, round_trip_s: float, held_back_s: float) -> None:
        self._again_s = round_trip_s + AGAIN_S
        self._held_back_s = held_back_s
        self._out: list[tuple[float, bytes]] = []
        self._waiting: dict[int, _Waiting] = {}

    def put(self, claim: Claim, now: float, *, answered: bool = True, copies: int = 0) -> None:
        """Send a claim; one that wants an answer is sent again until it has one."""
        data = encode_claim(claim)
        at = now + self._held_back_s
        self._out += [(at, data)] * (1 + copies)
        if answered:
            self._waiting[claim.sequence] = _Waiting(data, at + self._again_s)

    def answered(self, sequence: int) -> None:
        """A receipt came."""
        self._waiting.pop(sequence, None)

    def due(self, now: float) -> list[bytes]:
        """What goes out now."""
        ready = [data for at, data in self._out if at <= now]
        if ready:
            self._out = [item for item in self._out if item[0] > now]
        for sequence, one in list(self._waiting.items()):
            if one.again_at > now:
                continue
            if one.tries == MOST_TRIES:
                del self._waiting[sequence]
                continue
            one.tries += 1
            one.again_at = now + self._again_s * one.tries
            ready.append(one.claim)
        return ready
