"""Checkpoints in the folder of a match that is being recorded: where to go on from if its process is killed."""

from __future__ import annotations

import platform
import shutil
from functools import cache
from importlib.metadata import version
from typing import TYPE_CHECKING, Final, NamedTuple

import msgspec

from tinclock.core.checkpoint import KINDS, referee_from
from tinclock.core.errors import CheckpointError
from tinclock.core.kernels import dtypes
from tinclock.core.kernels.hearing import MAX_SAID, SAID_FIELDS
from tinclock.core.kernels.layout import FLIGHT_FIELDS, PART_FIELDS
from tinclock.recordings.disk import put_down
from tinclock.recordings.layout import sha256

if TYPE_CHECKING:
    from pathlib import Path

    from tinclock.core.geometry.level import Level
    from tinclock.core.referee import Referee
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

FOLDER: Final = "checkpoints"
KEPT: Final = 2
"""Number of checkpoints kept, in case the newest is damaged."""
MAX_BYTES: Final = 1 << 28


class CheckpointLabel(msgspec.Struct, frozen=True, kw_only=True):
    """The first line of a checkpoint's file.

    flush : SHA-256 of the line of the flush that it was taken at; made_by : the releases that can read it
    bytes, sha256 : of what follows, once it is unpacked
    """

    flush: str
    made_by: str
    bytes: int
    sha256: str


class Stood(NamedTuple):
    """A referee as it was when a flush was written, and how many flushes there are up to that one."""

    referee: Referee
    flushes: int


def made_by() -> str:
    """Return the versions that a checkpoint depends on: releases, and the rows of numbers that kernels read."""
    packages = " ".join(f"{name} {version(name)}" for name in ("tinclock", "numpy", "msgspec"))
    return f"{packages} python {platform.python_version()} rows {_rows()}"


@cache
def _rows() -> str:
    """A digest of every field of every row, and of the types that a state names by their places."""
    of = [one for one in vars(dtypes).values() if isinstance(one, tuple) and hasattr(one, "_fields")]
    named = [f"{type(one).__name__} {' '.join(one._fields)}" for one in of]
    named += [f"{kind.__module__}.{kind.__qualname__}" for kind in KINDS]
    return sha256("\n".join([*named, str((FLIGHT_FIELDS, PART_FIELDS, MAX_SAID, SAID_FIELDS))]).encode())[:16]


def put_checkpoint(recording: Path, flush: Flush, data: bytes) -> None:
    """Put a match's state after a flush down, and let go of older ones. Raises `OSError` where the disk refuses."""
    import pyarrow as pa

    folder = recording / FOLDER
    folder.mkdir(exist_ok=True)
    label = CheckpointLabel(flush=_digest(flush), made_by=made_by(), bytes=len(data), sha256=sha256(data))
    packed = pa.Codec("zstd").compress(data, asbytes=True)
    name = f"{flush.next_call:012d}.state"
    put_down(folder / name, msgspec.json.encode(label) + b"\n" + packed, durable=False)
    states = sorted(folder.glob("*.state"))
    passed_over = [path for path in states if path.name > name]  # or the recording would have gone on from there
    for path in [*passed_over, *[path for path in states if path not in passed_over][:-KEPT]]:
        path.unlink(missing_ok=True)


def take_up(recording: Recording, level: Level | None) -> Stood | None:
    """The newest state that a recording's own flushes reach up to; None where there is none that can be used."""
    places = {_digest(flush): place for place, flush in enumerate(recording.flushes, 1)}
    for path in sorted((recording.path / FOLDER).glob("*.state"), reverse=True):
        found = _read(path)
        if found is None or found[0] not in places:
            continue
        try:
            return Stood(referee_from(found[1], level), places[found[0]])
        except CheckpointError:
            continue
    return None


def let_go(recording: Path) -> None:
    """The match was ended: there is nothing to go on with."""
    shutil.rmtree(recording / FOLDER, ignore_errors=True)


def _digest(flush: Flush) -> str:
    return sha256(msgspec.json.encode(flush))


def _read(path: Path) -> tuple[str, bytes] | None:
    """The flush and the bytes of a checkpoint; None for one that is damaged, or of other releases."""
    import pyarrow as pa

    try:
        line, _, packed = path.read_bytes().partition(b"\n")
        label = msgspec.json.decode(line, type=CheckpointLabel)
        if label.made_by != made_by() or not 0 < label.bytes <= MAX_BYTES:
            return None
        data = pa.Codec("zstd").decompress(packed, label.bytes, asbytes=True)
    except (OSError, msgspec.DecodeError, ValueError):
        return None
    return (label.flush, data) if sha256(data) == label.sha256 else None
