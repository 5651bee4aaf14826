"""Putting files down whole."""

from __future__ import annotations

import contextlib
import errno
import os
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pathlib import Path
    from typing import Any


def write_all(file: Any, data: bytes) -> None:
    """Write all of the data into an unbuffered file, however little it takes at a time. Raises `OSError`."""
    view = memoryview(data)
    while len(view):
        taken = file.write(view)
        if not taken:
            raise OSError(errno.EIO, "nothing more is taken")
        view = view[taken:]


def put_down(path: Path, data: bytes, durable: bool) -> None:
    """All or nothing: a reader finds no file or a whole one."""
    part = path.with_name(f".{path.name}.part")
    try:
        with part.open("wb") as out:
            out.write(data)
            if durable:
                out.flush()
                os.fsync(out.fileno())
        os.replace(part, path)
    except OSError:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)
        raise
    if durable:
        place = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(place)
        finally:
            os.close(place)
