"""The hub on sockets: WebSocket over TCP or a Unix socket, a token, heartbeats, metrics, and an orderly end."""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import ipaddress
import os
import signal
import socket
import sys
import threading
import time
from http import HTTPStatus
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from tinclock.core.errors import BadNumberError, MissingExtraError
from tinclock.core.plain import Fields
from tinclock.serve.doing import outcome_of, unwrapped
from tinclock.serve.turns import Turn, Turns

if TYPE_CHECKING:
    from collections.abc import Awaitable, Callable, Coroutine
    from pathlib import Path

    from tinclock.serve.hub import Hub

MAX_FRAME = 8 << 20
"""Bytes of one request: a tick of 1,000 bodies takes a tenth of it."""
MAX_WAITING = 16
"""Frames that wait for one connection's turn; then its sender has to."""
HEARTBEAT_S = 10.0
"""Interval of pings to a silent connection, and the timeout for its answer or its reading."""
ABANDONED_S = 300.0
DRAIN_S, DRAIN_LOOK_S, BUSY_LOOK_S = 3600.0, 0.2, 0.005
CLOSING_S, RECORDING_S = 1.5, 5.0
"""At the end: how long connections may take to close, and recordings to be put down."""
SWITCH_S = 0.001
"""Interval after which Python lets another thread run: work beside the loop must not delay it."""


class Settings(NamedTuple):
    """Address of the service, and its callers.

    host, port, or unix : a socket's path; token : what askers must show, empty for none
    origins : of web pages that may ask; by default none may. hosts : names besides its address that it is reached by
    abandoned_s : a match whose askers are all gone is closed after so long
    at_sigterm : "keep" leaves recorded matches open for the next process, "drain" first waits until they have ended,
        "close" ends them; matches that nobody records end in any case
    drain_s : maximum wait of "drain"; then "keep" applies
    """

    host: str = "127.0.0.1"
    port: int = 7464
    unix: Path | None = None
    token: str = ""
    origins: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    abandoned_s: float = ABANDONED_S
    at_sigterm: Literal["keep", "drain", "close"] = "keep"
    drain_s: float = DRAIN_S


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
    """Metrics for Prometheus."""

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
            if outcome == "dropped":
                continue
            rulings.add_metric([outcome], count)
        dropped = CounterMetricFamily("tinclock_dropped_claims", "Claims that came too fast or were too large",
                                      value=hub.outcomes["dropped"])  # fmt: skip
        failures = CounterMetricFamily("tinclock_failed_matches", "Matches lost by a fault", value=hub.failures)
        matches = GaugeMetricFamily("tinclock_matches", "Matches that are open", value=len(hub.matches))
        return [requests, rulings, dropped, failures, matches]


class Entrance:
    """Address of a service, and its tokens.

    metrics, health : what is shown at /metrics and /health; "ok" and a line feed where all is well
    """

    def __init__(
        self, settings: Settings, log: Callable[..., None], metrics: Callable[[], Awaitable[str]],
        health: Callable[[], Awaitable[str]],
    ) -> None:  # fmt: skip
        require_safe(settings)
        self._settings, self._log, self._metrics, self._health = settings, log, metrics, health

    async def listen(self, talk: Callable[[Any], Any]) -> tuple[Any, str]:
        """Begin to listen; returns the server, and where. talk : takes each connection that is let in"""
        from websockets.asyncio.server import serve, unix_serve

        settings = self._settings
        options: Fields = {
            "process_request": self._greet, "max_size": MAX_FRAME, "max_queue": MAX_WAITING,
            "ping_interval": HEARTBEAT_S, "ping_timeout": HEARTBEAT_S, "close_timeout": CLOSING_S, "compression": None,
        }  # fmt: skip
        if settings.unix is None:
            server = await serve(talk, settings.host, settings.port, **options)
            return server, "{}:{}".format(*next(iter(server.sockets)).getsockname()[:2])
        require_free(settings.unix)
        mask = os.umask(0o177)  # the socket is its owner's alone from the first moment on
        try:
            server = await unix_serve(talk, str(settings.unix), **options)
        finally:
            os.umask(mask)
        return server, str(settings.unix)

    async def _greet(self, connection: Any, request: Any) -> Any:
        """Answer what a browser or Prometheus asks; let in clients with the token, and no web page of strangers."""
        headers, settings = request.headers, self._settings
        if not all(origin in settings.origins for origin in headers.get_all("Origin")):
            return self._refuse(connection, request, HTTPStatus.FORBIDDEN, "web pages may not ask here\n")
        if settings.unix is None and not _is_ours(headers.get_all("Host"), settings):
            return self._refuse(connection, request, HTTPStatus.MISDIRECTED_REQUEST, "this is another host\n")
        if settings.token:
            shown = headers.get_all("Authorization")
            expected = f"Bearer {settings.token}".encode()
            if len(shown) != 1 or not hmac.compare_digest(shown[0].encode(), expected):
                wanted = "a token is needed: Authorization: Bearer TOKEN\n"
                return self._refuse(connection, request, HTTPStatus.UNAUTHORIZED, wanted)
        if request.path == "/metrics":
            return connection.respond(HTTPStatus.OK, await self._metrics())
        if request.path == "/health":
            said = await self._health()
            return connection.respond(HTTPStatus.OK if said == "ok\n" else HTTPStatus.SERVICE_UNAVAILABLE, said)
        return None

    def _refuse(self, connection: Any, request: Any, status: HTTPStatus, text: str) -> Any:
        self._log("refused", path=request.path[:60], status=int(status))
        return connection.respond(status, text)


