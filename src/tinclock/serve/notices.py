"""Telling others when a case opens or changes: a webhook (CloudEvents 1.0, JSON) and syslog (RFC 5424).

Every notice is written into a spool first and taken out once it was delivered, so a receiver that is away gets it
later: `deliver` tries all that are there, the oldest first. A notice may arrive twice (its sender was killed before it
took it out); its id is the same then.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import hmac
import os
import socket
import tempfile
import time
import uuid
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Final, NamedTuple
from urllib.parse import urlsplit

import msgspec

from tinclock.core.errors import EvidenceError, MissingExtraError
from tinclock.core.plain import Fields
from tinclock.core.text import printable

if TYPE_CHECKING:
    from collections.abc import Iterator

    from tinclock.cases.records import Case

TYPE: Final = "tinclock.case."
PAUSES_S: Final = (0.2, 1.0)
TIMEOUT_S: Final = 5.0
MAX_S: Final = 12.0
"""Timeout of one notice with all its attempts."""
NEVER: Final = frozenset({400, 405, 406, 410, 411, 413, 414, 415, 422, 501})
"""Answers after which the same notice will never be taken: it is gone, or isn't understood."""
_FACILITY, _NOTICE, _WARNING = 13, 5, 4  # log audit; severities of RFC 5424, section 6.2.1


class CloudEvent(msgspec.Struct, frozen=True):
    """A notice as CloudEvents 1.0 has it (structured mode)."""

    specversion: str
    id: str
    source: str
    type: str
    subject: str
    time: str
    datacontenttype: str
    data: Fields


class Notices:
    """Tells receivers about cases.

    webhooks : URLs that get a POST; syslog : "host:port" or "tcp://host:port"
    spool : the folder in which notices wait; source : who says it, a URI reference
    key : shared with the receivers, who can check with it that a notice is ours and whole; see `signature_headers`

    Raises `EvidenceError` for an address that isn't one and for a spool that can't be written, `MissingExtraError` for
    a webhook without httpx.
    """

    def __init__(
        self, spool: str | Path, *, webhooks: tuple[str, ...] = (), syslog: tuple[str, ...] = (),
        source: str = "/tinclock", key: bytes = b"",
    ) -> None:  # fmt: skip
        self._spool, self._source, self._key = Path(spool), source, key
        self._webhooks, self._syslog = webhooks, syslog
        if webhooks:
            try:
                import httpx  # noqa: F401
            except ImportError:
                raise MissingExtraError("Notices", "httpx", "cases") from None
        for url in webhooks:
            if urlsplit(url).scheme not in ("http", "https") or not urlsplit(url).hostname:
                raise EvidenceError(url, "is no webhook; expected http://host/path or https://host/path")
        for address in syslog:
            _syslog_address(address)
        try:  # now, and not when a case has opened
            self._spool.mkdir(parents=True, exist_ok=True)
            with tempfile.TemporaryFile(dir=self._spool):
                pass
        except OSError as error:
            raise EvidenceError(self._spool, f"can't be written: {error.strerror}") from None

    def tell(self, what: str, case: Case, at: float | None = None) -> None:
        """Spool a notice to everybody. what : "opened", "changed" or "decided"."""
        now = time.time() if at is None else at
        event = CloudEvent(
            "1.0", str(uuid.uuid4()), self._source, TYPE + what, case.account,
            datetime.fromtimestamp(now, UTC).isoformat().replace("+00:00", "Z"), "application/json",
            {
                "account": case.account, "state": case.state, "decibans": case.decibans, "peak": case.peak,
                "limit": case.limit, "why": case.why, "match": case.opened_in,
            },
        )  # fmt: skip
        for place, to in enumerate((*self._webhooks, *self._syslog)):
            self._put(f"{now:017.6f}-{event.id}-{place}.json", {"to": to, "event": event})

    def _put(self, name: str, content: object) -> None:
        try:
            self._spool.mkdir(parents=True, exist_ok=True)
            fresh = self._spool / f".{name}"
            with fresh.open("wb") as file:
                file.write(msgspec.json.encode(content))
                file.flush()
                os.fsync(file.fileno())
            fresh.replace(self._spool / name)
        except OSError as error:
            raise EvidenceError(self._spool, f"can't be written: {error.strerror}") from None

    @property
    def waiting(self) -> int:
        """Return the number of notices that wait for delivery."""
        return len(list(self._spool.glob("[0-9]*.json")))

    def deliver(self) -> list[str]:
        """Try everything that waits, the oldest first; returns what went wrong, a line a receiver or file.

        Several may deliver at once: each notice is one's own while it is sent. What can't be read, and what a receiver
        will never take (410 and the like), is set aside under another name, so that nothing waits behind it.
        """
        problems: dict[str, str] = {}
        for path in sorted(self._spool.glob("[0-9]*.json")):
            try:
                with _held(path) as mine:
                    if mine:
                        self._deliver_one(path, problems)
            except OSError as error:
                problems[str(path)] = f"{path}: can't be handled: {error.strerror}"
        return list(problems.values())

    def _deliver_one(self, path: Path, problems: dict[str, str]) -> None:
        try:
            content = msgspec.json.decode(path.read_bytes(), type=Fields)
            to, event = str(content["to"]), msgspec.convert(content["event"], CloudEvent)
        except (msgspec.MsgspecError, KeyError, ValueError, RecursionError):
            problems[str(path)] = f"{path}: is no notice; set aside"
            path.rename(path.with_suffix(".unreadable"))
            return
        if to in problems:  # one that doesn't answer isn't waited for again and again
            return
        sent = self._send(to, event)
        if sent.problem is None:
            path.unlink(missing_ok=True)
        elif sent.final:
            problems[str(path)] = f"{to}: {sent.problem}; set aside as {path.with_suffix('.refused').name}"
            path.rename(path.with_suffix(".refused"))
        else:
            problems[to] = f"{to}: {sent.problem}; it stays in {self._spool} for the next time"

    def _send(self, to: str, event: CloudEvent) -> _Sent:
        until, sent = time.monotonic() + MAX_S, _Sent(None)
        for pause in (0.0, *PAUSES_S):
            time.sleep(pause)
            try:
                left = min(TIMEOUT_S, until - time.monotonic())
                webhook = urlsplit(to).scheme in ("http", "https")
                sent = _post(to, event, self._key, left) if webhook else _Sent(_log(to, event, left))
            except (EvidenceError, ValueError) as error:  # an address that a spool of another time holds
                return _Sent(str(error), final=True)
            if sent.problem is None or sent.final or time.monotonic() + TIMEOUT_S / 2 > until:
                break
        return sent


