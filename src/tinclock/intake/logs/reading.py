"""Another server's logs, read as a mapping file says: who took part, where bodies were, what clients claimed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.intake.logs.claims import read_claims
from tinclock.intake.logs.columns import name_of, seconds
from tinclock.intake.logs.players import constant, read_players, same_for_all, with_delays
from tinclock.intake.logs.poses import read_poses
from tinclock.intake.logs.records import LoggedClaim, LoggedPing, LoggedPoses, LoggedSpawn
from tinclock.intake.logs.sources import Sources

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.rules.ruleset import Rules
    from tinclock.intake.logs.mapping import LogMap
    from tinclock.intake.logs.records import Players


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


def read_logs(
    mapping: LogMap, folder: str | Path, rules: Rules, on_progress: Callable[[float], None] | None = None
) -> Logs:
    """Read what a mapping names.

    folder : where its files lie; on_progress : called with the share that is done

    Raises `LogError` that names file, row and column of what can't be read as the mapping says; `MissingExtraError`
    without pyarrow or SciPy.
    """
    sources = Sources(mapping, Path(folder), rules)
    show = on_progress or (lambda share: None)
    if mapping.units.time_zero is not None:
        sources.zero = _zero(sources)
    people = read_players(sources)
    sources.problems.stop_if_any()
    show(0.05)
    rigs = None if people is None else {name: sessions[0].rig for name, sessions in people.items()}
    poses, first = read_poses(sources, rigs, constant(mapping.players.rig))
    if people is None:
        people = {name: (same_for_all(mapping, name),) for name in poses.names}
    if mapping.units.time_zero is None:
        sources.zero = first
        people = {name: tuple(one.sooner(first) for one in sessions) for name, sessions in people.items()}
    sources.problems.stop_if_any()
    show(0.7)
    pings = _pings(sources, people)
    if mapping.spawns is None:
        spawns = [LoggedSpawn(*one, None) for one in poses.away(mapping.poses.away_s)]
    else:
        spawns = _spawns(sources, people)
    claims = read_claims(sources, people, pings, poses)
    sources.problems.stop_if_any()
    show(1.0)
    people = with_delays(people, claims, pings, poses)
    handled = any(one.kind == "weapon_action" for one in mapping.claims)
    return Logs(people, poses, claims, spawns, pings, handled, sources.rows)


def _zero(sources: Sources) -> float:
    said = sources.mapping.units.time_zero
    if sources.frame.seconds is not None and isinstance(said, (int, float)):
        return float(said) * sources.frame.seconds
    try:
        return seconds(str(said), None)
    except ValueError:
        sources.problems.add("mapping", "", "units.time_zero", f"expected a time in the logs' unit, got {said!r}")
        return 0.0


def _spawns(sources: Sources, people: Players) -> list[LoggedSpawn]:
    said = sources.mapping.spawns
    if said is None:
        return []
    file = sources.file(said.file)
    at, names = sources.server_times(file, said.time).tolist(), file.known(said.player, people)
    places: list[Any] = [None] * file.rows
    if said.position is not None:
        theirs = file.vectors(said.position, 3)
        file.require(theirs, said.position)
        places = [tuple(row) for row in sources.frame.places(theirs).tolist()]
    return sorted((LoggedSpawn(*row) for row in zip(at, names, places, strict=True)), key=lambda spawn: spawn[:2])


def _pings(sources: Sources, people: Players) -> list[LoggedPing]:
    said = sources.mapping.pings
    if said is None:
        return []
    file, unit = sources.file(said.file), sources.frame.seconds
    received, names = sources.server_times(file, said.time), file.known(said.player, people)
    trips = file.times(said.round_trip, unit or 1.0)
    file.require(trips, said.round_trip)
    for index in np.flatnonzero(trips < 0.0).tolist():
        file.wrong(index, name_of(said.round_trip), f"expected a round trip of at least 0, got {trips[index]:g} s")
    clocks = received - trips / 2.0 if said.client_time is None else file.times(said.client_time, unit)
    file.require(clocks, said.client_time)
    rows = zip(names, (received - trips).tolist(), received.tolist(), clocks.tolist(), strict=True)
    return sorted((LoggedPing(*row) for row in rows), key=lambda ping: ping.received_at)