class Service:
    """One process' service. Claims are ruled on one event loop, in short turns; what takes long is done beside it."""

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
        self._open: set[Any] = set()
        self._answering = 0
        """Number of requests whose reply has not gone out."""
        self._turns = Turns()

    async def _shown(self) -> str:
        from prometheus_client import generate_latest

        return str(generate_latest(self._metrics.registry).decode())

    async def _well(self) -> str:
        return "draining\n" if self._hub.draining else "ok\n"

    def stop(self) -> None:
        """End: no more requests are taken, those under way are answered, recordings are kept or closed."""
        self._stop.set()

    def asked_to_end(self) -> None:
        """Do what `at_sigterm` says; a second time, end at once."""
        if self._settings.at_sigterm != "drain" or self._hub.draining:
            self.stop()
            return
        self._hub.draining = True
        self._log("draining", matches=len(self._hub.matches), at_most_s=self._settings.drain_s)
        self._draining = asyncio.create_task(self._drained())

    async def _drained(self) -> None:
        """Stop once every match has ended, or when that takes too long."""
        until = time.monotonic() + self._settings.drain_s
        while not (self._hub.is_empty and self._answering == 0) and time.monotonic() < until:
            await asyncio.sleep(DRAIN_LOOK_S)
        self.stop()

    async def run(self) -> None:
        """Serve until `stop`, or a SIGTERM or SIGINT; then it ends within ten seconds, whatever askers and disks do.

        With `at_sigterm` "drain", a SIGTERM first waits for the matches.
        """
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGTERM, self.asked_to_end)
        loop.add_signal_handler(signal.SIGINT, self.stop)
        before = sys.getswitchinterval()
        sys.setswitchinterval(SWITCH_S)
        door = Entrance(self._settings, self._log, self._shown, self._well)
        server, where = await door.listen(self._talk)
        self._log("listening", where=where, token=bool(self._settings.token))
        sweeping = asyncio.create_task(self._close_abandoned())
        await self._stop.wait()
        self._log("stopping", matches=len(self._hub.matches))
        sweeping.cancel()
        until = time.monotonic() + CLOSING_S
        while (self._answering or self._hub.is_busy) and time.monotonic() < until:
            await asyncio.sleep(BUSY_LOOK_S)
        server.close()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(server.wait_closed(), CLOSING_S)
        for connection in list(self._open):  # a client that does not read is not waited for
            connection.transport.abort()
        until = time.monotonic() + RECORDING_S
        keep = self._settings.at_sigterm != "close"
        closing = threading.Thread(target=self._hub.close, args=(until,), kwargs={"keep": keep}, daemon=True)
        closing.start()
        while closing.is_alive() and time.monotonic() < until + CLOSING_S:
            await asyncio.sleep(0.01)
        if closing.is_alive():
            self._log("recordings left as they are", problem="the disk doesn't answer")
        if self._settings.unix is not None:
            self._settings.unix.unlink(missing_ok=True)
        sys.setswitchinterval(before)
        self._log("stopped", requests=sum(self._hub.requests.values()), failures=self._hub.failures)

    async def _close_abandoned(self) -> None:
        """Close matches whose askers are gone, so that what crashed elsewhere doesn't fill this process."""
        while True:
            await asyncio.sleep(min(1.0, max(0.01, self._settings.abandoned_s / 4.0)))
            for name in self._hub.abandoned(self._settings.abandoned_s):
                match = self._hub.take_away(name)
                if match is None:
                    continue
                self._log("abandoned", match=name, idle_s=round(match.idle_s, 1))
                try:
                    unwrapped(await beside(match.close))
                except Exception as error:
                    self._hub.failures += 1
                    self._log("not recorded", match=name, problem=str(error))

    async def _talk(self, connection: Any) -> None:
        """One asker: its frames in order, each reply before the next frame is looked at."""
        from websockets.exceptions import ConnectionClosed

        self._metrics.connections.inc()
        self._open.add(connection)
        self._log("connected")
        frames, turn = 0, Turn()
        try:
            async for frame in connection:
                if self._stop.is_set():
                    break
                frames += 1
                self._answering += 1
                try:
                    began = time.perf_counter()
                    reply = await self._do(frame, connection, turn)
                    self._metrics.handling.observe(time.perf_counter() - began)
                    async with asyncio.timeout(HEARTBEAT_S):
                        await connection.send(reply)
                finally:
                    self._answering -= 1
        except ConnectionClosed:
            pass
        except TimeoutError:
            self._log("hung up", why="its asker doesn't read")
            connection.transport.abort()
        finally:
            self._open.discard(connection)
            self._hub.left(connection)
            self._metrics.connections.dec()
            self._log("disconnected", frames=frames)

    async def _do(self, frame: bytes | str, asker: object, turn: Turn) -> bytes | str:
        """A request, in slices, each when its asker's turn has come."""
        work, turns, given = self._hub.work(frame, asker), self._turns, None
        turns.ask(turn)
        try:
            while True:
                await turns.begin(turn)
                try:
                    todo = work.send(given)
                except StopIteration as done:
                    reply: bytes | str = done.value
                    return reply
                finally:
                    turns.end(turn)
                given = None
                if todo is not None:
                    turns.rest(turn)
                    given = await (beside(todo) if callable(todo) else asyncio.sleep(0))
                    turns.ask(turn)
        finally:
            turns.rest(turn)


