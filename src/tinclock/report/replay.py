"""One shot as a replay: the hitboxes at steps from the claimed view to the server's present, with ray and cover."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from tinclock.cases.kinds import words_of
from tinclock.core.analysis.why import why
from tinclock.core.evidence.sight import Sight
from tinclock.core.plain import Fields
from tinclock.core.timeline.views import View
from tinclock.recordings.past import claim_of, past_of
from tinclock.report.outlines import outlines
from tinclock.report.style import surface_colour

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.analysis.surroundings import Past
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.recordings.recording import Recording

STEPS = 12
NEAR_M, MOST_FACES, BEYOND_M = 7.0, 1500, 3.0
SCREEN_RAD = 0.16
"""Half of what the picture of the screen shows."""


def replay_of(
    recording: Recording, number: int, names: Mapping[int, str], kind: str = "", level: Level | None = None
) -> Fields | None:
    """Everything that the page needs to show a ruling's shot, as plain data; None where nothing can be shown.

    names : what to call entities; kind : of evidence, which it was chosen for; level : the recorded level, where the
    recording doesn't hold it. Raises `RecordingError` for what can't be read.
    """
    ruling = recording.ruling(number)
    claim = claim_of(recording, ruling)
    view = getattr(claim, "view", None) or ruling.view
    aim = ruling.aim or ruling.direction
    if view is None or ruling.origin is None or aim is None:
        return None
    past = past_of(recording, ruling, level)
    history = past.history
    if not (history.holds(view.from_tick) and history.holds(view.to_tick)):
        return None
    target = _target(past, ruling, view, np.array(ruling.origin), np.array(aim))
    bodies = [e for e in dict.fromkeys((target, *_near(past, ruling, view))) if e and e != ruling.entity][:4]
    ages, views = _steps(past, ruling, view)
    found = why(past, ruling, view)
    reach = ruling.reached_m or past.rules.weapons[ruling.weapon].range_m
    return {
        "number": number,
        "title": f"Ruling {number}: {ruling.kind} with {ruling.weapon.replace('_', ' ')}, {ruling.outcome}",
        "kind": words_of(kind).title if kind else "",
        "at_s": ruling.received_at,
        "said": ruling.explain(names, found.because(names)).splitlines() + [f"-> {line}" for line in found.say(names)],
        "ages_ms": [round(1000.0 * age) for age in ages],
        "ruled": int(np.argmin([abs(age - (ruling.rewound_s or 0.0)) for age in ages])),
        "bodies": [
            {
                "name": names.get(entity, f"entity {entity}"),
                "target": entity == target,
                **_parts(history.rig_of(entity), [history.hitboxes_at(entity, at) for at in views]),
            }
            for entity in bodies
        ],
        "shooter": _parts(
            history.rig_of(ruling.entity),
            [history.hitboxes_at(ruling.entity, View(history.newest_tick, history.newest_tick, 0.0))],
        ),
        "ray": [
            list(ruling.origin),
            [o + reach * d for o, d in zip(ruling.origin, ruling.direction or aim, strict=True)],
        ],
        "aimed": [o + reach * d for o, d in zip(ruling.origin, aim, strict=True)],
        "level": _cover(past.level, np.array(ruling.origin), np.array(aim), reach),
        "screen": _screen(past, view, bodies, target, np.array(ruling.origin), np.array(aim)),
    }


def _steps(past: Past, ruling: Ruling, view: View) -> tuple[list[float], list[View]]:
    """How old each step is, and its view: from the claimed one, which is exact, to the newest tick."""
    history = past.history
    oldest = history.newest_time - history.time_of(view)
    ages, views = [ruling.received_at - history.time_of(view)], [view]
    for k in range(1, STEPS):
        at = history.newest_time - oldest * (1.0 - k / (STEPS - 1))
        here = history.view_at(at) if k < STEPS - 1 else View(history.newest_tick, history.newest_tick, 0.0)
        ages.append(max(ruling.received_at - at, 0.0))
        views.append(here)
    return ages, views


def _target(past: Past, ruling: Ruling, view: View, origin: NDArray[np.float64], aim: NDArray[np.float64]) -> int:
    if ruling.hits:
        return ruling.hits[0].victim
    best, who = np.inf, 0
    for entity in past.history.present(view):
        boxes = None if entity == ruling.entity else past.history.hitboxes_at(entity, view)
        if boxes is None:
            continue
        to = boxes.centres - origin
        ahead = to @ aim
        off = np.linalg.norm(to - ahead[:, None] * aim, axis=1)
        angle = float(np.where(ahead > 0.1, off / np.maximum(ahead, 0.1), np.inf).min())
        if angle < best:
            best, who = angle, entity
    return who


def _near(past: Past, ruling: Ruling, view: View) -> list[int]:
    """Others who stood within a few metres of the line of fire."""
    out = []
    origin, aim = np.array(ruling.origin), np.array(ruling.aim or ruling.direction)
    for entity in past.history.present(view):
        boxes = past.history.hitboxes_at(entity, view)
        if boxes is not None:
            to = boxes.centres[0] - origin
            ahead = float(to @ aim)
            if 0.0 < ahead < 60.0 and float(np.linalg.norm(to - ahead * aim)) < 3.0:
                out.append(entity)
    return out


def _parts(rig: object, poses: list[Hitboxes | None]) -> Fields:
    """Shapes once, and a place for each step: centre and the shape's axes, row by row, times its sizes."""
    first = next((pose for pose in poses if pose is not None), None)
    if first is None:
        return {"shapes": [], "steps": []}
    shapes = [
        [int(shape), *[round(float(v), 4) for v in size]] for shape, size in zip(first.shapes, first.sizes, strict=True)
    ]
    steps = [
        None if pose is None else np.round(np.concatenate([pose.centres, pose.axes.reshape(-1, 9)], 1), 4).tolist()
        for pose in poses
    ]
    return {"shapes": shapes, "parts": list(first.parts), "steps": steps}


