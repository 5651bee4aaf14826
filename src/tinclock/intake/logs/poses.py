"""Poses out of logged tables: rows of bodies or of bones, sorted into ticks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.intake.logs.columns import name_of
from tinclock.intake.logs.records import LoggedPoses

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.geometry.rig import Rig
    from tinclock.intake.logs.columns import LogFile
    from tinclock.intake.logs.mapping import PosesTable
    from tinclock.intake.logs.sources import Sources


def read_poses(sources: Sources, rig_of: Mapping[str, str] | None, rig: str) -> tuple[LoggedPoses, float]:
    """The poses of a mapping's logs, and what is to be taken off other times so that the first pose is at 0.

    rig_of : the rig of each player; None: everybody in the table takes part, and has `rig`
    """
    said = sources.mapping.poses
    file = sources.file(said.file)
    texts = file.named(said.player) if rig_of is None else file.known(said.player, rig_of)
    sources.problems.stop_if_any()
    names = tuple(dict.fromkeys(texts))
    place = {name: number for number, name in enumerate(names)}
    who = np.array([place[name] for name in texts], np.int64)
    rigs = tuple(sources.rigs[rig if rig_of is None else rig_of[name]] for name in names)
    ticks, instants, first = _instants(sources, file, said)
    poses, raised = _poses(sources, file, said)
    bones = np.zeros(file.rows, np.int64) if said.bone is None else _bones(file, said.bone, who, rigs)
    sent = np.array([True] * file.rows if said.sent is None else file.flags(said.sent), bool)
    sources.problems.stop_if_any()
    order = np.lexsort((bones, who, ticks))
    order = order[bones[order] >= 0]
    _whole_bodies(file, order, ticks, who, bones, rigs, names, said.bone is not None)
    sources.problems.stop_if_any()
    sources.drop(said.file)
    numbers, begin = np.unique(ticks[order], return_index=True)
    published = np.logical_or.reduceat(sent[order], begin) if len(order) else np.zeros(0, bool)
    if said.sent is None:
        published &= np.arange(len(numbers)) % said.sent_every == 0
    found = LoggedPoses(
        names, rigs, numbers, instants[order][begin] - first, published, np.append(begin, len(order)), who[order],
        poses[order], None if raised is None else raised[order], said.bone is not None,
    )  # fmt: skip
    return found, first


def _instants(
    sources: Sources, file: LogFile, said: PosesTable
) -> tuple[NDArray[np.int64], NDArray[np.float64], float]:
    """The tick and the time of each row, and which time is to be 0."""
    numbers = None if said.tick is None else _numbers(file, said.tick)
    if said.time is None:  # the mapping has one of both
        ticks = np.zeros(0, np.int64) if numbers is None else numbers
        return ticks, ticks / sources.rules.match.tick_rate_hz, 0.0
    at = file.times(said.time, sources.frame.seconds)
    file.require(at, said.time)
    at = at - sources.zero
    if numbers is None:
        ticks = np.unique(at, return_inverse=True)[1].astype(np.int64)
    else:
        ticks = numbers
        _same_times(file, said, ticks, at)
    known = at[np.isfinite(at)]
    first = float(known.min()) if len(known) and sources.mapping.units.time_zero is None else 0.0
    return ticks, at, first


def _numbers(file: LogFile, said: Any) -> NDArray[np.int64]:
    """The logs' own numbers of their instants."""
    numbers = np.array([-1 if one is None else one for one in file.whole(said)], np.int64)
    for index in np.flatnonzero(numbers < 0).tolist():
        file.wrong(index, name_of(said), "expected a tick, a whole number of at least 0")
    return numbers


def _same_times(file: LogFile, said: PosesTable, ticks: NDArray[np.int64], at: NDArray[np.float64]) -> None:
    """One tick has one time, and later ticks later ones."""
    order = np.argsort(ticks, kind="stable")
    same = np.diff(ticks[order]) == 0
    step = np.diff(at[order])
    for index in order[1:][same & (step != 0.0)].tolist():
        file.wrong(index, name_of(said.time), f"tick {ticks[index]} has another time in an earlier row")
    for index in order[1:][~same & (step <= 0.0)].tolist():
        file.wrong(index, name_of(said.time), f"tick {ticks[index]} is no later than the tick before it")


def _poses(sources: Sources, file: LogFile, said: PosesTable) -> tuple[NDArray[np.float64], NDArray[np.float64] | None]:
    frame = sources.frame
    places = file.vectors(said.position, 3)
    file.require(places, said.position)
    raised = None
    if said.quaternion is not None:
        turns = file.vectors(said.quaternion, 4)
        file.require(turns, said.quaternion)
        turns = frame.turns(turns)
        for index in np.flatnonzero(np.isnan(turns).any(axis=1)).tolist():
            file.wrong(index, str(said.quaternion), "expected a rotation, got only zeros")
    else:
        yaw = np.zeros(file.rows) if said.yaw is None else file.numbers(said.yaw)
        file.require(yaw, said.yaw)
        turns = frame.facing(yaw)
        if said.pitch is not None:
            pitch = file.numbers(said.pitch)
            file.require(pitch, said.pitch)
            raised = frame.raised(yaw, pitch)
    return np.hstack([frame.places(places), turns]), raised


def _bones(file: LogFile, said: Any, who: NDArray[np.int64], rigs: tuple[Rig, ...]) -> NDArray[np.int64]:
    """The place of each row's bone in its rig, -1 for a bone that the rig doesn't have."""
    at = [{bone: place for place, bone in enumerate(rig.bones)} for rig in rigs]
    bones = [at[number].get(bone or "", -1) for number, bone in zip(who.tolist(), file.texts(said), strict=True)]
    return np.array(bones, np.int64)


def _whole_bodies(
    file: LogFile, order: NDArray[np.int64], ticks: NDArray[np.int64], who: NDArray[np.int64],
    bones: NDArray[np.int64], rigs: tuple[Rig, ...], names: tuple[str, ...], by_bone: bool,
) -> None:  # fmt: skip
    """Every body has each of its bones exactly once at each tick at which it has any."""
    if not len(order):
        return
    key = np.stack([ticks[order], who[order]])
    begin = np.flatnonzero(np.append(True, (np.diff(key) != 0).any(axis=0)))
    held = np.diff(np.append(begin, len(order)))
    wanted = np.array([len(rig.bones) if by_bone else 1 for rig in rigs], np.int64)[who[order][begin]]
    expected = np.arange(len(order)) - np.repeat(begin, held)  # bones lie in their rig's order
    wrong = np.flatnonzero(bones[order] != expected) if by_bone else np.zeros(0, np.int64)
    bad = np.union1d(np.flatnonzero(held != wanted), np.searchsorted(begin, wrong, "right") - 1)
    for group in bad.tolist():
        row = int(order[begin[group]])
        rig, there = rigs[who[row]], bones[order[begin[group] : begin[group] + held[group]]]
        missing = [bone for number, bone in enumerate(rig.bones) if number not in there] if by_bone else []
        told = f"lacks the bones {', '.join(missing[:8])}" if missing else "has a bone twice"
        problem = told if by_bone else "has more than one row"
        file.wrong(row, "", f"{names[who[row]]!r} at tick {ticks[row]} {problem}")
