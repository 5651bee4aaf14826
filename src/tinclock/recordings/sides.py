"""The sides of a range: one match as many sets of rules would have ruled it, each by a referee of its own.

Sides whose rules store poses alike share a history (`core.timeline.shared`), kernel calls, and what pings say of lines.
"""

from __future__ import annotations

from functools import partial
from itertools import zip_longest
from typing import TYPE_CHECKING, Any, NamedTuple

from tinclock.core.analysis.ruling_diff import told
from tinclock.core.errors import TinClockError
from tinclock.core.referee import Referee
from tinclock.core.ruling.abreast import Abreast
from tinclock.core.ruling.commands import Act, ChangeRules, Ping, Pong
from tinclock.core.ruling.histories import history_beside, history_for
from tinclock.core.ruling.pipeline import ClaimPipeline
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.short_way import Counted
from tinclock.core.timeline.shared import OutOfStep, SharedHistory

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PoseHistory
    from tinclock.recordings.layout import Header

Told = dict[int, list[Counted]]
"""Results of each step's claims."""


class SweepResult(NamedTuple):
    """Results of a recording by one set of rules.

    accepted, adjusted, rejected, repeated : rulings; damage : points dealt; kills : deaths of anybody
    flipped : claims that are ruled otherwise than they were recorded; refused : calls that these rules don't allow
    """

    accepted: int
    adjusted: int
    rejected: int
    repeated: int
    damage: float
    kills: int
    flipped: int
    refused: int


class Sent(NamedTuple):
    """Claims that came between two other calls: connection, claim, server time of each; and their steps."""

    claims: list[tuple[str, object, float]]
    steps: list[int]


class Doing(NamedTuple):
    """A recorded call, decoded: its step, its name, and what it needs."""

    step: int
    what: str
    given: Any


class Tried(Referee):
    """A referee by other rules. lead : the history whose poses it looks at, as others do; None: it stores its own"""

    def __init__(self, header: Header, rules: Rules, level: Level | None, lead: PoseHistory | None) -> None:
        self.rules, self.level, self.seed = rules, level, header.seed
        self._shared = None if lead is None else history_beside(rules, lead)
        own = self._shared or history_for(rules, header.storage)
        self._take_up(ClaimPipeline(rules, level, self.seed, lambda: own))

    @property
    def pipeline(self) -> ClaimPipeline:
        """Referee or recorder of its claims."""
        return self._pipeline

    def look(self, server_time: float, entities: NDArray[Any], ids: list[int]) -> None:
        """`record`, where the lead has stored the poses. ids : the entities once more"""
        dead = self._ledger.dead
        if dead and not dead.isdisjoint(ids):
            entities = entities[[entity not in dead for entity in ids]]
        self._beside().look(entities)
        self.rules = self._pipeline.begin_tick(server_time)

    def look_again(self) -> None:
        """`snapshot_sent`, where the lead was told."""
        self._beside().look_again()

    def share_clock(self, connection: str, clock: ClockEstimate) -> None:
        """`ping` or `pong`, where another side worked out what it says of the line's clock."""
        line = self._roster.require_connection(connection)
        if not line.clock.asks_as(clock):  # somebody else wasn't let in before it
            raise OutOfStep
        line.share(clock)

    def _beside(self) -> SharedHistory:
        if self._shared is None:
            raise OutOfStep
        return self._shared