def _cover(level: Level | None, origin: NDArray[np.float64], aim: NDArray[np.float64], reach_m: float) -> list[Fields]:
    """The level's triangles near the line of fire, by surface."""
    if level is None:
        return []
    corners = level.vertices[level.faces]
    middle = corners.mean(1) - origin
    ahead = np.clip(middle @ aim, -1.0, reach_m + BEYOND_M)
    size = np.linalg.norm(corners - corners.mean(1, keepdims=True), axis=2).max(1)
    off = np.linalg.norm(middle - ahead[:, None] * aim, axis=1) - size
    near = np.flatnonzero(off < NEAR_M)
    near = near[np.argsort(off[near], kind="stable")][:MOST_FACES]
    out = []
    for kind, surface in enumerate(level.surfaces):
        rows = near[level.kinds[near] == kind]
        if len(rows):
            flat = np.round(corners[rows].reshape(-1, 3), 3)
            out.append(
                {
                    "surface": surface.name, "colour": surface_colour(surface.name), "sees": not surface.blocks_sight,
                    "x": flat[:, 0].tolist(), "y": flat[:, 1].tolist(), "z": flat[:, 2].tolist(),
                }
            )  # fmt: skip
    return out


def _screen(
    past: Past, view: View, bodies: list[int], target: int, origin: NDArray[np.float64], aim: NDArray[np.float64]
) -> list[Fields]:
    """What the shooter's screen showed about its crosshair: outlines, in milliradians; hidden: it didn't show them."""
    left = np.array([-aim[1], aim[0], 0.0])
    left /= max(float(np.linalg.norm(left)), 1e-9)
    basis = np.stack([-left, np.cross(aim, left)])
    out = []
    for entity in bodies:
        boxes = past.history.hitboxes_at(entity, view)
        if boxes is None:
            continue
        ahead = float((boxes.centres.mean(0) - origin) @ aim)
        if ahead < 0.3:
            continue
        flat = [1000.0 * polygon / ahead for polygon in outlines(boxes, basis, origin)]
        inside = [p for p in flat if float(np.abs(p).max()) < 4000.0 * SCREEN_RAD]
        seen = Sight(past.level).clear(np.tile(origin, (len(boxes.centres), 1)), boxes.centres)
        out.append(
            {
                "target": entity == target,
                "hidden": not seen.any(),
                "outlines": [np.round(polygon, 2).tolist() for polygon in inside],
            }
        )
    return out
