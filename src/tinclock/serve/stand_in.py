"""A receiver of notices for tests and trials: it keeps what comes, and can be told to refuse for a while."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import hmac
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING

import msgspec

from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from types import TracebackType


def _signed(path: str, headers: dict[str, str], body: bytes, key: bytes) -> bool:
    """True if a request is whole and signed with a key, checked as a receiver would."""
    covered = headers.get("Signature-Input", "").removeprefix("case=")
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    if headers.get("Content-Digest") != digest:
        return False
    lines = ["\"@method\": POST", f"\"@authority\": {headers.get('Host', '')}", f"\"@path\": {path}",
             f"\"content-digest\": {digest}", f"\"@signature-params\": {covered}"]  # fmt: skip
    made = base64.b64encode(hmac.new(key, "\n".join(lines).encode(), hashlib.sha256).digest()).decode()
    return hmac.compare_digest(headers.get("Signature", ""), f"case=:{made}:")


class StandInReceiver:
    """A webhook on this machine: `with StandInReceiver() as receiver`.

    refuse : so many requests are answered with 503 before any is taken; answer : what the others are answered with
    drip_s : a pause between two bytes of each answer; key : requests must be signed with it

    received : the events that were taken, decoded; url : where it listens
    """

    def __init__(self, refuse: int = 0, *, answer: int = 204, drip_s: float = 0.0, key: bytes = b"") -> None:
        self.received: list[Fields] = []
        self.refused, self._refuse = 0, refuse
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
                if outer.refused < outer._refuse:
                    outer.refused += 1
                    self.send_response(503)
                elif not self.headers.get("Content-Type", "").startswith("application/cloudevents+json"):
                    self.send_response(415)
                elif key and not _signed(self.path, dict(self.headers), body, key):
                    self.send_response(401)
                elif drip_s:
                    for byte in b"HTTP/1.1 204 No Content" + b"x" * 1000:
                        self.wfile.write(bytes([byte]))
                        time.sleep(drip_s)
                else:
                    if answer < 300:
                        outer.received.append(msgspec.json.decode(body))
                    self.send_response(answer)
                self.end_headers()

            def handle(self) -> None:
                with contextlib.suppress(ConnectionError):  # who drips is hung up on
                    super().handle()

            def log_message(self, *_: object) -> None:
                """Nothing: what came is in `received`."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)
        self.url = f"http://127.0.0.1:{self._server.server_address[1]}/cases"

    def __enter__(self) -> StandInReceiver:
        """Listen."""
        self._thread.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, value: BaseException | None, tb: TracebackType | None) -> None:
        """Stop."""
        self._server.shutdown()
        self._thread.join()
        self._server.server_close()
