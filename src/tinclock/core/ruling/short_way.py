"""The short way of claims that come all the time, see `quick`; those that turn out otherwise go on in the long one."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

from tinclock.core.kernels.checking import check_claims
from tinclock.core.kernels.committing import ACCEPTED, AT_COVER, AT_LEVEL, HIT
from tinclock.core.kernels.rows import FOUND
from tinclock.core.ruling.brief import TAIL, Brief, Kept, Met, row_of
from tinclock.core.ruling.checking import Begun
from tinclock.core.ruling.procedures import PROCEDURES, SHOT
from tinclock.core.ruling.records import Ruling, brief_ruling
from tinclock.core.ruling.shot import ShotWork
from tinclock.core.ruling.trace import Context

if TYPE_CHECKING:
    from tinclock.core.combat.receipts import Outcome
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.checking import Checking
    from tinclock.core.ruling.claims import ShotClaim
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.ruling.steps import Step
    from tinclock.core.ruling.work import World

_new: Final[Any] = tuple.__new__
_NOTHING_MET: Final = Met()
_AS_SAID: Final[tuple[Outcome, tuple[Finding, ...], tuple[Step, ...]]] = ("upheld", (), ())


class Numbering:
    """Counts a match's rulings from 1."""

    __slots__ = ("last",)

    def __init__(self) -> None:
        self.last = 0

    def next(self) -> int:
        """The number of the next one."""
        self.last += 1
        return self.last


class _Struck(NamedTuple):
    victim: int
    part: str


class ShortWay:
    """Rules on claims that are plain."""

    def __init__(self, world: World, checking: Checking, numbering: Numbering) -> None:
        self.world, self._checking, self._numbering = world, checking, numbering
        self._ledger, self._columns = world.ledger, world.history.columns

    def rule(self, quick: Quick, claim: Any, now: float) -> Ruling | Begun:
        """Rule on a claim that stands in its row; one that isn't of the usual kind has begun, and goes on elsewhere."""
        found = self._checking.found
        at = quick.calls[type(claim)].at
        if check_claims(at, 0, 1, 0) == 0:
            return self.begun(quick, claim, int(found[FOUND.place]), at, found)
        return self.settle(quick, claim, now, found)

    def settle(self, quick: Quick, claim: Any, now: float, found: Any) -> Ruling:
        """Keep and tell what follows from a claim that the kernel committed; returns its ruling.

        found : the row of what was found
        """
        became = found[FOUND.became]
        met, (outcome, findings, more) = _NOTHING_MET, _AS_SAID
        if became == ACCEPTED:
            if found[FOUND.heard] == 2.0:
                quick.connection.transits.make_room()
        else:
            met = self._met(quick, became, now, found)
            if claim.victim is not None or claim.part is not None or claim.damage is not None:
                outcome, findings, more = self._compare(quick, claim, now, met, became == HIT)
        sequence = claim.sequence
        kept = _new(Kept, (sequence, outcome, quick, found[TAIL].tobytes(), met if became == HIT else None))
        quick.connection.keep(sequence, kept)
        brief = Brief(row_of(found), claim, kept, now, met, more)
        return brief_ruling(self._numbering.next(), outcome, findings, brief)

    def _met(self, quick: Quick, became: float, now: float, found: Any) -> Met:
        """What a shot that the kernel committed ended at; keeps and tells what follows from that."""
        columns = self._columns
        if became >= AT_COVER:
            column = int(found[FOUND.column])
            entity, part = columns.whose(column, int(found[FOUND.part]))
            if became == AT_COVER:
                return Met(entity, columns.rig_at(column).name, part)
            before, after = found[FOUND.before], found[FOUND.after]
            if after < before:
                self._ledger.wounded(entity, before, after, now, quick.entity, quick.wielded, part.name)
            met: Met = _new(Met, (entity, "", part))
            return met
        level = self.world.level
        if became == AT_LEVEL and level is not None:
            return Met(0, level.surface_of(int(found[FOUND.wall])).name)
        return _NOTHING_MET

    def _compare(
        self, quick: Quick, claim: ShotClaim, now: float, met: Met, is_hit: bool
    ) -> tuple[Outcome, tuple[Finding, ...], tuple[Step, ...]]:
        """Hold what the client says it hit against what its shot met."""
        work: Any = ShotWork(self.world, quick.connection, quick.actor, now)
        work.sequence = claim.sequence
        if quick.held is not None:
            work.weapon = quick.held.weapon
        if is_hit and met.part is not None:
            work.hits = (_Struck(met.entity, met.part.name),)
        elif met.entity:
            work.cover = frozenset({met.entity})
        outcome = self._checking.compare(SHOT.compares, claim, work)
        return outcome, tuple(work.findings), tuple(work.steps)

    @staticmethod
    def begun(quick: Quick, claim: Any, place: int, at: int, found: Any) -> Begun:
        """A claim that goes on in the long way, from the place that it got to."""
        procedure = PROCEDURES[type(claim)]
        kind = "" if quick.held is None else quick.held.weapon.rules.kind
        context = Context(procedure.kind, claim, quick.actor.entity, quick.wielded, kind)
        return Begun(min(place, procedure.order.count), quick.actor, context, at, found)
