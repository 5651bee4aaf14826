"""Pass-through mode: connections' bytes as they came from clients go in, and the bytes to send back come out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.errors import OutOfHistoryError
from tinclock.wire.bundled_rules import client_rules
from tinclock.wire.codec import LIMITS
from tinclock.wire.gateway import Gateway, JoinState
from tinclock.wire.messages import EventBatch, FullState, GameMessage, Ping, encode

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.findings import Finding
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.calls import MatchCalls
    from tinclock.wire.flood import FloodState

MAX_NEWS = 256
"""Maximum number of events in one message. Where more are due, the client is sent the whole state."""


class Gateways:
    """The gateways of all connections of a match, and what clients that joined have not been sent yet.

    Each is made when the first message of an admitted connection comes; a stranger has none. `take` what came, and
    `deliver` a few times a second::

        gateways = Gateways(referee)
        answer, gateway = gateways.receive(connection, data, received_at=now)
        for connection, data in gateways.outgoing(now, ping=tick % 64 == 0):
            send(connection, data)

    referee : of the match; server : what takes claims and pongs, such as a `Recorder`; by default the referee
    """

    def __init__(self, referee: Referee, server: MatchCalls | None = None) -> None:
        server = referee if server is None else server
        self._referee, self._server = referee, server
        self._borders: dict[str, Gateway] = {}
        self._told: dict[str, int] = {}
        """The number of the last event that each connection that joined was told."""
        self._guards_then: dict[str, FloodState] = {}
        """Guards, as a killed process left them, of connections that haven't sent anything since."""
        self._rules: object = None
        self._digests: dict[str, str] = {}

    def receive(self, connection: str, received: bytes, received_at: float) -> tuple[bytes | None, Gateway | None]:
        """Take one message; returns what to send back, if anything, and the gateway that it went through.

        Somebody who isn't admitted has no gateway, and is answered with nothing.
        """
        gateway = self._border(connection)
        if gateway is None:
            return None, None
        if len(received) > LIMITS.bytes:
            gateway.guard.refuse(LIMITS.bytes)
            gateway.last_ruling = None
            return None, gateway
        joined = gateway.version
        answer = gateway.receive(received, received_at)
        if gateway.version is not None and joined is None:
            self._told[connection] = self._referee.ledger.bulletin.number
        return answer, gateway

    def _border(self, connection: str) -> Gateway | None:
        if not self._referee.has_connection(connection):
            return None
        gateway = self._borders.get(connection)
        if gateway is None:
            account = self._referee.account_of(connection)
            gateway = Gateway(self._server, connection, account=account, digests=self._bundle_digests())
            if connection in self._guards_then:
                gateway.guard.take_up(self._guards_then.pop(connection))
            self._borders[connection] = gateway
        return gateway

    def _bundle_digests(self) -> dict[str, str]:
        if self._rules is not self._referee.rules:
            self._rules, self._digests = self._referee.rules, client_rules(self._referee.rules).digests
        return self._digests

    def outgoing(self, server_time: float, ping: bool) -> list[tuple[str, bytes]]:
        """Return the messages for all joined clients: changes since their last message, and, if asked, a ping."""
        self.forget_dismissed()
        out, bulletin = list[tuple[str, bytes]](), self._referee.ledger.bulletin
        for connection, told in self._told.items():
            form = self._borders[connection].form
            if told < bulletin.number:
                out.append((connection, encode(self._news(told), form)))
                self._told[connection] = bulletin.number
            if ping:
                out.append((connection, encode(Ping(self._server.ping(connection, server_time)), form)))
        return out

    def game_message(self, connection: str, body: object) -> bytes | None:
        """Return a message of the game's own for a client that joined, in its format; None for one that didn't."""
        gateway = self._borders.get(connection)
        return None if gateway is None or gateway.version is None else encode(GameMessage(body), gateway.form)

    def _news(self, told: int) -> EventBatch | FullState:
        try:
            events = self._referee.events(since=told)
        except OutOfHistoryError:
            return FullState(self._referee.state())
        return EventBatch(tuple(events)) if len(events) <= MAX_NEWS else FullState(self._referee.state())

    def refuse(self, connection: str, received: bytes) -> None:
        """A message was dropped in a process that was killed: it counts as dropped here too."""
        gateway = self._border(connection)
        if gateway is not None:
            gateway.guard.refuse(min(len(received), LIMITS.bytes))

    def dropped_of(self, connection: str) -> int:
        """Return the number of a connection's messages that were dropped so far."""
        gateway = self._borders.get(connection)
        return 0 if gateway is None else gateway.guard.dropped

    def forget(self, connection: str) -> None:
        """A connection was dismissed: one of the same name begins anew."""
        self._guards_then.pop(connection, None)
        self._borders.pop(connection, None)
        self._told.pop(connection, None)

    def forget_dismissed(self) -> None:
        """Forget connections that are no longer admitted, such as one that another of its account took over."""
        for connection in [name for name in self._borders if not self._referee.has_connection(name)]:
            self.forget(connection)

    def guards(self) -> dict[str, FloodState]:
        """Return the state of every connection's flood guard."""
        return {**self._guards_then, **{name: gateway.guard.state() for name, gateway in self._borders.items()}}

    def joined(self) -> dict[str, JoinState]:
        """Format of each connection's join, and the last event that it was sent."""
        return {
            name: JoinState(gateway.version, gateway.form, self._told[name])
            for name, gateway in self._borders.items()
            if gateway.version is not None
        }

    def take_up(self, guards: Mapping[str, FloodState], joined: Mapping[str, JoinState]) -> None:
        """Let guards and joins stand as those of a process that was killed did."""
        self._guards_then = dict(guards)
        for name, gateway in self._borders.items():
            if name in guards:
                gateway.guard.take_up(self._guards_then.pop(name))
        for name, state in joined.items():
            self.rejoin(name, state)

    def rejoin(self, connection: str, state: JoinState) -> None:
        """A connection joined in a process that was killed. One that isn't here yet joins again when it comes."""
        gateway = self._border(connection)
        if gateway is not None:
            gateway.version, gateway.form, self._told[connection] = state.version, state.form, state.told

    def findings(self, server_time: float) -> list[Finding]:
        """Return the messages that gateways dropped since the last call."""
        return [finding for gateway in self._borders.values() for finding in gateway.findings(server_time)]

    @property
    def dropped(self) -> int:
        """Messages that were dropped so far."""
        return sum(state.dropped for state in self.guards().values())
