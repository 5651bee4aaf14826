"""One ruled shot as plain data that pages draw: bodies as claimed, as ruled and now, its way, and how far it missed."""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.cases.kinds import evidence_text
from tinclock.core.analysis.miss_explanation import MissExplanation, explain_miss
from tinclock.core.analysis.nearness import nearest_point
from tinclock.core.analysis.shot_scene import shot_scene_of
from tinclock.core.plain import Fields
from tinclock.core.ruling.checks.form import as_triple
from tinclock.core.ruling.claims import ShotClaim
from tinclock.core.timeline.views import View
from tinclock.recordings.history_slice import claim_of, history_around
from tinclock.report.flight_paths import flights_of

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.analysis.shot_scene import HistorySlice
    from tinclock.core.geometry.level import Level
    from tinclock.core.ruling.records import Ruling
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.vectors import Triple
    from tinclock.recordings.recording import Recording

STEPS: Final = 13
"""Number of instants from the claimed view to the present, both included."""
NEAR_M, MAX_BODIES, AHEAD_M, FLIGHT_S = 3.0, 8, 80.0, 12.0


class Shown:
    """A ruling with everything around it, while its past is at hand.

    ruling, claim : what was decided, and on what (None for the server's own); past : the history as it was then
    seen : the view that was claimed, where it is still held; why : why it hit nobody
    """

    def __init__(self, recording: Recording, number: int, level: Level | None = None) -> None:
        self.recording = recording
        self.ruling = recording.ruling(number)
        self.claim: Any = claim_of(recording, self.ruling)
        self.past = history_around(recording, self.ruling, level)
        claimed = getattr(self.claim, "view", None)
        self.seen: View | None = claimed if isinstance(claimed, View) and _is_held(self.past, claimed) else None
        self.why: MissExplanation = explain_miss(self.past, self.ruling, self.seen)


def scene_of(shown: Shown, names: Mapping[int, str], teams: Mapping[int, str], kind: str = "") -> Fields:
    """Everything that is drawn and said of a ruling.

    names, teams : of entities; kind : of evidence, which the ruling was chosen for
    """
    ruling, past = shown.ruling, shown.past
    view = shown.seen or ruling.view
    because = shown.why.because(names)
    data: Fields = {
        "number": ruling.number, "kind": ruling.kind, "outcome": ruling.outcome, "at": ruling.received_at,
        "weapon": ruling.weapon.replace("_", " "), "entity": ruling.entity, "name": names.get(ruling.entity, ""),
        "account": ruling.account, "chosen": evidence_text(kind).title if kind else "",
        "answer": ruling.answer(names, because), "steps": _steps(ruling, names), "differs": differing(shown, names),
        "why": shown.why.describe(names), "hits": [hit.explain(names) for hit in ruling.hits], "drawn": False,
    }  # fmt: skip
    origin, aim = _aimed(shown)
    if origin is None or aim is None or past.history.newest_tick < 0:
        return data
    data["drawn"] = True
    data["seen"] = view is not None and _is_held(past, view)
    newest = View(past.history.newest_tick, past.history.newest_tick, 0.0)
    if view is None or not data["seen"]:  # what it claims to see isn't there: shown in the server's present
        view = newest
    instants = _instants(past, ruling, view) if data["seen"] else [(0.0, newest)]
    data["ages_ms"] = [round(1000.0 * age) for age, _ in instants]
    ruled = ruling.rewound_s
    data["ruled_step"] = (
        -1 if ruled is None or not data["seen"] else int(np.argmin([abs(age - ruled) for age, _ in instants]))
    )
    data["bodies"] = _bodies(shown, view, instants, names, teams, np.array(origin), np.array(aim))
    data["shooter"] = _shooter(past, ruling, teams)
    data |= _ways(ruling, origin, aim, past)
    data["miss"] = _miss(shown, view, names)
    data["flight"] = _flight(shown)
    data["crossings"] = _crossings(shown)
    return data


def _aimed(shown: Shown) -> tuple[Triple | None, Triple | None]:
    """Return a shot's start and aim, by its claim if there is nothing else; None for invalid numbers."""
    ruling, claim = shown.ruling, shown.claim
    origin, aim = ruling.origin, ruling.aim or ruling.direction
    if origin is None:
        origin = as_triple(getattr(claim, "origin", None))
    if aim is None:
        given = as_triple(getattr(claim, "direction", None))
        length = 0.0 if given is None else math.hypot(*given)
        if given is not None and length > 1e-6:
            aim = given[0] / length, given[1] / length, given[2] / length
    return origin, aim


def _is_held(past: HistorySlice, view: View) -> bool:
    history = past.history
    return history.holds(view.from_tick) and history.holds(view.to_tick) and view.from_tick <= view.to_tick