class _Sent(NamedTuple):
    """Result of a notice: the error, None for success; final : it will never be taken."""

    problem: str | None
    final: bool = False


@contextlib.contextmanager
def _held(path: Path) -> Iterator[bool]:
    """A notice that nobody else sends meanwhile; False for one that somebody else has, or has sent."""
    try:
        import fcntl
    except ImportError:  # pragma: no cover - no such locks on this system
        yield path.exists()
        return
    try:
        file = path.open("rb")
    except FileNotFoundError:
        yield False
        return
    with file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield False
            return
        yield path.exists()  # another one may have sent it between the listing and the lock


def signature_headers(url: str, body: bytes, key: bytes, created: int) -> dict[str, str]:
    """Headers that let a receiver check who sent a body, and that it is whole: a digest (RFC 9530) and a signature over
    method, place and digest (RFC 9421, hmac-sha256).
    """
    place = urlsplit(url)
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    covered = f'("@method" "@authority" "@path" "content-digest");created={created};alg="hmac-sha256"'
    base = "\n".join([
        '"@method": POST', f'"@authority": {place.netloc.rpartition("@")[2].lower()}', f'"@path": {place.path or "/"}',
        f'"content-digest": {digest}', f'"@signature-params": {covered}',
    ])  # fmt: skip
    made = base64.b64encode(hmac.new(key, base.encode(), hashlib.sha256).digest()).decode()
    return {"Content-Digest": digest, "Signature-Input": f"case={covered}", "Signature": f"case=:{made}:"}


def _post(url: str, event: CloudEvent, key: bytes, timeout_s: float) -> _Sent:
    import httpx

    body = msgspec.json.encode(event)
    headers = {"Content-Type": "application/cloudevents+json; charset=utf-8"}
    if key:
        headers |= signature_headers(url, body, key, int(time.time()))

    async def post() -> int:
        async with httpx.AsyncClient(timeout=timeout_s, trust_env=False) as client:
            answer = await asyncio.wait_for(client.post(url, content=body, headers=headers), timeout_s)
            return answer.status_code

    try:  # all of it within the time, however slowly the answer drips; beside any loop that runs here
        with ThreadPoolExecutor(1) as pool:
            status = pool.submit(asyncio.run, post()).result()
    except (httpx.HTTPError, TimeoutError, httpx.InvalidURL) as error:
        return _Sent(f"no answer ({str(error) or f'within {timeout_s:.0f} s'})")
    if 200 <= status < 300:
        return _Sent(None)
    return _Sent(f"answered {status}", final=status in NEVER)


def _syslog_address(text: str) -> tuple[str, int, bool]:
    """(host, port, over TCP)."""
    scheme, _, rest = text.rpartition("://")
    host, _, port = rest.rpartition(":")
    if scheme not in ("", "tcp", "udp") or not host or not port.isdigit():
        raise EvidenceError(text, "is no syslog address; expected HOST:PORT or tcp://HOST:PORT")
    return host, int(port), scheme == "tcp"


def syslog_line(event: CloudEvent, host: str) -> bytes:
    """A notice as RFC 5424 has it: header, one structured element, and a message in UTF-8.

    The element's id ends in @32473, the number that RFC 5612 sets apart for such use.
    """
    severity = _WARNING if event.type.endswith("opened") else _NOTICE
    data = event.data
    fields = {"account": data["account"], "state": data["state"], "decibans": f"{data['peak']:.1f}", "id": event.id}
    element = " ".join(f'{key}="{_escaped(str(value))}"' for key, value in fields.items())
    name = "".join(c if 33 <= ord(c) <= 126 else "-" for c in host)[:255] or "-"
    head = f"<{8 * _FACILITY + severity}>1 {event.time} {name} tinclock {os.getpid()} {event.type.rpartition('.')[2]}"
    text = printable(f"{data['account']}: {data['why']}")
    return f"{head} [case@32473 {element}] ".encode() + b"\xef\xbb\xbf" + text.encode()


def _escaped(value: str) -> str:
    return printable(value).replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")


def _log(address: str, event: CloudEvent, timeout_s: float) -> str | None:
    host, port, tcp = _syslog_address(address)
    line = syslog_line(event, socket.gethostname())
    try:
        if not tcp:
            family = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0][0]
            with socket.socket(family, socket.SOCK_DGRAM) as udp:
                udp.sendto(line, (host, port))
        else:
            with socket.create_connection((host, port), timeout_s) as stream:
                stream.sendall(b"%d %s" % (len(line), line))  # counted octets: RFC 6587, section 3.4.1
    except OSError as error:
        return f"can't be reached ({error})"
    return None
