"""Return the recordings under a few paths."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from tinclock.core.errors import RecordingError
from tinclock.recordings.layout import HEADER

if TYPE_CHECKING:
    from collections.abc import Iterable

BESIDE = "-truth"
"""Ending of the folder, beside a recording, with the truth about it."""


def recordings_in(paths: Iterable[Path]) -> list[Path]:
    """The recordings that these paths are or hold directly, in order, each once, as they were given.

    What is known about a recording (`evening-truth`, which `*` names too) is passed over. What else is there and no
    recording is kept: reading it says what is wrong. Raises `RecordingError` for a path that is not there.
    """
    found: dict[Path, None] = {}
    for path in paths:
        if not path.exists():
            raise RecordingError(path, "is not there; give recordings, or folders that hold them")
        if (path / HEADER).exists():
            found[path] = None
        elif not _is_beside(path):
            held = sorted(one.parent for one in path.glob(f"*/{HEADER}")) if path.is_dir() else []
            if not held and path.is_dir() and not any(path.iterdir()):
                raise RecordingError(path, f"is an empty folder; a recording is a folder that holds {HEADER}")
            found |= dict.fromkeys(held or [path])
    return list(found)


def _is_beside(path: Path) -> bool:
    return path.name.endswith(BESIDE) and (path.with_name(path.name.removesuffix(BESIDE)) / HEADER).exists()
