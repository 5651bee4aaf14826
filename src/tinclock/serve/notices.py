"""Telling others when a case opens or changes: a webhook (CloudEvents 1.0, JSON) and syslog (RFC 5424).

Every notice is written into a spool first and taken out once it was delivered, so a receiver that is away gets it
later: `deliver` tries all that are there, the oldest first. A notice may arrive twice (its sender was killed before it
took it out); its id is the same then.
"""

from __future__ import annotations

import contextlib
import os
import socket
import time
import uuid
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final
from urllib.parse import urlsplit

import msgspec

from tinclock.core.errors import EvidenceError, MissingExtraError

if TYPE_CHECKING:
    from tinclock.store.case_records import Case

TYPE: Final = "tinclock.case."
PAUSES_S: Final = (0.2, 1.0)
TIMEOUT_S: Final = 5.0
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
    data: dict[str, Any]


class Notices:
    """Tells receivers about cases.

    webhooks : URLs that get a POST; syslog : "host:port" or "tcp://host:port"
    spool : the folder in which notices wait; source : who says it, a URI reference

    Raises `EvidenceError` for an address that isn't one, `MissingExtraError` for a webhook without httpx.
    """

    def __init__(
        self, spool: str | Path, *, webhooks: tuple[str, ...] = (), syslog: tuple[str, ...] = (),
        source: str = "/tinclock",
    ) -> None:  # fmt: skip
        self._spool, self._source = Path(spool), source
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

    def _put(self, name: str, content: Any) -> None:
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
        """How many notices wait to be delivered."""
        return len(list(self._spool.glob("[0-9]*.json")))

    def deliver(self) -> list[str]:
        """Try everything that waits; returns what went wrong, a line for each receiver that didn't answer."""
        problems: dict[str, str] = {}
        for path in sorted(self._spool.glob("[0-9]*.json")):
            try:
                content = msgspec.json.decode(path.read_bytes(), type=dict[str, Any])
                to, event = content["to"], msgspec.convert(content["event"], CloudEvent)
            except (OSError, msgspec.DecodeError, msgspec.ValidationError, KeyError):
                path.rename(path.with_suffix(".unreadable"))
                continue
            if to in problems:  # one that doesn't answer isn't waited for again and again
                continue
            problem = self._send(to, event)
            if problem is None:
                with contextlib.suppress(FileNotFoundError):  # another process delivered it too
                    path.unlink()
            else:
                problems[to] = f"{to}: {problem}; it stays in {self._spool} for the next time"
        return list(problems.values())

    def _send(self, to: str, event: CloudEvent) -> str | None:
        problem: str | None = None
        for pause in (0.0, *PAUSES_S):
            time.sleep(pause)
            problem = _post(to, event) if urlsplit(to).scheme in ("http", "https") else _log(to, event)
            if problem is None:
                break
        return problem


def _post(url: str, event: CloudEvent) -> str | None:
    import httpx

    headers = {"Content-Type": "application/cloudevents+json; charset=utf-8"}
    try:
        answer = httpx.post(
            url, content=msgspec.json.encode(event), headers=headers, timeout=TIMEOUT_S, trust_env=False
        )
    except httpx.HTTPError as error:
        return f"no answer ({error})"
    return None if answer.is_success else f"answered {answer.status_code}"


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
    text = f"{data['account']}: {data['why']}".replace("\n", " ").replace("\r", " ")
    return f"{head} [case@32473 {element}] ".encode() + b"\xef\xbb\xbf" + text.encode()


def _escaped(value: str) -> str:
    clean = "".join(c if c >= " " else " " for c in value)
    return clean.replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")


def _log(address: str, event: CloudEvent) -> str | None:
    host, port, tcp = _syslog_address(address)
    line = syslog_line(event, socket.gethostname())
    try:
        if not tcp:
            family = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0][0]
            with socket.socket(family, socket.SOCK_DGRAM) as udp:
                udp.sendto(line, (host, port))
        else:
            with socket.create_connection((host, port), TIMEOUT_S) as stream:
                stream.sendall(b"%d %s" % (len(line), line))  # counted octets: RFC 6587, section 3.4.1
    except OSError as error:
        return f"can't be reached ({error})"
    return None
