"""One recording ruled by many rules in one pass: it is read and decoded once, and put to one referee a set of rules."""

from __future__ import annotations

from itertools import zip_longest
from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec
import numpy as np

from tinclock.core.analysis.changes import told
from tinclock.core.errors import RecordingError, TinClockError
from tinclock.core.plain import Fields
from tinclock.core.referee import Referee
from tinclock.core.ruling.commands import Act, ChangeRules, Ping, Pong, read_change
from tinclock.core.ruling.histories import history_beside, history_for, stores_alike
from tinclock.core.ruling.pipeline import ClaimPipeline
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.short_way import Counted
from tinclock.core.timeline.shared import OutOfStep, SharedHistory
from tinclock.recordings.replay import NO_POSES, poses_by_tick, rerule
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.counting import Rows
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

Told = dict[int, list[Counted]]
"""What came of each step's claims."""


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


class _Sent(NamedTuple):
    """Claims that came between two other calls: connection, claim, server time of each; their steps; their `Rows`."""

    claims: list[tuple[str, object, float]]
    steps: list[int]
    rows: Rows


class _Tick(NamedTuple):
    """A tick whose poses are stored: server time, and who is there."""

    server_time: float
    entities: NDArray[np.int64]
    ids: list[int]


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
    held = recording.level_or(level)
    before = _recorded(recording) if against is None else _ruled(recording, against, held)
    groups: list[_Group] = []
    sides: list[_Side] = []
    for one in rules:
        group = next((group for group in groups if stores_alike(group.rules, one)), None)
        if group is None:
            groups.append(group := _Group(recording, one))
        group.sides.append(_Side(_Tried(recording, one, held, group.lead), before))
        sides.append(group.sides[-1])
    _go_through(recording, groups, on_progress)
    lost = [place for place, side in enumerate(sides) if side.is_lost]
    for place in lost:
        sides[place] = _Side(_Tried(recording, rules[place], held, None), before)
    if lost:
        _go_through(recording, [_Alone(sides[place]) for place in lost], None)
    return [side.result() for side in sides]


def _go_through(
    recording: Recording, groups: Sequence[_Group | _Alone], on_progress: Callable[[float], None] | None
) -> None:
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
            group.end_flush()
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
    waiting = _Sent([], [], {})
    for at in np.argsort(steps, kind="stable").tolist():
        step, name, row, held = int(steps[at]), names[at], rows[at], columns[names[at]]
        if name == "claims":
            waiting.claims.append((held[1][row], decode_claim(held[3][row]), held[2][row]))
            waiting.steps.append(step)
            continue
        if waiting.steps:
            yield _Doing(waiting.steps[0], "claims", waiting)
            waiting = _Sent([], [], {})
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
    if waiting.steps:
        yield _Doing(waiting.steps[0], "claims", waiting)


class _Tried(Referee):
    """A referee by other rules. lead : the history whose poses it looks at, as others do; None: it stores its own"""

    def __init__(self, recording: Recording, rules: Rules, level: Level | None, lead: PoseHistory | None) -> None:
        header = recording.require_header()
        self.rules, self.level, self.seed = rules, level, header.seed
        self._shared = None if lead is None else history_beside(rules, lead)
        own = self._shared or history_for(rules, header.storage)
        self._take_up(ClaimPipeline(rules, level, self.seed, lambda: own))

    def look(self, tick: _Tick) -> None:
        """`record`, where the lead has stored the poses."""
        dead, entities = self._ledger.dead, tick.entities
        if dead and not dead.isdisjoint(tick.ids):
            entities = entities[[entity not in dead for entity in tick.ids]]
        self._beside().look(entities)
        self.rules = self._pipeline.begin_tick(tick.server_time)

    def share_clock(self, connection: str, clock: ClockEstimate) -> None:
        """`ping` or `pong`, where another side worked out what it says of the line's clock."""
        self._roster.require_connection(connection).share(clock)

    def look_again(self) -> None:
        """`published`, where the lead was told."""
        self._beside().look_again()

    def _beside(self) -> SharedHistory:
        if self._shared is None:
            raise OutOfStep
        return self._shared

    def count(self, sent: _Sent) -> list[Counted]:
        """What comes of some claims."""
        out: list[Counted | Ruling] = []
        self._pipeline.count_many(sent.claims, sent.rows, out.append)
        return [told(found) if isinstance(found, Ruling) else found for found in out]


