"""Several processes behind one address: each match stays with one, and a worker that dies takes only its own."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.serve.app import HEARTBEAT_S, MAX_FRAME, Entrance, Settings
from tinclock.serve.hub import DRAINING
from tinclock.serve.requests import TO_JSON, TO_PACKED, OpenMatch, Reply

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from tinclock.serve.owning import Owner

READY_S, ENDING_S, HANGS_S = 180.0, 12.0, 20.0
"""Timeouts of a worker: until it listens, to end, and for an answer."""
LOOK_S = 0.2
SHOWN, HEALTHY = (200,), (200, 503)
"""Statuses of a page that is shown, and of a worker that answers, were it only that it is draining."""


class Asked(msgspec.Struct, frozen=True):
    """Fields of a request that the front needs."""

    request: int = 0
    match: str = ""
    do: str = ""


class WorkerAnswer(msgspec.Struct, frozen=True):
    """Fields of a worker's list of matches that the front needs."""

    matches: tuple[OpenMatch, ...] = ()


_PACKED, _JSON = msgspec.msgpack.Decoder(Asked).decode, msgspec.json.Decoder(Asked).decode
_TOLD = msgspec.msgpack.Decoder(WorkerAnswer).decode


def worker_of(match: str, workers: int) -> int:
    """Return the worker of a match: always the same one, on every machine."""
    return int.from_bytes(hashlib.sha256(match.encode()).digest()[:8], "little") % workers


class Worker:
    """One process, started again whenever it ends by itself."""

    def __init__(
        self, number: int, command: Sequence[str], socket: Path, log: Callable[..., None], owner: Owner | None = None
    ) -> None:
        self.number, self.socket, self._command, self._log, self._owner = number, socket, command, log, owner
        self.well_at = time.monotonic()
        """Time of its last answer."""
        self.process = self._start()

    def _start(self) -> subprocess.Popen[bytes]:
        plain = {name: value for name, value in os.environ.items() if name != "TINCLOCK_TOKEN"}  # the front asks for it
        command = [*self._command, "--unix", str(self.socket)]
        self.well_at = time.monotonic() + READY_S
        # it ends when its standard input does, so with this process; the folder is owned until the last of them has
        kept = () if self._owner is None else (self._owner.handle,)
        return subprocess.Popen(command, stdin=subprocess.PIPE, env=plain, pass_fds=kept)

    async def look(self) -> None:
        """Start it again where it died, or where it has answered nothing for too long."""
        with contextlib.suppress(OSError):
            await _fetched(self.socket, "/health", HEALTHY)
            self.well_at = time.monotonic()
        if self.process.poll() is None and time.monotonic() > self.well_at + HANGS_S:
            self._log("worker hangs", worker=self.number, seconds=HANGS_S)
            self.process.kill()
            await asyncio.to_thread(self.process.wait)
        self.revive()

    def revive(self) -> None:
        """Start it again where it died."""
        if self.process.poll() is not None:
            self._log("worker died", worker=self.number, code=self.process.returncode)
            if self.process.stdin is not None:
                self.process.stdin.close()
            self.process = self._start()

    @property
    def has_ended(self) -> bool:
        """True if the process is gone."""
        return self.process.poll() is not None

    def end(self) -> None:
        """Ask it to end in good order."""
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)

    def ended(self, until: float) -> None:
        """Wait for it, and no longer than until a time."""
        try:
            self.process.wait(max(0.1, until - time.monotonic()))
        except subprocess.TimeoutExpired:
            self.process.kill()
            self._log("worker didn't end in time", worker=self.number)
        if self.process.stdin is not None:
            self.process.stdin.close()

    async def connect(self) -> Any:
        """A connection to it. Raises `OSError` while it isn't there."""
        from websockets.asyncio.client import unix_connect
        from websockets.exceptions import InvalidHandshake

        try:
            return await unix_connect(
                str(self.socket), uri="ws://localhost/", max_size=None, compression=None, ping_interval=None
            )
        except InvalidHandshake as error:
            raise ConnectionError(f"worker {self.number} died while it was spoken to ({error})") from None