def _steps(ruling: Ruling, names: Mapping[int, str]) -> list[Fields]:
    steps = [{"verdict": step.verdict, "says": _unspaced(step.explain(names)[2:])} for step in ruling.checks]
    found = [
        {"verdict": "found", "says": f"{finding.code}: {finding.explain()}", "code": finding.code}
        for finding in ruling.findings
    ]
    return [*steps, *found]


def _unspaced(line: str) -> str:
    """A step's line without the columns that a terminal has: what was measured, a colon, and the rest."""
    what, *rest = re.split(r"\s{2,}", line.strip())
    return f"{what}: {' '.join(rest)}" if rest else what


def differing(shown: Shown, names: Mapping[int, str]) -> list[Fields]:
    """Return the differences between the client's report and the server's state: one row each."""
    ruling, claim, out = shown.ruling, shown.claim, []
    for finding in ruling.findings:
        if finding.observed is not None and finding.limit is not None:
            out.append({"what": evidence_text(finding.code).title, "code": finding.code,
                        "claimed": _number(finding.observed, finding.unit),
                        "possible": _number(finding.limit, finding.unit)})  # fmt: skip
    said = getattr(claim, "victim", None)
    hit = ruling.hits[0].victim if ruling.hits else 0
    if said is not None and said != hit and ruling.outcome != "rejected":
        row = {"what": "names another victim", "code": "victim_differs", "claimed": names.get(said, f"entity {said}")}
        out.append({**row, "possible": names.get(hit, "nobody") if hit else "nobody"})
    return out


def _number(value: float, unit: str) -> str:
    from tinclock.core.text import amount

    return amount(value, unit)


def _instants(past: HistorySlice, ruling: Ruling, view: View) -> list[tuple[float, View]]:
    """Ages and views from the claimed one, which is exact, to the newest tick, evenly."""
    history = past.history
    first = history.time_of(view)
    out = [(ruling.received_at - first, view)]
    for k in range(1, STEPS):
        at = first + (history.newest_time - first) * k / (STEPS - 1)
        newest = View(history.newest_tick, history.newest_tick, 0.0)
        here = newest if k == STEPS - 1 or at < history.first_snapshot_time else history.view_at(at)
        out.append((max(ruling.received_at - at, 0.0), here))
    return out


def _bodies(
    shown: Shown, view: View, instants: list[tuple[float, View]], names: Mapping[int, str], teams: Mapping[int, str],
    origin: NDArray[np.float64], aim: NDArray[np.float64],
) -> list[Fields]:  # fmt: skip
    past, ruling = shown.past, shown.ruling
    history = past.history
    target = target_of(shown, view, origin, aim)
    near = [one for one in _near(past, ruling, view, origin, aim) if one != target]
    struck = {hit.victim: hit.part for hit in reversed(ruling.hits)}
    out = []
    for entity in [*([target] if target else []), *near][:MAX_BODIES]:
        rig = history.rig_of(entity)
        poses = [_bones(past, entity, at) for _, at in instants]
        if all(pose is None for pose in poses):
            continue
        parts = [part.name for part in rig.parts]
        out.append(
            {
                "entity": entity, "name": names.get(entity, f"entity {entity}"), "team": teams.get(entity, ""),
                "rig": rig.name, "role": "cover" if rig.blocks_only else "target" if entity == target else "near",
                "struck": parts.index(struck[entity]) if struck.get(entity) in parts else -1, "steps": poses,
                "ruled": None if ruling.view is None or not _is_held(past, ruling.view)
                else _bones(past, entity, ruling.view),
            }
        )  # fmt: skip
    return out


def target_of(shown: Shown, view: View, origin: NDArray[np.float64], aim: NDArray[np.float64]) -> int:
    """Return a shot's victim: the body hit, the one claimed, or the closest one; 0 for none. Never a door."""
    past, ruling = shown.past, shown.ruling
    claimed = getattr(shown.claim, "victim", None)
    for entity in (ruling.hits[0].victim if ruling.hits else 0, claimed or 0):
        if entity and entity in past.history.present(view) and not past.history.rig_of(entity).blocks_only:
            return int(entity)
    best, who = np.inf, 0
    for entity in past.history.present(view):
        boxes = None if entity == ruling.entity else past.history.hitboxes_at(entity, view)
        if boxes is None or past.history.rig_of(entity).blocks_only:
            continue
        angle = _angle_off(boxes, origin, aim)
        if angle < best:
            best, who = angle, entity
    return who


