"""The service's own log: lines on standard output, written by a thread, so that a slow reader holds up no match."""

from __future__ import annotations

import json
import os
import queue
import select
import threading
from typing import Final

MOST: Final = 10_000
"""Lines that may wait for the reader of standard output."""
LAST_S: Final = 1.0
"""Time that the service's end waits for lines to be read."""


class LogLines:
    """Takes lines and returns at once; so many wait to be written, and what is left out meanwhile is counted.

    structlog calls `info` with a finished line. file : descriptor; the process' own stream isn't used, which would make
    the end of the process wait for a line that nobody reads
    """

    def __init__(self, file: int, most: int = MOST) -> None:
        self._file = file
        self._waiting: queue.Queue[str | None] = queue.Queue(most)
        self._left_out = 0
        self._thread = threading.Thread(target=self._write, name="log", daemon=True)
        self._thread.start()

    def info(self, line: str) -> None:
        """Take a line."""
        try:
            if self._left_out:
                self._waiting.put_nowait(json.dumps({"event": "log lines left out", "count": self._left_out}))
                self._left_out = 0
            self._waiting.put_nowait(line)
        except queue.Full:
            self._left_out += 1

    def close(self, wait_s: float = LAST_S) -> None:
        """Write what waits, as far as somebody reads it in time."""
        try:
            self._waiting.put(None, timeout=wait_s)
        except queue.Full:
            return
        self._thread.join(wait_s)

    def _write(self) -> None:
        while (line := self._waiting.get()) is not None:
            rest = memoryview(f"{line}\n".encode())
            try:
                while rest:
                    rest = rest[self._put(rest) :]
            except OSError:  # nobody reads any more; there is nowhere to say so
                return

    def _put(self, some: memoryview) -> int:
        try:
            return os.write(self._file, some)
        except BlockingIOError:  # the service's parent made its pipe one that doesn't wait
            select.select([], [self._file], [])
            return 0
