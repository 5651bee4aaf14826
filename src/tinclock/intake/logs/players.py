"""Read the participants out of a logged table, and work out missing values where possible."""

from __future__ import annotations

from bisect import bisect_right
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.intake.logs.columns import name_of
from tinclock.intake.logs.mapping import Cell
from tinclock.intake.logs.records import LoggedPlayer, Players

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.intake.logs.mapping import LogMap
    from tinclock.intake.logs.records import LoggedClaim, LoggedPing, LoggedPoses
    from tinclock.intake.logs.sources import Sources


TRIPS_S = 10.0
"""Trips of so long ago say nothing of the line any more."""


def constant(said: object) -> str:
    """Values that a mapping gives for all rows alike."""
    return str(said.value) if isinstance(said, Cell) and said.value is not None else ""


def same_for_all(mapping: LogMap, name: str) -> LoggedPlayer:
    """A player known only by poses."""
    said = mapping.players
    return LoggedPlayer(
        constant(said.account) or name, constant(said.team), constant(said.rig), constant(said.weapon) or None,
        None, None, None, constant(said.placed) == "True",
    )  # fmt: skip


def read_players(sources: Sources) -> Players | None:
    """Everybody in the players' file, by id; None where there is no such file."""
    said = sources.mapping.players
    if said.file is None:
        rig = constant(said.rig)
        if rig not in sources.rigs:
            told = ", ".join(sources.rigs)
            sources.problems.add("mapping", "", "players.rig", f"expected one of the rules' rigs ({told}), got {rig!r}")
        return None
    file, unit = sources.file(said.file), sources.frame.seconds
    names = file.named(said.player)
    accounts, rigs = file.texts(said.account or said.player), file.texts(said.rig)
    teams = file.texts(said.team) if said.team else [None] * file.rows
    weapons = file.texts(said.weapon) if said.weapon else [None] * file.rows
    joins = None if said.joins is None else file.times(said.joins, unit) - sources.zero
    leaves = None if said.leaves is None else file.times(said.leaves, unit) - sources.zero
    delay = None if said.interpolation_delay is None else file.times(said.interpolation_delay, unit or 1.0)
    placed = [False] * file.rows if said.placed is None else file.flags(said.placed)
    rows: dict[str, list[tuple[int, LoggedPlayer]]] = {}
    for index, name in enumerate(names):
        rig, weapon = rigs[index] or "", weapons[index]
        for key, given, known in (("rig", rig, sources.rigs), ("weapon", weapon, sources.rules.weapons)):
            if given is not None and given not in known:
                problem = f"expected one of the rules' {key}s ({', '.join(known)}), got {given!r}"
                file.wrong(index, name_of(getattr(said, key)), problem)
        if not accounts[index] and not placed[index]:
            file.wrong(index, name_of(said.account or said.player), "expected an account, got nothing")
        player = LoggedPlayer(
            accounts[index] or "", teams[index] or "", rig, weapon, _at(joins, index), _at(leaves, index),
            _at(delay, index), placed[index],
        )  # fmt: skip
        rows.setdefault(name, []).append((index, player))
    return {name: _sessions(sources, name, each) for name, each in rows.items()}


def _at(values: Any, index: int) -> float | None:
    return None if values is None or not np.isfinite(values[index]) else float(values[index])


def _sessions(sources: Sources, name: str, rows: list[tuple[int, LoggedPlayer]]) -> tuple[LoggedPlayer, ...]:
    """Let leavers come back, in the same body, but not twice at once."""
    said = sources.mapping.players
    file = sources.file(str(said.file))
    rows = sorted(rows, key=lambda row: -np.inf if row[1].joins is None else row[1].joins)
    for (_, before), (index, one) in pairwise(rows):
        if before.leaves is None or one.joins is None or one.joins <= before.leaves:
            file.wrong(
                index,
                name_of(said.player),
                f"{name!r} is there twice at once; a player who comes back must have left before",
            )
        if one.rig != before.rig:
            file.wrong(index, name_of(said.rig), f"{name!r} comes back as a {one.rig}; give it an id of its own then")
    return tuple(player for _, player in rows)


def with_delays(
    people: Players, claims: Sequence[LoggedClaim], pings: Sequence[LoggedPing], poses: LoggedPoses
) -> Players:
    """Estimate each client's interpolation delay: the median of its views' ages beyond its shortest round trip.

    So no view of an honest client looks too old or too young for want of a number in the logs.
    """
    at = dict(zip(poses.ticks.tolist(), poses.times.tolist(), strict=True))
    trips: dict[str, tuple[list[float], list[float]]] = {}
    for ping in pings:
        received, trip = trips.setdefault(ping.player, ([], []))
        received.append(ping.received_at)
        trip.append(ping.received_at - ping.sent_at)
    behind: dict[str, list[float]] = {}
    for claim in claims:
        view = claim.fields.get("view")
        if view is not None and view.from_tick in at and view.to_tick in at and claim.player in trips:
            shown = at[view.from_tick] + view.fraction * (at[view.to_tick] - at[view.from_tick])
            shortest = _shortest_lately(*trips[claim.player], claim.received_at)
            behind.setdefault(claim.player, []).append(claim.received_at - shown - shortest)
    delays = {name: max(float(np.median(found)), 0.0) for name, found in behind.items()}
    return {name: tuple(_delayed(one, delays.get(name)) for one in sessions) for name, sessions in people.items()}


def _shortest_lately(received: Sequence[float], trips: Sequence[float], at: float) -> float:
    """The shortest trip of the last while, as detectors take it: a route may change half-way."""
    last = max(bisect_right(received, at), 1)
    return min(trips[min(bisect_right(received, at - TRIPS_S), last - 1) : last])


def _delayed(player: LoggedPlayer, delay: float | None) -> LoggedPlayer:
    known = player.interpolation_delay_s
    return player._replace(interpolation_delay_s=delay if known is None else known)
