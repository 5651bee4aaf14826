"""The hub on sockets: WebSocket over TCP or a Unix socket, a token, heartbeats, metrics, and an orderly end."""

from __future__ import annotations

import asyncio
import hmac
import ipaddress
import signal
import time
from http import HTTPStatus
from typing import TYPE_CHECKING, Any, NamedTuple

from tinclock.core.errors import BadNumberError, MissingExtraError

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

    from tinclock.serve.hub import Hub

MOST_FRAME = 8 << 20
"""Bytes of one request: a tick of 1,000 bodies takes a tenth of it."""
MOST_WAITING = 16
"""Frames that wait for one connection's turn; then its sender has to."""
TURN_S = 0.003
"""So long one connection's frames are handled before others have their turn."""
HEARTBEAT_S = 10.0


class Settings(NamedTuple):
    """Where to listen, and who may ask. host, port or unix; token : what askers must show, empty for none."""

    host: str = "127.0.0.1"
    port: int = 7464
    unix: Path | None = None
    token: str = ""


def require_safe(settings: Settings) -> None:
    """Raise `BadNumberError` for an address that others can reach without a token."""
    if settings.unix is not None or settings.token or settings.host == "localhost":
        return
    try:
        near = ipaddress.ip_address(settings.host).is_loopback
    except ValueError:
        near = False
    if not near:
        raise BadNumberError("host", "this machine's own (127.0.0.1, ::1), or a token for any other", settings.host)


class Metrics:
    """What Prometheus is told."""

    def __init__(self, hub: Hub) -> None:
        from prometheus_client import CollectorRegistry, Gauge, Histogram, ProcessCollector

        self._hub, self.registry = hub, CollectorRegistry()
        self.connections = Gauge("tinclock_connections", "Connections that are open", registry=self.registry)
        self.handling = Histogram(
            "tinclock_request_seconds", "Time from a frame to its reply", registry=self.registry,
            buckets=(0.0001, 0.00025, 0.0005, 0.001, 0.002, 0.004, 0.008, 0.016, 0.064, 0.25),
        )  # fmt: skip
        self.registry.register(self)
        ProcessCollector(registry=self.registry)

    def collect(self) -> list[Any]:
        """The hub's own counts, in Prometheus' form."""
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily

        hub = self._hub
        requests = CounterMetricFamily("tinclock_requests", "Requests by kind", labels=["kind"])
        rulings = CounterMetricFamily("tinclock_rulings", "Rulings by outcome", labels=["outcome"])
        for kind, count in hub.requests.items():
            requests.add_metric([kind], count)
        for outcome, count in hub.outcomes.items():
            rulings.add_metric([outcome], count)
        failures = CounterMetricFamily("tinclock_failed_matches", "Matches lost by a fault", value=hub.failures)
        matches = GaugeMetricFamily("tinclock_matches", "Matches that are open", value=len(hub.matches))
        return [requests, rulings, failures, matches]


class Service:
    """One process' service. Everything happens on one event loop, a frame at a time."""

    def __init__(self, hub: Hub, settings: Settings, log: Callable[..., None]) -> None:
        require_safe(settings)
        try:
            import prometheus_client
            import websockets
        except ImportError as error:
            raise MissingExtraError("tinclock serve", str(error.name), "serve") from None
        del prometheus_client, websockets
        self._hub, self._settings, self._log = hub, settings, log
        self._metrics = Metrics(hub)
        self._stop = asyncio.Event()

    def stop(self) -> None:
        """End: no more requests are taken, those under way are answered, recordings are closed."""
        self._stop.set()

    async def run(self) -> None:
        """Serve until `stop`, or a SIGTERM or SIGINT."""
        from websockets.asyncio.server import serve, unix_serve

        loop, settings = asyncio.get_running_loop(), self._settings
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, self.stop)
        options: dict[str, Any] = {
            "process_request": self._greet, "max_size": MOST_FRAME, "max_queue": MOST_WAITING,
            "ping_interval": HEARTBEAT_S, "ping_timeout": HEARTBEAT_S, "compression": None,
        }  # fmt: skip
        if settings.unix is not None:
            server = await unix_serve(self._talk, str(settings.unix), **options)
            where = str(settings.unix)
        else:
            server = await serve(self._talk, settings.host, settings.port, **options)
            where = "{}:{}".format(*next(iter(server.sockets)).getsockname()[:2])
        self._log("listening", where=where, token=bool(settings.token))
        await self._stop.wait()
        self._log("stopping", matches=len(self._hub.matches))
        server.close()
        await server.wait_closed()
        self._hub.close()
        self._log("stopped", requests=sum(self._hub.requests.values()), failures=self._hub.failures)

    def _greet(self, connection: Any, request: Any) -> Any:
        """Answer what a browser or Prometheus asks; let in who shows the token."""
        if self._settings.token:
            shown = request.headers.get("Authorization", "").removeprefix("Bearer ")
            if not hmac.compare_digest(shown.encode(), self._settings.token.encode()):
                self._log("refused", path=request.path[:60])
                return connection.respond(HTTPStatus.UNAUTHORIZED, "a token is needed: Authorization: Bearer TOKEN\n")
        if request.path == "/metrics":
            from prometheus_client import generate_latest

            return connection.respond(HTTPStatus.OK, generate_latest(self._metrics.registry).decode())
        if request.path == "/health":
            return connection.respond(HTTPStatus.OK, "ok\n")
        return None

    async def _talk(self, connection: Any) -> None:
        """One asker: its frames in order, each reply before the next frame is looked at."""
        from websockets.exceptions import ConnectionClosed

        self._metrics.connections.inc()
        self._log("connected")
        frames, turn = 0, time.perf_counter()
        try:
            async for frame in connection:
                frames += 1
                began = time.perf_counter()
                reply = self._hub.handle(frame)
                ended = time.perf_counter()
                self._metrics.handling.observe(ended - began)
                await connection.send(reply)
                if ended - turn > TURN_S:  # by time, not by frames: one with large frames doesn't starve the others
                    await asyncio.sleep(0)
                    turn = time.perf_counter()
        except ConnectionClosed:
            pass
        finally:
            self._metrics.connections.dec()
            self._log("disconnected", frames=frames)