class Group:
    """Sides whose rules store poses alike, so that they are stored once.

    lead : where they are stored; None: in each side's own history, which only one side alone needs
    """

    def __init__(self, rules: Rules, lead: PoseHistory | None) -> None:
        self.rules, self.lead = rules, lead
        self.sides: list[Side] = []
        self._abreast = Abreast()

    def _going(self) -> list[Side]:
        return [side for side in self.sides if not side.is_lost]

    def do(self, doing: Doing) -> None:
        """Carry out a call, one side after another. A side that goes another way is lost, and is ruled by itself."""
        if doing.what == "claims":
            self._rule(doing.given)
        elif doing.what == "record" and self.lead is not None:
            self._record(self.lead, *doing.given)
        elif doing.what == "snapshot_sent" and self.lead is not None:
            self._publish(self.lead, *doing.given)
        elif isinstance(doing.given, (Ping, Pong)):
            self._tell_clocks(doing)
        else:
            for side in self._going():
                side.do(doing)

    def _rule(self, sent: Sent) -> None:
        """Rule on claims that came together."""
        going = self._going()
        for side, found in zip(going, self._abreast.count(sent.claims, [one.pipeline for one in going]), strict=True):
            for step, one in zip(sent.steps, found, strict=True):
                side.note(step, [told(one) if isinstance(one, Ruling) else one])

    def _record(self, lead: PoseHistory, tick: int, server_time: float, entities: NDArray[Any], poses: Any) -> None:
        try:
            lead.record(tick, server_time, entities, poses)
        except TinClockError:  # some may take these poses, those in whose match the one at fault is dead
            for side in self.sides:
                side.is_lost = True
            return
        ids = entities.tolist()
        for side in self._going():
            side.attempt(lambda referee: referee.look(server_time, entities, ids))

    def _publish(self, lead: PoseHistory, tick: int, sent_at: float) -> None:
        try:
            lead.publish(tick, sent_at)
        except TinClockError:
            for side in self.sides:
                side.refuse()
            return
        for side in self._going():
            side.attempt(Tried.look_again)

    def _tell_clocks(self, doing: Doing) -> None:
        """Pings and pongs have nothing to do with rules: one side works out what they say of a line, for all."""
        name, others = doing.given.connection, self._going()
        while others:
            first, *others = others
            if first.do(doing):  # else its rules didn't let that connection in
                share = partial(Tried.share_clock, connection=name, clock=first.referee.clock(name))
                for side in (first, *others):
                    side.attempt(share)
                return


class Side:
    """One set of rules' way through a recording. is_lost : it can't share its poses any longer"""

    def __init__(self, referee: Tried, before: Told) -> None:
        self.referee, self.pipeline, self.is_lost = referee, referee.pipeline, False
        self._before, self._left = before, sum(map(len, before.values()))
        self._outcomes = {"accepted": 0, "adjusted": 0, "rejected": 0, "repeated": 0}
        self._damage, self._kills, self._flipped, self._refused = 0.0, 0, 0, 0

    def do(self, doing: Doing) -> bool:
        """Carry out one call; returns False for one that these rules don't allow, which is left out."""
        what, given = doing.what, doing.given
        if what == "advance":
            return self.attempt(
                lambda referee: self.note(doing.step, [told(ruling) for ruling in referee.advance(given[1])])
            )
        if what == "record":
            return self.attempt(lambda referee: referee.record(*given))
        if what == "snapshot_sent":
            return self.attempt(lambda referee: referee.snapshot_sent(*given))
        if isinstance(given, ChangeRules):  # the rules that are tried hold from beginning to end
            self.refuse()
            return False
        if isinstance(given, Act):
            return self.attempt(lambda referee: self.note(doing.step, [told(referee.apply(given))]))
        return self.attempt(lambda referee: referee.apply(given))

    def attempt(self, call: Callable[[Tried], object]) -> bool:
        """Have the referee carry something out; returns False where it refuses."""
        try:
            call(self.referee)
        except TinClockError:
            self._refused += 1
            return False
        except OutOfStep:
            self.is_lost = True
        return True

    def refuse(self) -> None:
        """Count a call that these rules don't allow."""
        self._refused += 1

    def note(self, step: int, now: list[Counted]) -> None:
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

    def result(self) -> SweepResult:
        """Result; rulings without a counterpart are flips."""
        flipped = self._flipped + self._left
        return SweepResult(
            **self._outcomes, damage=self._damage, kills=self._kills, flipped=flipped, refused=self._refused
        )
