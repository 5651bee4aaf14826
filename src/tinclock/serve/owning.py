"""One owner for each folder of recordings, so that two services never write the same match."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING

from tinclock.core.errors import RecordingError

if TYPE_CHECKING:
    from pathlib import Path

FILE = ".owner"
PATIENCE_S, LOOK_S = 15.0, 0.1
"""Time that a service waits for another one that is ending, and the interval of its attempts."""


class Owner:
    """Lock on a folder that ends with the process, and with the last of those that got its handle.

    A lock of the operating system on an open file: workers inherit `handle`, so the folder stays owned while one of
    them still runs, whatever became of the process that started them.

    Raises `RecordingError` where another service owns the folder.
    """

    def __init__(self, folder: Path, patience_s: float = PATIENCE_S) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.handle = os.open(folder / FILE, os.O_RDWR | os.O_CREAT, 0o600)
        until = time.monotonic() + patience_s
        while not _locked(self.handle):
            if time.monotonic() > until:
                os.close(self.handle)
                raise RecordingError(
                    folder, "another service records here; end it first, or give each a folder of its own"
                )
            time.sleep(LOOK_S)

    def close(self) -> None:
        """Let it go."""
        os.close(self.handle)


def _locked(handle: int) -> bool:
    try:
        import fcntl
    except ImportError:  # pragma: no cover - no such locks on this system
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True