class Front:
    """The one address: takes frames, hands each to its match's worker, and hands the reply back.

    options : of `tinclock serve`, for every worker; own : more for one of them, by its number
    owner : of the folder that they record in
    """

    def __init__(
        self, workers: int, settings: Settings, options: Sequence[str], own: Callable[[int], Sequence[str]],
        log: Callable[..., None], owner: Owner | None = None,
    ) -> None:  # fmt: skip
        self._settings, self._log = settings, log
        self._folder = tempfile.TemporaryDirectory(prefix="tinclock-")
        self._stop = asyncio.Event()
        self._draining = False
        base = [sys.executable, "-m", "tinclock", "serve", *options]
        self._workers = [
            Worker(k, [*base, "--share", f"{k}/{workers}", *own(k)], Path(self._folder.name) / f"{k}.sock", log, owner)
            for k in range(workers)
        ]
        self._door = Entrance(settings, log, self._metrics, self._health)

    def stop(self) -> None:
        """End: workers end in good order."""
        self._stop.set()

    def asked_to_end(self) -> None:
        """Do what `at_sigterm` says; a second time, end at once."""
        if self._settings.at_sigterm != "drain" or self._draining:
            self.stop()
            return
        self._draining = True
        self._log("draining", workers=len(self._workers), at_most_s=self._settings.drain_s)
        for worker in self._workers:
            worker.end()

    async def run(self) -> None:
        """Serve until `stop`, or a SIGTERM or SIGINT."""
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(signal.SIGTERM, self.asked_to_end)
        loop.add_signal_handler(signal.SIGINT, self.stop)
        try:
            await self._until_ready()
            server, where = await self._door.listen(self._talk)
            self._log("listening", where=where, workers=len(self._workers), token=bool(self._settings.token))
            while not self._stop.is_set():
                if not self._draining:
                    await asyncio.gather(*(worker.look() for worker in self._workers))
                elif all(worker.has_ended for worker in self._workers):
                    break
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._stop.wait(), LOOK_S)
            self._log("stopping", workers=len(self._workers))
            server.close()
        finally:
            for worker in self._workers:
                worker.end()
            until = time.monotonic() + ENDING_S
            for worker in self._workers:
                await asyncio.to_thread(worker.ended, until)
            self._folder.cleanup()
            if self._settings.unix is not None:
                self._settings.unix.unlink(missing_ok=True)
        self._log("stopped")

    async def _until_ready(self) -> None:
        until = time.monotonic() + READY_S
        for worker in self._workers:
            while True:
                try:
                    await (await worker.connect()).close()
                    break
                except OSError:
                    worker.revive()
                    if time.monotonic() > until or self._stop.is_set():
                        raise
                    await asyncio.sleep(LOOK_S)

    async def _talk(self, connection: Any) -> None:
        """One asker: its frames in order, each reply before the next frame is looked at."""
        from websockets.exceptions import ConnectionClosed

        lines: dict[int, Any] = {}
        try:
            async for frame in connection:
                reply = await self._ask(frame, lines)
                async with asyncio.timeout(HEARTBEAT_S):
                    await connection.send(reply)
        except (ConnectionClosed, TimeoutError):
            connection.transport.abort()
        finally:
            for line in lines.values():
                await line.close()

    async def _ask(self, frame: bytes | str, lines: dict[int, Any]) -> bytes | str:
        from websockets.exceptions import ConnectionClosed

        try:
            asked = _JSON(frame) if isinstance(frame, str) else _PACKED(frame)
        except Exception:  # whatever is wrong with it, a worker says so
            asked = Asked()
        if asked.do == "list_matches":
            return self._written(Reply(asked.request, matches=await self._listed()), frame)
        number = worker_of(asked.match, len(self._workers))
        try:
            if number not in lines:
                lines[number] = await self._workers[number].connect()
            await lines[number].send(frame)
            reply: bytes | str = await lines[number].recv()
        except (ConnectionClosed, OSError):
            lines.pop(number, None)
            if self._draining:
                return self._written(Reply(asked.request, ok=False, error=DRAINING), frame)
            said = f"the worker of match {asked.match!r} died and is brought back; `resume` the match in a moment"
            return self._written(Reply(asked.request, ok=False, error=said, retry=True), frame)
        return reply

    def _written(self, reply: Reply, frame: bytes | str) -> bytes | str:
        return TO_JSON(reply).decode() if isinstance(frame, str) else TO_PACKED(reply)

    async def _listed(self) -> tuple[OpenMatch, ...]:
        from websockets.exceptions import ConnectionClosed

        out: list[OpenMatch] = []
        for worker in self._workers:
            with contextlib.suppress(OSError, ConnectionClosed):
                line = await worker.connect()
                await line.send(msgspec.msgpack.encode({"do": "list_matches", "request": 0}))
                out += _TOLD(await line.recv()).matches
                await line.close()
        return tuple(sorted(out, key=lambda one: one.match))

    async def _metrics(self) -> str:
        """Every worker's metrics, with its number as a label."""
        from prometheus_client.parser import text_string_to_metric_families as read

        lines = []
        for worker in self._workers:
            with contextlib.suppress(OSError):
                text = await _fetched(worker.socket, "/metrics")
                for family in read(text):
                    for sample in family.samples:
                        labels = ",".join(f'{k}="{v}"' for k, v in {**sample.labels, "worker": worker.number}.items())
                        lines.append(f"{sample.name}{{{labels}}} {sample.value}")
        return "\n".join(lines) + "\n"

    async def _health(self) -> str:
        """Ok, or which workers don't answer."""
        if self._draining:
            return "draining\n"
        away = []
        for worker in self._workers:
            try:
                await _fetched(worker.socket, "/health")
            except OSError:
                away.append(str(worker.number))
        return "ok\n" if not away else f"workers {', '.join(away)} don't answer\n"


async def _fetched(socket: Path, path: str, statuses: tuple[int, ...] = SHOWN) -> str:
    """The body of a page that a worker shows. Raises `OSError` where it doesn't."""
    reader, writer = await asyncio.open_unix_connection(str(socket), limit=MAX_FRAME)
    writer.write(f"GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n".encode())
    try:
        answer = await asyncio.wait_for(reader.read(), 5.0)
    except TimeoutError:
        raise ConnectionError("no answer") from None
    finally:
        writer.close()
    head, _, body = answer.partition(b"\r\n\r\n")
    first = head.split(b"\r\n")[0].split(b" ")
    if len(first) < 2 or first[1] not in [str(status).encode() for status in statuses]:
        raise ConnectionError(head.split(b"\r\n")[0].decode("latin-1"))
    return body.decode()
