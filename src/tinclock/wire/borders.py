"""Border mode: connections' bytes as they came from clients go in, and the bytes to send back come out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.errors import OutOfHistoryError
from tinclock.wire.border import Border, JoinState
from tinclock.wire.bundle import client_bundle
from tinclock.wire.codec import LIMITS
from tinclock.wire.messages import News, Ping, Whole, encode

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.findings import Finding
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.calls import MatchCalls
    from tinclock.wire.flood import FloodState

MOST_NEWS = 256
"""Maximum number of events in one message. Where more are due, the client is sent the whole state."""


class Borders:
    """The borders of all connections of a match, and what clients that joined have not been sent yet.

    Each is made when the first message of an admitted connection comes; a stranger has none. `take` what came, and
    `deliver` a few times a second::

        borders = Borders(referee)
        answer, border = borders.take(connection, data, received_at=now)
        for connection, data in borders.deliver(now, ping=tick % 64 == 0):
            send(connection, data)

    referee : of the match; server : what takes claims and pongs, such as a `Recorder`; by default the referee
    """

    def __init__(self, referee: Referee, server: MatchCalls | None = None) -> None:
        server = referee if server is None else server
        self._referee, self._server = referee, server
        self._borders: dict[str, Border] = {}
        self._told: dict[str, int] = {}
        """The number of the last event that each connection that joined was told."""
        self._guards_then: dict[str, FloodState] = {}
        """Guards, as a killed process left them, of connections that haven't sent anything since."""
        self._rules: object = None
        self._digests: dict[str, str] = {}

    def take(self, connection: str, received: bytes, received_at: float) -> tuple[bytes | None, Border | None]:
        """Take one message; returns what to send back, if anything, and the border that it went through.

        Somebody who isn't admitted has no border, and is answered with nothing.
        """
        border = self._border(connection)
        if border is None:
            return None, None
        if len(received) > LIMITS.bytes:
            border.guard.refuse(LIMITS.bytes)
            border.last_ruling = None
            return None, border
        joined = border.version
        answer = border.take(received, received_at)
        if border.version is not None and joined is None:
            self._told[connection] = self._referee.ledger.bulletin.number
        return answer, border

    def _border(self, connection: str) -> Border | None:
        if not self._referee.knows(connection):
            return None
        border = self._borders.get(connection)
        if border is None:
            account = self._referee.account_of(connection)
            border = Border(self._server, connection, account=account, digests=self._bundle_digests())
            if connection in self._guards_then:
                border.guard.take_up(self._guards_then.pop(connection))
            self._borders[connection] = border
        return border

    def _bundle_digests(self) -> dict[str, str]:
        if self._rules is not self._referee.rules:
            self._rules, self._digests = self._referee.rules, client_bundle(self._referee.rules).digests
        return self._digests

    def deliver(self, server_time: float, ping: bool) -> list[tuple[str, bytes]]:
        """Return the messages for all joined clients: changes since their last message, and, if asked, a ping."""
        out, bulletin = list[tuple[str, bytes]](), self._referee.ledger.bulletin
        for connection, told in self._told.items():
            form = self._borders[connection].form
            if told < bulletin.number:
                out.append((connection, encode(self._news(told), form)))
                self._told[connection] = bulletin.number
            if ping:
                out.append((connection, encode(Ping(self._server.ping(connection, server_time)), form)))
        return out

    def _news(self, told: int) -> News | Whole:
        try:
            events = self._referee.events(since=told)
        except OutOfHistoryError:
            return Whole(self._referee.state())
        return News(tuple(events)) if len(events) <= MOST_NEWS else Whole(self._referee.state())

    def refuse(self, connection: str, received: bytes) -> None:
        """A message was dropped in a process that was killed: it counts as dropped here too."""
        border = self._border(connection)
        if border is not None:
            border.guard.refuse(min(len(received), LIMITS.bytes))

    def dropped_of(self, connection: str) -> int:
        """Return the number of a connection's messages that were dropped so far."""
        border = self._borders.get(connection)
        return 0 if border is None else border.guard.dropped

    def forget(self, connection: str) -> None:
        """A connection was dismissed: one of the same name begins anew."""
        self._guards_then.pop(connection, None)
        self._borders.pop(connection, None)
        self._told.pop(connection, None)

    def guards(self) -> dict[str, FloodState]:
        """Return the state of every connection's flood guard."""
        return {**self._guards_then, **{name: border.guard.state() for name, border in self._borders.items()}}

    def joined(self) -> dict[str, JoinState]:
        """Format of each connection's join, and the last event that it was sent."""
        return {
            name: JoinState(border.version, border.form, self._told[name])
            for name, border in self._borders.items()
            if border.version is not None
        }

    def take_up(self, guards: Mapping[str, FloodState], joined: Mapping[str, JoinState]) -> None:
        """Let guards and joins stand as those of a process that was killed did."""
        self._guards_then = dict(guards)
        for name, border in self._borders.items():
            if name in guards:
                border.guard.take_up(self._guards_then.pop(name))
        for name, state in joined.items():
            self.rejoin(name, state)

    def rejoin(self, connection: str, state: JoinState) -> None:
        """A connection joined in a process that was killed. One that isn't here yet joins again when it comes."""
        border = self._border(connection)
        if border is not None:
            border.version, border.form, self._told[connection] = state.version, state.form, state.told

    def findings(self, server_time: float) -> list[Finding]:
        """Return the messages that borders dropped since the last call."""
        return [finding for border in self._borders.values() for finding in border.findings(server_time)]

    @property
    def dropped(self) -> int:
        """Messages that were dropped so far."""
        return sum(state.dropped for state in self.guards().values())
