"""Messages that a client has to send. Those that need an answer are in every packet until they have one, as usual:
a packet that is lost is made good by the next, in order.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.wire.codec import encode_claim

if TYPE_CHECKING:
    from tinclock.core.ruling.claims import Claim

GIVE_UP_S = 0.6


class Item(NamedTuple):
    """A claim in a packet. again : it was in an earlier one too, so a server that has it needn't rule it again."""

    sequence: int
    claim: bytes
    again: bool


class Mail:
    """The way out of one client. held_back_s : how long it keeps everything back, which is unfair."""

    def __init__(self, held_back_s: float) -> None:
        self._held_back_s = held_back_s
        self._fresh: list[tuple[float, Item, bool]] = []
        self._unanswered: dict[int, tuple[float, bytes]] = {}

    def put(self, claim: Claim, now: float, *, answered: bool = True, copies: int = 0) -> None:
        """Send a claim; one that wants an answer is sent again until it has one."""
        item = Item(claim.sequence, encode_claim(claim), False)
        self._fresh += [(now + self._held_back_s, item, answered)] * (1 + copies)

    def answered(self, sequence: int) -> None:
        """A receipt came."""
        self._unanswered.pop(sequence, None)

    def waits_for(self, sequence: int) -> bool:
        """True if an answer may still come."""
        return sequence in self._unanswered or any(item.sequence == sequence for _, item, _ in self._fresh)

    def packet(self, now: float) -> list[Item]:
        """Return the packet to send now: nothing, or new messages after those without an answer."""
        due = [entry for entry in self._fresh if entry[0] <= now]
        if not due:
            return []
        self._fresh = [entry for entry in self._fresh if entry[0] > now]
        old = [number for number, (since, _) in self._unanswered.items() if now - since > GIVE_UP_S]
        for number in old:
            del self._unanswered[number]
        out = [Item(number, data, True) for number, (_, data) in self._unanswered.items()]
        for _, item, answered in due:
            out.append(item)
            if answered:
                self._unanswered[item.sequence] = (now, item.claim)
        return out
