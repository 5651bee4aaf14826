"""Measurements of one ruled shot, or of many at once, for `observe`."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.evidence.spread import strays

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.evidence.scene import Party, Scene
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.records import Ruling


MOVED_VIEWS = frozenset({"over_rewind_limit", "view_inconsistent"})


class MeasuredLine(NamedTuple):
    """State of a connection at a time, seconds.

    max_send_delay_s : how often its messages come; what a client says waits for the next one
    """

    round_trip_s: float
    jitter_s: float
    max_send_delay_s: float = 0.0


def is_usable(ruling: Ruling) -> bool:
    return not (ruling.view_time is None or ruling.origin is None or (ruling.aim or ruling.direction) is None)


def strays_of(draw: NDArray[np.float64], widest: NDArray[np.float64], flat: NDArray[np.bool_]) -> NDArray[np.float64]:
    """(n, 2): where draws send shots, each with its own spread."""
    out = np.full((len(draw), 2), np.nan)
    for k in np.flatnonzero(~np.isnan(widest)).tolist():
        out[k] = strays(draw[k : k + 1], float(widest[k]), bool(flat[k]))[0]
    return out


def damage_done(ruling: Ruling, parties: Mapping[int, Party]) -> tuple[bool, bool, float]:
    own = parties[ruling.entity].team
    hits = [hit for hit in ruling.hits if hit.victim in parties and (not own or parties[hit.victim].team != own)]
    return bool(hits), any(hit.zone == "head" for hit in hits), sum(hit.damage for hit in hits)


def off_gaze(
    scene: Scene, columns: NDArray[np.int64], time: NDArray[np.float64], aim: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(n,) each: angles over ground between aims and where bodies look, and the same were the body's side exchanged."""
    if not len(time) or len(scene.times) < 2:
        return np.full(len(time), np.nan), np.full(len(time), np.nan)
    ahead = scene.between(scene.ahead, time, columns)
    looks, aims = np.arctan2(ahead[:, 1], ahead[:, 0]), np.arctan2(aim[:, 1], aim[:, 0])
    off, mirrored = aims - looks, aims + looks
    return np.abs(np.arctan2(np.sin(off), np.cos(off))), np.abs(np.arctan2(np.sin(mirrored), np.cos(mirrored)))


def ready_for(ruling: Ruling) -> float:
    step = next((step for step in ruling.checks if step.name == "fire_rate"), None)
    return step.observed if step is not None and isinstance(step.observed, float) else math.nan


def explained_s(line: MeasuredLine | None, party: Party) -> float:
    return math.nan if line is None else line.round_trip_s + party.delay_s


def marks_of(bodies: NDArray[np.float64]) -> NDArray[np.float64]:
    """Three points of each body (..., b, 3) that are looked for: its middle, its highest bone, its lowest."""
    high = np.take_along_axis(bodies, np.nan_to_num(bodies[..., 2:3], nan=-1e9).argmax(-2)[..., None], -2)
    low = np.take_along_axis(bodies, np.nan_to_num(bodies[..., 2:3], nan=1e9).argmin(-2)[..., None], -2)
    return np.concatenate([bodies.mean(-2, keepdims=True), high, low], -2)


def aim_error(aim: NDArray[np.float64], along: NDArray[np.float64]) -> NDArray[np.float64]:
    """(n, 2): the aim less a direction, to its left and upwards."""
    level = np.maximum(np.hypot(along[:, 0], along[:, 1]), 1e-9)
    left = np.stack([-along[:, 1] / level, along[:, 0] / level, np.zeros(len(along))], 1)
    off = aim - along
    return np.stack([(off * left).sum(1), (off * np.cross(along, left)).sum(1)], 1)


def ruled_elsewhere(ruling: Ruling) -> bool:
    """True if a shot was ruled at another view than its own: past the cap, or off the estimated display delay."""
    return any(finding.code in MOVED_VIEWS for finding in ruling.findings)


def telling(ruling: Ruling) -> list[Finding]:
    """The findings of a ruling that say something of its client.

    Where it was ruled at another view than the client drew, an honest client claims another victim or part than is
    found there.
    """
    if not ruled_elsewhere(ruling):
        return list(ruling.findings)
    return [finding for finding in ruling.findings if finding.code not in ("victim_differs", "part_differs")]
