"""One recording ruled by many rules in one pass: it is read and decoded once, and put to one referee a set of rules."""

from __future__ import annotations

from collections import Counter
from itertools import zip_longest
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec
import numpy as np

from tinclock.core.analysis.changes import told
from tinclock.core.errors import RecordingError, TinClockError
from tinclock.core.plain import Fields
from tinclock.core.referee import Referee
from tinclock.core.ruling.commands import Act, ChangeRules, read_change
from tinclock.core.ruling.records import damage_of
from tinclock.recordings.replay import NO_POSES, poses_by_tick, rerule
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

Told = dict[int, list[object]]
"""What came of each step's claims: see `core.analysis.changes.told`."""


class Ranged(NamedTuple):
    """What came of a recording by one set of rules.

    upheld, amended, denied : rulings; damage : points dealt; kills : deaths of anybody
    flipped : claims that are ruled otherwise than they were recorded; refused : calls that these rules don't allow
    """

    upheld: int
    amended: int
    denied: int
    damage: float
    kills: int
    flipped: int
    refused: int


class _Doing(NamedTuple):
    """A recorded call, decoded: its step, its name, and what it needs."""

    step: int
    what: str
    given: Any


def rerule_range(
    recording: Recording,
    rules: Sequence[Rules],
    *,
    against: Rules | None = None,
    level: Level | None = None,
    on_progress: Callable[[float], None] | None = None,
) -> list[Ranged]:
    """Rule a recording by each of several sets of rules, in one pass over it.

    against : rules to count flips against, ruled in a pass of their own; None for the recorded rulings
    level : the recorded level, where the recording doesn't hold it
    on_progress : called with the share that is done

    Players act as they did, as in `rerule`. Raises `RecordingError` for a recording that can't be read.
    """
    shared = recording.level_or(level)
    before = _recorded(recording) if against is None else _ruled(recording, against, shared)
    sides = [_Side(recording, one, shared, before) for one in rules]
    first_s, span = recording.begins_at_s, max(recording.ends_at_s - recording.begins_at_s, 1e-9)
    for flush in recording.flushes:
        if flush.missing is not None:
            recording.problems.append(f"{flush.missing}; ruled again only up to there")
            break
        problems, doings = len(recording.problems), list(_doings(recording, flush))
        for side in sides:
            for doing in doings:
                side.do(doing)
            side.end_flush()
        if len(recording.problems) > problems:
            recording.problems.append("ruled again only up to there: what follows depends on what is missing")
            break
        if on_progress is not None and flush.to_s is not None:
            on_progress((flush.to_s - first_s) / span)
    return [side.result() for side in sides]


def _recorded(recording: Recording) -> Told:
    out: Told = {}
    for flush in recording.flushes:
        steps = recording.piece("rulings", flush)["step"].to_pylist()
        for step, ruling in zip(steps, recording.rulings_of(flush), strict=True):
            out.setdefault(step, []).append(told(ruling))
    return out


def _ruled(recording: Recording, rules: Rules, level: Level | None) -> Told:
    out: Told = {}
    found = rerule(recording, rules=rules, level=level)
    for step, ruling in zip(found.steps, found.rulings, strict=True):
        out.setdefault(step, []).append(told(ruling))
    return out


def _doings(recording: Recording, flush: Flush) -> Iterator[_Doing]:
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
    waiting: list[tuple[int, str, object, float]] = []
    for at in np.argsort(steps, kind="stable").tolist():
        step, name, row, held = int(steps[at]), names[at], rows[at], columns[names[at]]
        if name == "claims":
            waiting.append((step, held[1][row], decode_claim(held[3][row]), held[2][row]))
            continue
        if waiting:
            yield _Doing(waiting[0][0], "claims", waiting)
            waiting = []
        if name == "ticks":
            what, tick, server_time = held[1][row], held[2][row], held[3][row]
            given = (tick, server_time, *poses.get(tick, NO_POSES)) if what == "record" else (tick, server_time)
            yield _Doing(step, what, given)
        else:
            try:
                command = read_change(held[2][row], msgspec.json.decode(held[3][row], type=Fields))
            except msgspec.DecodeError as error:
                raise RecordingError(recording.path, f"step {step} can't be read: {error}") from None
            yield _Doing(step, "call", command)
    if waiting:
        yield _Doing(waiting[0][0], "claims", waiting)


class _Side:
    """One set of rules' way through a recording."""

    def __init__(self, recording: Recording, rules: Rules, level: Level | None, before: Told) -> None:
        header = recording.require_header()
        self._referee = Referee(rules, level=level, seed=header.seed, storage=header.storage)
        self._before, self._left = before, set(before)
        self._outcomes = Counter[str]()
        self._damage, self._kills, self._flipped, self._refused = 0.0, 0, 0, 0

    def do(self, doing: _Doing) -> None:
        """Carry out one call; one that these rules don't allow is left out."""
        referee, given = self._referee, doing.given
        try:
            if doing.what == "claims":
                rulings = referee.rule_many([(name, claim, at) for _, name, claim, at in given])
                for (step, *_), ruling in zip(given, rulings, strict=True):
                    self._note(step, [ruling])
            elif doing.what == "record":
                referee.record(*given)
            elif doing.what == "published":
                referee.published(*given)
            elif doing.what == "advance":
                self._note(doing.step, referee.advance(given[1]))
            elif isinstance(given, ChangeRules):  # the rules that are tried hold from beginning to end
                self._refused += 1
            else:
                answer = referee.apply(given)
                if isinstance(given, Act):
                    self._note(doing.step, [answer])
        except TinClockError:
            self._refused += 1

    def _note(self, step: int, rulings: list[Ruling]) -> None:
        before = self._before.get(step, ())
        if not rulings and not before:
            return
        self._left.discard(step)
        for old, new in zip_longest(before, map(told, rulings)):
            self._flipped += old != new
        for ruling in rulings:
            self._outcomes[ruling.outcome] += 1
            self._damage += damage_of(ruling)

    def end_flush(self) -> None:
        """Count what was told."""
        self._kills += sum(event.kind == "death" for event in self._referee.events())

    def result(self) -> Ranged:
        """What came of it."""
        missing = sum(len(self._before[step]) for step in self._left)
        upheld, amended, denied = (self._outcomes[name] for name in ("upheld", "amended", "denied"))
        flipped = self._flipped + missing
        return Ranged(upheld, amended, denied, self._damage, self._kills, flipped, self._refused)