class _Group:
    """Sides whose rules store poses alike, so that they are stored once."""

    def __init__(self, recording: Recording, rules: Rules) -> None:
        self.rules, self.lead = rules, history_for(rules, recording.require_header().storage)
        self.sides: list[_Side] = []

    def do(self, doing: _Doing) -> None:
        """Carry out a call, one side after another. A side that goes another way is lost, and is ruled by itself."""
        if doing.what == "record":
            try:
                self.lead.record(*doing.given)
            except TinClockError:  # some may take these poses, those in whose match the one at fault is dead
                for side in self.sides:
                    side.is_lost = True
            else:
                self._each(_Doing(doing.step, "look", _Tick(doing.given[1], doing.given[2], doing.given[2].tolist())))
        elif doing.what == "published":
            try:
                self.lead.publish(*doing.given)
            except TinClockError:
                for side in self.sides:
                    side.refuse()
            else:
                self._each(_Doing(doing.step, "look again", None))
        elif isinstance(doing.given, (Ping, Pong)):
            self._tell_clocks(doing)
        else:
            self._each(doing)

    def _tell_clocks(self, doing: _Doing) -> None:
        """Pings and pongs have nothing to do with rules: one side works out what they say of a line, for all."""
        first = next((side for side in self.sides if not side.is_lost), None)
        if first is not None and first.do(doing):
            name = doing.given.connection
            self._each(_Doing(doing.step, "clock", (name, first.referee.clock(name))))
        elif first is not None:
            for side in self.sides:
                if side is not first:
                    side.refuse()

    def _each(self, doing: _Doing) -> None:
        for side in self.sides:
            if not side.is_lost:
                try:
                    side.do(doing)
                except OutOfStep:
                    side.is_lost = True

    def end_flush(self) -> None:
        """Count what was told."""
        for side in self.sides:
            side.end_flush()


class _Alone:
    """A side that stores its poses itself."""

    def __init__(self, side: _Side) -> None:
        self._side, self.end_flush = side, side.end_flush

    def do(self, doing: _Doing) -> None:
        """Carry out a call."""
        self._side.do(doing)


class _Side:
    """One set of rules' way through a recording. is_lost : it can't share its poses any longer"""

    def __init__(self, referee: _Tried, before: Told) -> None:
        self.referee, self.is_lost = referee, False
        self._before, self._left = before, sum(map(len, before.values()))
        self._outcomes = {"upheld": 0, "amended": 0, "denied": 0}
        self._damage, self._kills, self._flipped, self._refused = 0.0, 0, 0, 0

    def do(self, doing: _Doing) -> bool:
        """Carry out one call; returns False for one that these rules don't allow, which is left out."""
        referee, what, given = self.referee, doing.what, doing.given
        try:
            if what == "claims":
                for step, now in zip(given.steps, referee.count(given), strict=True):
                    self._note(step, [now])
            elif what == "look":
                referee.look(given)
            elif what == "clock":
                referee.share_clock(*given)
            elif what == "look again":
                referee.look_again()
            elif what == "record":
                referee.record(*given)
            elif what == "published":
                referee.published(*given)
            elif what == "advance":
                self._note(doing.step, [told(ruling) for ruling in referee.advance(given[1])])
            elif isinstance(given, ChangeRules):  # the rules that are tried hold from beginning to end
                self._refused += 1
            else:
                answer = referee.apply(given)
                if isinstance(given, Act):
                    self._note(doing.step, [told(answer)])
        except TinClockError:
            self._refused += 1
            return False
        return True

    def refuse(self) -> None:
        """Count a call that these rules don't allow."""
        self._refused += 1

    def _note(self, step: int, now: list[Counted]) -> None:
        """Count what came of a step, and hold it against what came of it before."""
        before = self._before.get(step, [])
        for outcome, _, damage, _ in now:
            self._outcomes[outcome] += 1
            self._damage += damage
        if now == before:
            self._left -= len(before)
        elif now or before:
            self._left -= len(before)
            self._flipped += sum(old != new for old, new in zip_longest(before, now))

    def end_flush(self) -> None:
        """Count what was told."""
        self._kills += sum(event.kind == "death" for event in self.referee.events())

    def result(self) -> Ranged:
        """What came of it; rulings that none was held against are flips."""
        upheld, amended, denied = (self._outcomes[name] for name in ("upheld", "amended", "denied"))
        flipped = self._flipped + self._left
        return Ranged(upheld, amended, denied, self._damage, self._kills, flipped, self._refused)
