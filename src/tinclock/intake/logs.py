"""Another server's logs, read as a mapping file says: who took part, where bodies were, what clients claimed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.geometry.rig import Rig
from tinclock.intake.log_claims import LoggedClaim, read_claims
from tinclock.intake.log_columns import LogFile, Problems, name_of, seconds
from tinclock.intake.log_frame import LogFrame
from tinclock.intake.log_players import constant, read_players, same_for_all, with_delays
from tinclock.intake.log_poses import LoggedPoses, read_poses

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.rules import Rules
    from tinclock.intake.log_map import LogMap
    from tinclock.intake.log_players import Players


class LoggedSpawn(NamedTuple):
    """The beginning of a life. position : where the body was put, metres, where the logs say."""

    server_time: float
    player: str
    position: tuple[float, float, float] | None


class LoggedPing(NamedTuple):
    """One round trip; server times, and the client's clock when it answered."""

    player: str
    sent_at: float
    received_at: float
    client_time: float


class Logs(NamedTuple):
    """One match as it was logged, in our units and axes.

    players : by the logs' own ids, each time that they were there, in order
    poses : of every tick, and which ticks clients were sent
    claims : in order of their arrival; spawns : in order; pings : in order of their answers
    handled : whether they tell who took which weapon in hand and reloaded it
    rows : how many rows each file had
    """

    players: Players
    poses: LoggedPoses
    claims: list[LoggedClaim]
    spawns: list[LoggedSpawn]
    pings: list[LoggedPing]
    handled: bool
    rows: dict[str, int]


class Reading:
    """What all parts of the reading share."""

    def __init__(self, mapping: LogMap, folder: Path, rules: Rules) -> None:
        self.mapping, self.folder, self.rules = mapping, folder, rules
        self.problems, self.frame = Problems(), LogFrame(mapping)
        self.rigs = {name: Rig(name, table) for name, table in rules.rigs.items()}
        self.rows: dict[str, int] = {}
        self._files: dict[str, LogFile] = {}
        self.zero = 0.0

    def file(self, name: str) -> LogFile:
        """A file, read once."""
        if name not in self._files:
            self._files[name] = LogFile(self.folder / name, self.problems, self.mapping.delimiter)
            self.rows[name] = self._files[name].rows
        return self._files[name]

    def drop(self, name: str) -> None:
        """Let go of a file's columns: poses are many."""
        self._files.pop(name, None)

    def server_times(self, file: LogFile, said: Any) -> Any:
        """Server times of a column, each there: (rows,) float64, seconds."""
        found = file.times(said, self.frame.seconds)
        file.require(found, said)
        return found - self.zero


def read_logs(
    mapping: LogMap, folder: str | Path, rules: Rules, on_progress: Callable[[float], None] | None = None
) -> Logs:
    """Read what a mapping names.

    folder : where its files lie; on_progress : called with the share that is done

    Raises `LogError` that names file, row and column of what can't be read as the mapping says; `MissingExtraError`
    without pyarrow or SciPy.
    """
    reading = Reading(mapping, Path(folder), rules)
    show = on_progress or (lambda share: None)
    if mapping.units.time_zero is not None:
        reading.zero = _zero(reading)
    people = read_players(reading)
    reading.problems.stop_if_any()
    show(0.05)
    rigs = None if people is None else {name: sessions[0].rig for name, sessions in people.items()}
    poses, first = read_poses(reading, rigs, constant(mapping.players.rig))
    if people is None:
        people = {name: (same_for_all(mapping, name),) for name in poses.names}
    if mapping.units.time_zero is None:
        reading.zero = first
        people = {name: tuple(one.sooner(first) for one in sessions) for name, sessions in people.items()}
    reading.problems.stop_if_any()
    show(0.7)
    pings = _pings(reading, people)
    if mapping.spawns is None:
        spawns = [LoggedSpawn(*one, None) for one in poses.away(mapping.poses.away_s)]
    else:
        spawns = _spawns(reading, people)
    claims = read_claims(reading, people, pings, poses)
    reading.problems.stop_if_any()
    show(1.0)
    people = with_delays(people, claims, pings, poses)
    handled = any(one.kind == "handle" for one in mapping.claims)
    return Logs(people, poses, claims, spawns, pings, handled, reading.rows)


def _zero(reading: Reading) -> float:
    said = reading.mapping.units.time_zero
    if reading.frame.seconds is not None and isinstance(said, (int, float)):
        return float(said) * reading.frame.seconds
    try:
        return seconds(str(said), None)
    except ValueError:
        reading.problems.add("mapping", "", "units.time_zero", f"expected a time in the logs' unit, got {said!r}")
        return 0.0


def _spawns(reading: Reading, people: Players) -> list[LoggedSpawn]:
    said = reading.mapping.spawns
    if said is None:
        return []
    file = reading.file(said.file)
    at, names = reading.server_times(file, said.time).tolist(), file.known(said.player, people)
    places: list[Any] = [None] * file.rows
    if said.position is not None:
        theirs = file.vectors(said.position, 3)
        file.require(theirs, said.position)
        places = [tuple(row) for row in reading.frame.places(theirs).tolist()]
    return sorted((LoggedSpawn(*row) for row in zip(at, names, places, strict=True)), key=lambda spawn: spawn[:2])


def _pings(reading: Reading, people: Players) -> list[LoggedPing]:
    said = reading.mapping.pings
    if said is None:
        return []
    file, unit = reading.file(said.file), reading.frame.seconds
    received, names = reading.server_times(file, said.time), file.known(said.player, people)
    trips = file.times(said.round_trip, unit or 1.0)
    file.require(trips, said.round_trip)
    for index in np.flatnonzero(trips < 0.0).tolist():
        file.wrong(index, name_of(said.round_trip), f"expected a round trip of at least 0, got {trips[index]:g} s")
    clocks = received - trips / 2.0 if said.client_time is None else file.times(said.client_time, unit)
    file.require(clocks, said.client_time)
    rows = zip(names, (received - trips).tolist(), received.tolist(), clocks.tolist(), strict=True)
    return sorted((LoggedPing(*row) for row in rows), key=lambda ping: ping.received_at)
