"""Layout of a recording on disk: its tables, its header, its list of flushes. `docs/recordings.md` describes it."""

from __future__ import annotations

import hashlib
from functools import cache
from typing import TYPE_CHECKING, Final, Literal

import numpy as np
from msgspec import Struct

from tinclock.core.geometry.level import Surface
from tinclock.core.rules.ruleset import Rules

if TYPE_CHECKING:
    import pyarrow

FORMAT: Final = 5
HEADER, FLUSHES, LEVEL = "recording.json", "flushes.jsonl", "level"
TABLES: Final = ("calls", "pings", "ticks", "poses", "claims", "rulings", "events")
PLACE_STEPS_PER_M: Final = 8192
"""Poses are rounded to these steps before they are ruled on, so that what was ruled is what is kept."""
TURN_STEPS: Final = 4096
FARTHEST_STEPS: Final = 2**31 - 1
BONE: Final = np.dtype([("place", "<i4", 3), ("turn", "<i2", 4)])
"""Layout of a bone in a row of `poses`, in steps: x, y, z, then the quaternion xyzw."""


class SurfaceNote(Struct, frozen=True):
    """A kind of surface of the level; no resistance stops everything."""

    name: str
    blocks_sight: bool
    resistance_per_m: float | None

    def surface(self) -> Surface:
        """As the level has it."""
        rate = float("inf") if self.resistance_per_m is None else self.resistance_per_m
        return Surface(self.name, self.blocks_sight, rate)


class LevelNote(Struct, frozen=True):
    """The level that was ruled on: its digest, and whether its mesh lies in the recording."""

    digest: str
    faces: int
    kept: bool
    surfaces: tuple[SurfaceNote, ...]


class Header(Struct, frozen=True):
    """`recording.json`: everything that stands from the start."""

    format: int
    written_by: str
    seed: int
    storage: Literal["full", "half"]
    rules: Rules
    level: LevelNote | None
    place_steps_per_m: int = PLACE_STEPS_PER_M
    turn_steps: int = TURN_STEPS
    flush_s: float = 1.0
    match: str = ""
    """Identity of the match, given when the recording was opened; empty in recordings of 0.2."""

    @property
    def max_bones(self) -> int:
        """Bones of the rig that has most: so many fit into a row of poses."""
        return max_bones(self.rules)


class Piece(Struct, frozen=True):
    """One file of one table."""

    file: str
    rows: int
    bytes: int
    sha256: str


class Missing(Struct, frozen=True):
    """Gap before a flush: its steps, its server times, and the reason."""

    first_call: int
    next_call: int
    from_s: float | None
    to_s: float | None
    why: str

    def __str__(self) -> str:
        between = "" if self.from_s is None or self.to_s is None else f" ({self.from_s:.3f} to {self.to_s:.3f} s)"
        return f"steps {self.first_call} to {self.next_call - 1}{between} are missing: {self.why}"


class Flush(Struct, frozen=True, kw_only=True):
    """A line of `flushes.jsonl`: what became readable together, chained to the line before by its digest.

    first_call, next_call : the steps that it holds, the latter not included
    from_s, to_s : server times of the first and last tick in it; null when it holds none
    rulings, rulings_sha256 : how many rulings there were up to its end, and the digest of all of them; events likewise
    closed : whether the recording was ended in good order
    previous : SHA-256 of the line before, of `recording.json` for the first
    missing : what was lost before it, where the disk was full for too long
    """

    first_call: int
    next_call: int
    from_s: float | None
    to_s: float | None
    ticks: int
    rulings: int
    rulings_sha256: str
    events: int
    events_sha256: str
    pieces: dict[str, Piece]
    closed: bool = False
    previous: str = ""
    missing: Missing | None = None


def sha256(data: bytes) -> str:
    """Hexadecimal SHA-256 (FIPS 180-4)."""
    return hashlib.sha256(data).hexdigest()


def max_bones(rules: Rules) -> int:
    """Bones of the rig that has most, at least one."""
    return max((len(rig.bones) for rig in rules.rigs.values()), default=1)


@cache
def schema(table: str, bones: int = 1) -> pyarrow.Schema:
    """The columns of a table. bones : how many fit into a row of `poses`."""
    import pyarrow as pa

    step, second = ("call_number", pa.int64()), pa.float64()
    text, whole = pa.string(), pa.int64()
    fields = {
        "calls": [step, ("server_time", second), ("call", text), ("arguments", text), ("answer", text)],
        "pings": [step, ("server_time", second), ("call", text), ("arguments", text), ("answer", text)],
        "ticks": [step, ("what", text), ("tick", whole), ("server_time", second)],
        "poses": [
            ("entity", pa.int32()), ("tick", pa.int64()), ("bones", pa.int16()),
            ("pose", pa.binary(bones * BONE.itemsize)),
        ],
        "claims": [step, ("connection", text), ("received_at", second), ("received", pa.binary())],
        "rulings": [
            step, ("number", whole), ("kind", text), ("connection", text), ("account", text), ("entity", whole),
            ("sequence", whole), ("weapon", text), ("received_at", second), ("outcome", text), ("damage", second),
            ("victim", whole), ("part", text), ("findings", text), ("ruling", text),
        ],
        "events": [
            step, ("number", whole), ("kind", text), ("server_time", second), ("entity", whole), ("event", text),
        ],
    }  # fmt: skip
    return pa.schema(fields[table])
