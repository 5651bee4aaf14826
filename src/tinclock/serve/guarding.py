"""Limits of a match's callers: size and rate of claims, before anything is ruled, kept or logged."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.findings import Finding
from tinclock.wire.codec import LIMITS
from tinclock.wire.flood import FloodGuard

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from tinclock.core.referee import Referee
    from tinclock.wire.flood import FloodLimits, FloodState

STRANGERS = ""
"""Connections that aren't admitted share one guard: their names are anybody's."""


class Guards:
    """The flood guards of one match, one a connection. What is dropped is counted, not copied."""

    def __init__(self, referee: Referee, limits: FloodLimits | None = None) -> None:
        self._referee, self._limits = referee, limits
        self._guards: dict[str, FloodGuard] = {}
        self._refused: set[str] = set()
        """Return the connections whose claims were dropped since the last call."""
        self.too_large = 0

    def drops(self, claims: Sequence[tuple[str, float, bytes]]) -> list[bool]:
        """Return the dropped ones of claims (connection, server time of arrival, bytes), in order; empty for none."""
        passed: list[bool] = []
        find, has_connection, most = self._guards.get, self._referee.has_connection, LIMITS.bytes
        for connection, received_at, data in claims:
            name = connection if has_connection(connection) else STRANGERS
            guard, size = find(name) or self._guard(name), len(data)
            if size > most:
                self.too_large += 1
                guard.refuse(most)  # it counts against its connection's rate all the same
                passed.append(False)
            else:
                passed.append(guard.admit(received_at, size))
            if not passed[-1]:
                self._refused.add(name)
        return [] if all(passed) else [not one for one in passed]

    def _guard(self, name: str) -> FloodGuard:
        self._guards[name] = guard = FloodGuard(self._limits)
        return guard

    def states(self) -> dict[str, FloodState]:
        """Return the state of every guard, by connection."""
        return {name: guard.state() for name, guard in self._guards.items()}

    def take_up(self, states: Mapping[str, FloodState]) -> None:
        """Stand as the guards of a process that was killed did."""
        self._guards.clear()
        for name, state in states.items():
            self._guard(name).take_up(state)
        self._refused = {name for name, state in states.items() if state.dropped_since}

    @property
    def dropped(self) -> int:
        """Claims that were dropped so far, too large ones included."""
        return sum(guard.dropped for guard in self._guards.values())

    def findings(self, server_time: float) -> list[Finding]:
        """Return a finding per connection for messages dropped since the last call; guards of leavers are removed once
        there are more guards than connections.
        """
        out, refused = [], self._refused
        for name in [name for name in self._guards if name in refused] if refused else ():
            guard = self._guards[name]
            count, rate, account = guard.take_dropped(), guard.limits.messages_per_s, self._referee.account_of(name)
            detail = f"{count} messages dropped, {guard.dropped_bytes} bytes since the start"
            out.append(Finding("flooded", name, account, 0, 0, server_time, float(count), rate, None, "", detail))
        refused.clear()
        if len(self._guards) > len(self._referee.connections) + (STRANGERS in self._guards):
            gone = [name for name in self._guards if name != STRANGERS and not self._referee.has_connection(name)]
            for name in gone:
                del self._guards[name]
        return out
