"""Yield the data of a recording for detectors: shots, gazes, findings and connections, block after block."""

from __future__ import annotations

import hashlib
from collections import Counter, deque
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.evidence.evidence_timeline import Observations
from tinclock.core.evidence.measured import telling
from tinclock.core.evidence.observe import AIMED, Observer
from tinclock.core.evidence.scene import Party, Scene, scene_from
from tinclock.core.evidence.sight import Sight
from tinclock.core.geometry.rig import Rig
from tinclock.core.ruling.records import Ruling
from tinclock.recordings.lines import Lines
from tinclock.recordings.pieces import pose_rows

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

STRETCH_S = 5.0
"""Flushes are put together until they span so much."""
_RULING = msgspec.json.Decoder(Ruling).decode
REACH_BACK_S = 1.4
"""A stretch's scene reaches so much further back: over the oldest view, and what was to be seen before it."""


Body = tuple[Any, Any, Any]
"""Rows of ticks (t,) int64, places of bones (t, bones, 3) and the eye's bone (t, 7), metres and quaternion xyzw."""


def observed_in(
    recording: Recording, level: Level | None = None, on_progress: Callable[[float], None] | None = None
) -> Iterator[Observations]:
    """All stretches, in order.

    level : the recorded level, where the recording doesn't hold it. Raises `RecordingError` for what can't be read.
    """
    reading = Reading(recording, level)
    span = max(recording.ends_at_s - recording.begins_at_s, 1e-9)
    waiting: list[Flush] = []
    for place, flush in enumerate(recording.flushes):
        waiting.append(flush)
        ticks = [f for f in waiting if f.from_s is not None and f.to_s is not None]
        last = place == len(recording.flushes) - 1
        if not last and (not ticks or (ticks[-1].to_s or 0.0) - (ticks[0].from_s or 0.0) < STRETCH_S):
            continue
        seen = reading.take(waiting)
        waiting = []
        if seen is not None:
            yield seen
            if on_progress is not None:
                on_progress((seen.until_s - recording.begins_at_s) / span)


class Reading:
    """Reads flushes of a recording, one after the other, into what is to be seen in them."""

    def __init__(self, recording: Recording, level: Level | None) -> None:
        header = recording.require_header()
        self._recording, self._seed, self._rules = recording, header.seed, header.rules
        self._rigs = {name: Rig(name, table) for name, table in header.rules.rigs.items()}
        self._rig_of: dict[int, Rig] = {}
        self._parties: dict[int, Party] = {}
        self._observer = Observer(header.rules, self._parties, Sight(recording.level_or(level)))
        self._held: deque[tuple[NDArray[np.float64], dict[int, Body]]] = deque()
        self._lines = Lines()

    def take(self, flushes: list[Flush]) -> Observations | None:
        """Content of a few flushes."""
        rulings: list[Ruling] = []
        claims: Counter[str] = Counter()
        for flush in flushes:
            self._people(flush)
            self._lines.take(self._recording.piece("pings", flush))
            table = self._recording.piece("rulings", flush)
            self._lines.arrivals(table["connection"].to_pylist(), table["received_at"].to_pylist())
            claims.update(account for account in table["account"].to_pylist() if account)
            rulings += _telling(table)
        timed = [(f.from_s, f.to_s) for f in flushes if f.from_s is not None and f.to_s is not None]
        if not timed:
            return None
        from_s, until_s = timed[0][0], timed[-1][1]
        scene = self._scene(flushes, from_s)
        shots = self._observer.shots(scene, rulings, self._lines.now)
        gazes = self._observer.gazes(scene, from_s, until_s)
        found = [(r.number, finding) for r in rulings if r.account for finding in telling(r)]
        return Observations(
            from_s, until_s, shots, gazes, found, dict(claims), dict(self._lines.now), dict(self._parties)
        )

    def _people(self, flush: Flush) -> None:
        table = self._recording.piece("calls", flush)
        for name, text, answer in zip(*(table[c].to_pylist() for c in ("call", "arguments", "answer")), strict=True):
            if name == "set_team":
                given = msgspec.json.decode(text)
                party = self._parties.get(given["entity"])
                if party is not None and party.account:
                    self._parties[party.entity] = party._replace(team=given["team"])
                continue
            if name not in ("admit", "add_entity") or answer is None:
                continue
            given, entity = msgspec.json.decode(text), int(answer)
            rig = self._rigs[given["rig"]]
            self._rig_of[entity] = rig
            if self._rules.rigs[given["rig"]].blocks_only:
                continue
            delay = (given.get("interpolation") or {}).get("interpolation_delay_s", 0.1)
            key = hashlib.blake2b(f"{self._seed}/{entity}/spread".encode(), digest_size=32).digest()
            account = given.get("account", "")
            team = given.get("team", "") if account else "\0server"
            self._parties[entity] = Party(entity, account, given.get("connection", ""), team, delay, key)

    def _scene(self, flushes: list[Flush], from_s: float) -> Scene:
        for flush in flushes:
            ticks = self._recording.piece("ticks", flush)
            recorded = [w == "record" for w in ticks["what"].to_pylist()]
            times = ticks["server_time"].to_numpy()[recorded].astype(float)
            if len(times):
                numbers = ticks["tick"].to_numpy()[recorded]
                self._held.append((times, self._bodies(flush, numbers)))
        while len(self._held) > 1 and self._held[1][0][0] <= from_s - REACH_BACK_S:
            self._held.popleft()
        ids = sorted({entity for _, bodies in self._held for entity in bodies})
        bones = max((len(self._rig_of[e].bones) for e in ids), default=1)
        ticks_held = sum(len(times) for times, _ in self._held)
        points, eye_poses = (
            np.full((ticks_held, len(ids), bones, 3), np.nan),
            np.full((ticks_held, len(ids), 7), np.nan),
        )
        row = 0
        for times, bodies in self._held:
            for column, entity in enumerate(ids):
                if entity in bodies:
                    rows, places, eyes = bodies[entity]
                    own = places.shape[1]
                    points[row + rows, column, :own], points[row + rows, column, own:] = places, places[:, -1:]
                    eye_poses[row + rows, column] = eyes
            row += len(times)
        eye_at = np.array([self._rig_of[e].eye_at for e in ids]).reshape(-1, 3)
        times = np.concatenate([t for t, _ in self._held])
        return scene_from(times, np.array(ids, np.int64), points, eye_poses, eye_at)

    def _bodies(self, flush: Flush, numbers: NDArray[np.int64]) -> dict[int, Body]:
        """The bodies of one flush: places of all bones, and the eye's bone whole."""
        header, rows = self._recording.require_header(), pose_rows(self._recording.piece("poses", flush))
        out = {}
        for who, at, bones in rows.bodies():
            if who not in self._parties:
                continue
            eye = self._rig_of[who].eye_bone
            places = rows.places[at, :bones] / header.place_steps_per_m
            eyes = np.concatenate([places[:, eye], rows.turns[at, eye] / header.turn_steps], 1)
            out[who] = (np.searchsorted(numbers, rows.tick[at]), places, eyes)
        return out


def _telling(table: Any) -> list[Ruling]:
    """The rulings of a table that show an aim or hold a finding; most are moves, and say nothing."""
    columns = (table[name].to_pylist() for name in ("kind", "findings", "ruling"))
    texts = [text for kind, found, text in zip(*columns, strict=True) if found or kind in AIMED]
    return [_RULING(text) for text in texts]
