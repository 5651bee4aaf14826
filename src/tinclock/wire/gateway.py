"""Gateway of one connection: it takes the bytes that a client sent and returns the bytes to send back."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol

from tinclock.core.errors import UnknownNameError
from tinclock.core.findings import Finding
from tinclock.wire.bundled_rules import differences
from tinclock.wire.codec import LIMITS, Limits, Received, Unreadable, decode_message
from tinclock.wire.flood import COSTS, GAME_LIMITS, FloodGuard, FloodLimits, is_of_the_game
from tinclock.wire.messages import (
    GameMessage,
    Join,
    JoinAccepted,
    JoinRefused,
    Pong,
    ReceiptMessage,
    ViewReport,
    encode,
    negotiated,
)

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling


class Server(Protocol):
    """Interface that a gateway needs: a `Referee`, or a `Recorder` in front of one."""

    def rule(self, connection: str, claim: object, *, received_at: float) -> Ruling:
        """See `Referee.rule`."""

    def pong(self, connection: str, nonce: object, client_time: object, received_at: float) -> str:
        """See `Referee.pong`."""

    def report_view(self, connection: str, view: object, client_time: object, received_at: float) -> bool:
        """See `Referee.report_view`."""


class JoinState(NamedTuple):
    """State of a gateway after its client's join: version, format of answers, and the last event that it was sent."""

    version: int
    form: Literal["json", "msgpack"]
    told: int


def joined_by(received: bytes, limits: Limits = LIMITS) -> JoinState | None:
    """Return the state that a message makes, had its gateway let it through; None for anything but a join."""
    message = decode_message(received, limits)
    version = negotiated(message) if isinstance(message, Join) else None
    return None if version is None else JoinState(version, "json" if received[:1] == b"{" else "msgpack", -1)


class Gateway:
    """Takes one connection's messages. Nothing that comes makes it raise, and everything that it does is bounded.

    server : rules on the claims; the connection is admitted there before the gateway is made
    digests : of the server's own client bundle; without them nobody is asked what it was built with
    account : of the connection, for findings; game_limits : rate of messages of the game's own
    """

    def __init__(
        self, server: Server, connection: str, *, account: str = "", digests: Mapping[str, str] | None = None,
        flood: FloodLimits | None = None, limits: Limits = LIMITS, game_limits: FloodLimits = GAME_LIMITS,
    ) -> None:  # fmt: skip
        self._server, self.connection, self.account = server, connection, account
        self._digests, self._limits = digests, limits
        self.guard, self.game_guard = FloodGuard(flood), FloodGuard(game_limits)
        self.version: int | None = None
        """Agreed form of messages; None before a join."""
        self.differing: list[str] = []
        """The parts of the rules with which the client was not built, for the server's log."""
        self.form: Literal["json", "msgpack"] = "msgpack"
        """Format of answers: that of the client's join."""
        self.last_ruling: Ruling | None = None
        """Of the message that was taken last; None where it was no claim."""
        self.game_message: GameMessage | None = None
        """The message that was taken last, where it is one of the game's own."""

    def receive(self, received: bytes, received_at: float) -> bytes | None:
        """Take a message that came at a server time; returns what to send back, if anything.

        Before its join is accepted a client is told only that. A repeated join is answered again: the first answer may
        have been lost. What was still under way when its sender was dismissed is answered with nothing.
        """
        self.last_ruling = self.game_message = None
        guard = self.game_guard if is_of_the_game(received) else self.guard
        if not guard.admit(received_at, len(received)):
            return None
        message = decode_message(received, self._limits)
        unreadable = isinstance(message, Unreadable)
        guard.charge(self.guard.limits.unreadable_cost if unreadable else COSTS.get(type(message), 1.0))
        if isinstance(message, Join):
            try:
                return self._join(message, received)
            except UnknownNameError:
                return None
        if self.version is None:
            return encode(JoinRefused("not_a_join"), "json" if received[:1] == b"{" else "msgpack")
        if isinstance(message, GameMessage):
            self.game_message = message
            return None
        if isinstance(message, Pong):
            with suppress(UnknownNameError):
                self._server.pong(self.connection, message.nonce, message.client_time, received_at)
            return None
        if isinstance(message, ViewReport):
            view = (message.from_tick, message.to_tick, message.fraction)
            with suppress(UnknownNameError):
                self._server.report_view(self.connection, view, message.client_time, received_at)
            return None
        claim = Received(received, message) if getattr(self._server, "takes_bytes", False) else message
        self.last_ruling = ruling = self._server.rule(self.connection, claim, received_at=received_at)
        return encode(ReceiptMessage(ruling.receipt()), self.form)

    def _join(self, join: Join, received: bytes) -> bytes:
        form: Literal["json", "msgpack"] = "json" if received[:1] == b"{" else "msgpack"
        version = negotiated(join)
        if version is None:
            return encode(JoinRefused("version"), form)
        self.version, self.form = version, form
        self.differing = [] if self._digests is None else differences(self._digests, join.digests)
        server: Any = self._server
        referee: Referee = getattr(server, "referee", server)
        welcome = referee.welcome(self.connection)
        return encode(
            JoinAccepted(
                version, welcome.entity, welcome.spread_key, welcome.next_sequence, welcome.tick_rate_hz,
                welcome.snapshot_every, not self.differing, welcome.state,
            ),
            form,
        )  # fmt: skip

    def findings(self, server_time: float) -> list[Finding]:
        """Return the gateway's findings since the last call: the number of messages that were dropped as a flood."""
        count = self.guard.take_dropped()
        if not count:
            return []
        rate = self.guard.limits.messages_per_s
        detail = f"{count} messages dropped, {self.guard.dropped_bytes} bytes since the start"
        return [
            Finding("flooded", self.connection, self.account, 0, 0, server_time, float(count), rate, None, "", detail)
        ]
