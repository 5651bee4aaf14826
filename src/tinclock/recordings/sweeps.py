"""One recording ruled by many rules in one pass: it is read and decoded once, and put to one referee a set of rules."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np

from tinclock.core.analysis.ruling_diff import told
from tinclock.core.errors import RecordingError
from tinclock.core.plain import Fields
from tinclock.core.ruling.commands import read_change
from tinclock.core.ruling.histories import history_for, stores_alike
from tinclock.recordings.replaying import NO_POSES, poses_by_tick, replay
from tinclock.recordings.sides import Doing, Group, Sent, Side, SweepResult, Told, Tried
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording


def replay_sweep(
    recording: Recording,
    rules: Sequence[Rules],
    *,
    against: Rules | None = None,
    level: Level | None = None,
    on_progress: Callable[[float], None] | None = None,
) -> list[SweepResult]:
    """Rule a recording by each of several sets of rules, in one pass over it.

    against : rules to count flips against, ruled in a pass of their own; None for the recorded rulings
    level : the recorded level, where the recording doesn't hold it
    on_progress : called with the share that is done; from the beginning again where rules that let in other people are
        ruled by themselves

    Players act as they did, as in `replay`. Raises `RecordingError` for a recording that can't be read.
    """
    held = recording.level_or(level)
    before = _recorded(recording) if against is None else _ruled(recording, against, held)
    header = recording.require_header()
    groups: list[Group] = []
    sides: list[Side] = []
    for one in rules:
        group = next((group for group in groups if stores_alike(group.rules, one)), None)
        if group is None:
            groups.append(group := Group(one, history_for(one, header.storage)))
        sides.append(Side(Tried(header, one, held, group.lead), before))
        group.sides.append(sides[-1])
    _go_through(recording, groups, on_progress)
    alone: list[Group] = []
    for place, side in enumerate(sides):
        if side.is_lost:
            alone.append(Group(rules[place], None))
            sides[place] = Side(Tried(header, rules[place], held, None), before)
            alone[-1].sides.append(sides[place])
    if alone:
        _go_through(recording, alone, on_progress)
    return [side.result() for side in sides]


def _go_through(recording: Recording, groups: Sequence[Group], on_progress: Callable[[float], None] | None) -> None:
    """Put all that was recorded to all sides."""
    first_s, span = recording.begins_at_s, max(recording.ends_at_s - recording.begins_at_s, 1e-9)
    for flush in recording.flushes:
        problems = len(recording.problems)
        if flush.missing is not None:
            _say_once(recording, f"{flush.missing}; ruled again only up to there")
            break
        for doing in _doings(recording, flush):
            for group in groups:
                group.do(doing)
        for group in groups:
            for side in group.sides:
                side.end_flush()
        if len(recording.problems) > problems:
            _say_once(recording, "ruled again only up to there: what follows depends on what is missing")
            break
        if on_progress is not None and flush.to_s is not None:
            on_progress((flush.to_s - first_s) / span)


def _say_once(recording: Recording, problem: str) -> None:
    if problem not in recording.problems:
        recording.problems.append(problem)


def _recorded(recording: Recording) -> Told:
    out: Told = {}
    for flush in recording.flushes:
        steps = recording.piece("rulings", flush)["call_number"].to_pylist()
        for step, ruling in zip(steps, recording.rulings_of(flush), strict=True):
            out.setdefault(step, []).append(told(ruling))
    return out


def _ruled(recording: Recording, rules: Rules, level: Level | None) -> Told:
    out: Told = {}
    found = replay(recording, rules=rules, level=level)
    for step, ruling in zip(found.call_numbers, found.rulings, strict=True):
        out.setdefault(step, []).append(told(ruling))
    return out


def _doings(recording: Recording, flush: Flush) -> Iterator[Doing]:
    """Everything of one flush, decoded, in the order of the steps; claims between two other calls come together."""
    tables = {name: recording.piece(name, flush) for name in ("calls", "pings", "ticks", "claims")}
    columns = {
        name: [table.column(0).to_numpy(), *(column.to_pylist() for column in table.columns[1:])]
        for name, table in tables.items()
    }
    poses = poses_by_tick(recording, flush)
    steps = np.concatenate([columns[name][0] for name in columns])
    names = [name for name in columns for _ in range(len(columns[name][0]))]
    rows = [row for name in columns for row in range(len(columns[name][0]))]
    waiting = Sent([], [])
    for at in np.argsort(steps, kind="stable").tolist():
        step, name, row, held = int(steps[at]), names[at], rows[at], columns[names[at]]
        if name == "claims":
            waiting.claims.append((held[1][row], decode_claim(held[3][row]), held[2][row]))
            waiting.steps.append(step)
            continue
        if waiting.steps:
            yield Doing(waiting.steps[0], "claims", waiting)
            waiting = Sent([], [])
        if name == "ticks":
            what, tick, server_time = held[1][row], held[2][row], held[3][row]
            given = (tick, server_time, *poses.get(tick, NO_POSES)) if what == "record" else (tick, server_time)
            yield Doing(step, what, given)
        else:
            try:
                command = read_change(held[2][row], msgspec.json.decode(held[3][row], type=Fields))
            except msgspec.DecodeError as error:
                raise RecordingError(recording.path, f"step {step} can't be read: {error}") from None
            yield Doing(step, "call", command)
    if waiting.steps:
        yield Doing(waiting.steps[0], "claims", waiting)
