"""A stretch of a match as a browser plays it: the bones of every body at every tick, in one piece of bytes."""

from __future__ import annotations

import json
import struct
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.plain import Fields
from tinclock.report.style import surface_colour

if TYPE_CHECKING:
    from tinclock.core.geometry.level import Level
    from tinclock.review.watched import Watched

WINDOW_S: Final = 1.0
"""A window is so long; windows are numbered from the recording's first tick on."""
AROUND: Final = 6
"""Number of ticks before and after a window that come with it: screens draw between snapshots, some ticks apart."""
MAX_FACES: Final = 400_000
"""Maximum number of a level's triangles that are drawn; a viewer needs no more."""


def packed(head: Fields, *arrays: Any) -> bytes:
    """JSON and arrays of numbers in one: four bytes with the JSON's length, the JSON, spaces up to a multiple of
    eight, then the arrays, little-endian.
    """
    text = json.dumps(head, separators=(",", ":")).encode()
    text += b" " * (-(4 + len(text)) % 8)
    return struct.pack("<I", len(text)) + text + b"".join(np.ascontiguousarray(one).tobytes() for one in arrays)


def window_of(watched: Watched, number: int) -> bytes:
    """Window `number`: its ticks and a few before and after, for drawing in between.

    Bones are float32, seven a bone: xyz in metres and a quaternion xyzw; a body's lie together, tick after tick. Where
    it is absent its mask is 0 and the numbers mean nothing.
    """
    recording = watched.recording
    begins = recording.begins_at_s + number * WINDOW_S
    ends = begins + WINDOW_S
    pieces = [
        watched.stretch(flush) for flush in recording.between(begins - 0.1, ends + 0.1) if "poses" in flush.pieces
    ]
    times = np.concatenate([piece.times for piece in pieces]) if pieces else np.empty(0)
    low = max(int(np.searchsorted(times, begins, "right")) - AROUND, 0)
    high = min(int(np.searchsorted(times, ends, "left")) + AROUND, len(times))
    ticks = np.concatenate([piece.ticks for piece in pieces])[low:high] if pieces else np.empty(0, np.int64)
    sent = np.concatenate([piece.sent for piece in pieces])[low:high] if pieces else np.empty(0, bool)
    bodies, arrays, offset = [], [], 0
    for entity in sorted({entity for piece in pieces for entity in piece.bodies}):
        bones = next(piece.bodies[entity].poses.shape[1] for piece in pieces if entity in piece.bodies)
        out, mask = np.zeros((len(ticks), bones, 7), np.float32), np.zeros(len(ticks), np.uint8)
        for piece in pieces:
            held = piece.bodies.get(entity)
            if held is None:
                continue
            rows = np.searchsorted(ticks, held.ticks)
            inside = (rows < len(ticks)) & (ticks[np.minimum(rows, len(ticks) - 1)] == held.ticks) if len(ticks) else []
            out[rows[inside]], mask[rows[inside]] = held.poses[inside], 1
        if mask.any():
            there = True if mask.all() else mask.tolist()
            bodies.append({"entity": entity, "bones": bones, "at": offset, "there": there})
            arrays.append(out)
            offset += out.size
    head = {
        "number": number, "from": begins, "until": ends, "times": np.round(times[low:high], 6).tolist(),
        "ticks": ticks.tolist(), "sent": sent.astype(int).tolist(), "bodies": bodies,
        "whole": bool(recording.closed or recording.ends_at_s > ends + 0.05),
    }  # fmt: skip
    return packed(head, *arrays)


def level_bytes(level: Level | None) -> bytes:
    """The level's triangles by surface: nine float32 a triangle, metres."""
    surfaces, arrays, offset, left = [], [], 0, MAX_FACES
    for kind, surface in enumerate(level.surfaces if level is not None else ()):
        assert level is not None
        faces = level.faces[level.kinds == kind][:left]
        left -= len(faces)
        if len(faces):
            corners = level.vertices[faces].reshape(-1).astype(np.float32)
            surfaces.append(
                {"name": surface.name, "colour": surface_colour(surface.name), "sees": not surface.blocks_sight,
                 "at": offset, "count": len(corners)}
            )  # fmt: skip
            arrays.append(corners)
            offset += len(corners)
    return packed({"surfaces": surfaces, "cut": left <= 0}, *arrays)
