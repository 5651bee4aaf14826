"""A receiver of notices for tests and trials: it keeps what comes, and can be told to refuse for a while."""

from __future__ import annotations

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING, Any

import msgspec

if TYPE_CHECKING:
    from types import TracebackType


class StandInReceiver:
    """A webhook on this machine: `with StandInReceiver() as receiver`.

    refuse : so many requests are answered with 503 before any is taken

    received : the events that were taken, decoded; url : where it listens
    """

    def __init__(self, refuse: int = 0) -> None:
        self.received: list[dict[str, Any]] = []
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
                else:
                    outer.received.append(msgspec.json.decode(body))
                    self.send_response(204)
                self.end_headers()

            def log_message(self, *_: Any) -> None:
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