def run_on_loop(main: Coroutine[Any, Any, None]) -> None:
    """Run a service on the quicker event loop where it is installed, which it is but on Windows."""
    loop: Callable[[], asyncio.AbstractEventLoop] | None = None
    with contextlib.suppress(ImportError):
        import uvloop

        loop = uvloop.new_event_loop
    with asyncio.Runner(loop_factory=loop) as runner:
        runner.run(main)


async def beside(todo: Callable[[], Any]) -> tuple[Any, Exception | None]:
    """Run a call in its own thread, which the process's end doesn't wait for; return or raise its result."""
    loop = asyncio.get_running_loop()
    future: asyncio.Future[tuple[Any, Exception | None]] = loop.create_future()

    def give(outcome: tuple[Any, Exception | None]) -> None:
        if not future.done():
            future.set_result(outcome)

    def run() -> None:
        outcome = outcome_of(todo)
        with contextlib.suppress(RuntimeError):  # the loop has ended meanwhile
            loop.call_soon_threadsafe(give, outcome)

    threading.Thread(target=run, daemon=True).start()
    return await future


def require_free(path: Path) -> None:
    """Take away the socket that a killed service left; raise `BadNumberError` where one still listens, or where
    something else lies.
    """
    if not path.exists():
        return
    if not path.is_socket():
        raise BadNumberError("unix", "a path where nothing is, or a socket that nobody listens on", str(path))
    with socket.socket(socket.AF_UNIX) as probe:
        try:
            probe.connect(str(path))
        except OSError:
            path.unlink(missing_ok=True)
            return
    raise BadNumberError("unix", "a socket that no other service listens on", str(path))


def _is_ours(named: list[str], settings: Settings) -> bool:
    """True if a request means this host: an address, localhost, or a name that it is said to have. A web page that
    strangers send here by a name of their own doesn't.
    """
    if len(named) != 1:
        return False
    name = named[0].rpartition(":")[0] if named[0].rpartition(":")[2].isdigit() else named[0]
    name = name.strip("[]").lower()
    if name in ("localhost", settings.host.lower(), *(host.lower() for host in settings.hosts)):
        return True
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True