def _angle_off(boxes: Hitboxes, origin: NDArray[np.float64], aim: NDArray[np.float64]) -> float:
    to = boxes.centres - origin
    ahead = to @ aim
    off = np.linalg.norm(to - ahead[:, None] * aim, axis=1)
    return float(np.where(ahead > 0.1, off / np.maximum(ahead, 0.1), np.inf).min())


def _near(
    past: HistorySlice, ruling: Ruling, view: View, origin: NDArray[np.float64], aim: NDArray[np.float64]
) -> list[int]:
    """Others, and cover that moves, within a few metres of the line of fire."""
    out = []
    for entity in past.history.present(view):
        boxes = None if entity == ruling.entity else past.history.hitboxes_at(entity, view)
        if boxes is None:
            continue
        to = boxes.centres.mean(0) - origin
        ahead = float(to @ aim)
        if -1.0 < ahead < AHEAD_M and float(np.linalg.norm(to - ahead * aim)) < NEAR_M:
            out.append(entity)
    return out


def _bones(past: HistorySlice, entity: int, view: View) -> list[float] | None:
    bones = past.history.bones_at(entity, view)
    return None if bones is None else np.round(bones, 4).ravel().tolist()


def _shooter(past: HistorySlice, ruling: Ruling, teams: Mapping[int, str]) -> Fields | None:
    history = past.history
    newest = View(history.newest_tick, history.newest_tick, 0.0)
    if ruling.entity not in history.present(newest):
        return None
    return {"rig": history.rig_of(ruling.entity).name, "bones": _bones(past, ruling.entity, newest),
            "team": teams.get(ruling.entity, "")}  # fmt: skip


def _ways(ruling: Ruling, origin: Any, aim: Any, past: HistorySlice) -> Fields:
    """The rays as they were ruled, and the aim; a claim that wasn't cast has the aim alone."""
    table = past.rules.weapons.get(ruling.weapon)
    reach = 30.0 if table is None else min(table.range_m, 200.0)
    rays = [(ray.direction, ray.reached_m, ray.stopped_by) for ray in ruling.rays]
    if not rays and ruling.direction is not None and ruling.reached_m is not None:
        rays = [(ruling.direction, ruling.reached_m, ruling.stopped_by)]
    far = max((reached for _, reached, _ in rays), default=min(reach, 60.0))
    return {
        "origin": list(origin),
        "aim": [round(o + far * d, 4) for o, d in zip(origin, aim, strict=True)],
        "rays": [
            {"to": [round(o + far * d, 4) for o, d in zip(origin, way, strict=True)],
             "stop": "" if stop is None else stop.kind}
            for way, far, stop in rays
        ],
        "met": [list(hit.position) for hit in ruling.hits],
    }  # fmt: skip


def _miss(shown: Shown, view: View, names: Mapping[int, str]) -> Fields | None:
    """From where on its way the shot passed somebody to the nearest point of that body."""
    near, ruling = shown.why.near, shown.ruling
    if near is None or near.gap_m <= 0.0 or ruling.origin is None or ruling.direction is None:
        return None
    boxes = shown.past.history.hitboxes_at(near.entity, ruling.view or view)
    if boxes is None:
        return None
    way = ruling.rays[near.ray].direction if ruling.rays else ruling.direction
    at = np.array(ruling.origin) + near.along_m * np.array(way)
    nearest = nearest_point(boxes, boxes.parts.index(near.part), at)
    return {
        "from": np.round(at, 4).tolist(), "to": np.round(nearest, 4).tolist(),
        "says": f"{near.gap_m:.2f} m {near.where} {names.get(near.entity, f'entity {near.entity}')}",
    }  # fmt: skip


def _flight(shown: Shown) -> list[list[float]]:
    """The way of what a launch set going, as it was told; empty for anything else."""
    ruling, recording = shown.ruling, shown.recording
    if ruling.kind != "launch":
        return []
    later = recording.between(ruling.received_at, ruling.received_at + FLIGHT_S)
    events = [event for flush in later for event in recording.events_of(flush)]
    for flight in flights_of(events, shown.past.level):
        if flight["entity"] == ruling.entity and flight["sequence"] == ruling.sequence:
            points: list[list[float]] = flight["points"]
            return points
    return []


def _crossings(shown: Shown) -> list[Fields]:
    """Surfaces that the shot went in at."""
    ruling, claim = shown.ruling, shown.claim
    around = shot_scene_of(shown.past, ruling, claim if isinstance(claim, ShotClaim) else None)
    if around is None or ruling.origin is None or ruling.direction is None:
        return []
    return [
        {"at": [round(o + far * d, 4) for o, d in zip(ruling.origin, ruling.direction, strict=True)],
         "says": surface.replace("_", " ")}
        for far, surface in around.crossings
    ]  # fmt: skip
