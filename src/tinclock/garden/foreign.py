"""A recorded garden match as somebody else's server would have logged it, to try the reading of logs with.

Centimetres, milliseconds since 1970, left-handed axes with y up, quaternions that begin with w, weapons by number, a
joint a row; in Parquet, CSV and JSON Lines, with the mapping file that says so.
"""

from __future__ import annotations

import csv
import json
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.plain import Fields
from tinclock.core.ruling.claims import ShotClaim
from tinclock.garden.scenario import data_file
from tinclock.recordings.pieces import pose_rows, require_pyarrow
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from pathlib import Path

    from numpy.typing import NDArray

    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

ZERO_MS = 1_767_225_600_000
GUNS = {"grit_rifle": "1", "gravel_scatter": "2", "hose": "3"}
SIDES = {"copper": "A", "pewter": "B"}
PLAYERS = ["who", "login", "side", "body", "scenery"]
SHOTS = ["ms", "who", "no", "gun", "ox", "oy", "oz", "dx", "dy", "dz", "drew_from", "drew_to", "blend"]


def write_foreign_logs(recording: Recording, folder: Path) -> Path:
    """Write the logs of a recorded match; returns the mapping file.

    folder : made where it isn't there. Raises `RecordingError` for what can't be read.
    """
    folder.mkdir(parents=True, exist_ok=True)
    logs = _Logs(recording)
    for flush in recording.flushes:
        logs.take(flush)
    logs.write_poses(folder / "poses.parquet")
    (folder / "pings.jsonl").write_text("".join(json.dumps(ping) + "\n" for ping in logs.pings), encoding="utf-8")
    for name, columns, rows in (("players.csv", PLAYERS, logs.players), ("shots.csv", SHOTS, logs.shots)):
        with (folder / name).open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([columns, *rows])
    for name in ("garden.toml", "garden_level.toml"):
        (folder / name).write_bytes(data_file(name).read_bytes())
    mapping = folder / "mapping.toml"
    mapping.write_bytes(data_file("foreign_mapping.toml").read_bytes())
    return mapping


def _theirs(ours: NDArray[np.float64]) -> NDArray[np.float64]:
    """Places or directions (n, 3) in the other server's axes."""
    return np.stack([-ours[:, 1], ours[:, 2], ours[:, 0]], axis=1)


class _Logs:
    """Rows, gathered flush by flush."""

    def __init__(self, recording: Recording) -> None:
        self._recording, self._header = recording, recording.require_header()
        self._bones: dict[int, list[str]] = {}
        self._names: dict[int, str] = {}
        self._asked: dict[int, float] = {}
        self._poses: list[Any] = []
        self.players: list[tuple[Any, ...]] = []
        self.shots: list[tuple[Any, ...]] = []
        self.pings: list[Fields] = []

    def take(self, flush: Flush) -> None:
        """Content of one flush."""
        read = self._recording.piece
        for row in read("calls", flush).to_pylist():
            if row["call"] in ("admit", "add_entity"):
                self._enter(row["call"] == "add_entity", int(row["answer"]), json.loads(row["arguments"]))
        for row in read("pings", flush).to_pylist():
            self._ping(row["call"], json.loads(row["arguments"]), row["answer"])
        for row in read("claims", flush).to_pylist():
            self._claim(decode_claim(row["received"]), row["connection"], row["received_at"])
        self._poses.append(read("poses", flush))

    def _enter(self, placed: bool, entity: int, said: Fields) -> None:
        self._bones[entity] = [bone.name for bone in self._header.rules.rigs[said["rig"]].bones]
        name = self._names[entity] = said.get("connection", f"thing-{entity}")
        self.players.append((name, said.get("account", ""), SIDES.get(said.get("team", ""), ""), said["rig"], placed))

    def _ping(self, call: str, said: Fields, answer: str) -> None:
        if call == "ping":
            self._asked[int(answer)] = said["sent_at"]
        elif answer == '"used"':
            trip_ms = 1e3 * (said["received_at"] - self._asked[said["nonce"]])
            trip = {"ms": trip_ms, "clock_ms": 1e3 * said["client_time"]}
            self.pings.append({"got_ms": ZERO_MS + 1e3 * said["received_at"], "who": said["connection"], "trip": trip})

    def _claim(self, claim: object, connection: str, received_at: float) -> None:
        if isinstance(claim, ShotClaim) and claim.view is not None and claim.weapon in GUNS:
            aim = _theirs(np.array([claim.origin, claim.direction]))
            told = (ZERO_MS + 1e3 * received_at, connection, claim.sequence, GUNS[claim.weapon])
            self.shots.append((*told, *1e2 * aim[0], *aim[1], *msgspec.structs.astuple(claim.view)))

    def write_poses(self, path: Path) -> None:
        """A row for each joint of each body at each tick."""
        pyarrow = require_pyarrow("write_foreign_logs")
        rows, header = pyarrow.concat_tables(self._poses), self._header
        held = pose_rows(rows)
        bone, there = np.broadcast_arrays(np.arange(held.steps.shape[1]), held.bones[:, None])
        there = bone < there
        entity, tick = (np.repeat(one, held.bones) for one in (held.entity, held.tick))
        bone = bone[there]
        place = 1e2 * _theirs(held.places[there] / header.place_steps_per_m)
        turn = np.roll(held.turns[there], 1, axis=1) / header.turn_steps  # w comes first
        turn[:, 1:] = -_theirs(turn[:, 1:])  # seen in a mirror, everything turns the other way
        who = [self._names[one] for one in entity.tolist()]
        joint = [self._bones[one][number] for one, number in zip(entity.tolist(), bone.tolist(), strict=True)]
        table = {"ms": ZERO_MS + 1e3 * tick / header.rules.match.tick_rate_hz, "step": tick, "who": who, "joint": joint}
        table |= {"px": place[:, 0], "py": place[:, 1], "pz": place[:, 2], "rot": list(turn)}
        pyarrow.parquet.write_table(pyarrow.table(table), path)
