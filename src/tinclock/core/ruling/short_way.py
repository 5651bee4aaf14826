"""The short way of claims that come all the time, see `quick`; those that turn out otherwise go on in the long one."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

from tinclock.core.kernels.checking import check_claim
from tinclock.core.kernels.committing import AT_COVER, AT_LEVEL, HIT
from tinclock.core.kernels.rows import FOUND, LINE
from tinclock.core.ruling.brief import TAIL, Brief, Kept, Met, row_of
from tinclock.core.ruling.checking import Begun
from tinclock.core.ruling.checks.form import claims_nothing
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.ruling.procedures import PROCEDURES, QUICK, SHOT
from tinclock.core.ruling.records import Ruling
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
    from tinclock.core.vectors import Triple

_NOTHING_MET: Final = Met()
_AS_SAID: Final[tuple[Outcome, tuple[Finding, ...], list[Step]]] = ("upheld", (), [])


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
        self._world, self._checking, self._numbering = world, checking, numbering
        self._found, self._ledger, self._columns = checking.found, world.ledger, world.history.columns

    def rule(self, quick: Quick, claim: Any, now: float) -> Ruling | Begun:
        """Rule on a claim that stands in its row; one that isn't of the usual kind has begun, and goes on elsewhere."""
        kind, found = type(claim), self._found
        order = QUICK[kind]
        place = check_claim(*quick.at, order.at, order.count, 0)
        became = found[FOUND.became]
        if became == 0.0 or found[FOUND.findings] != 0.0:
            return self._begun(quick, claim, place)
        if kind is MoveClaim:
            return self._move(quick, claim, now)
        met = self._met(quick, became, now)
        outcome, findings, more = _AS_SAID
        if not claims_nothing(claim):
            outcome, findings, more = self._compare(quick, claim, now, met, became == HIT)
        accepted = quick.accepted
        place_now = None if accepted is None else accepted.position
        kept = self._kept(quick, claim.sequence, outcome, place_now, met if became == HIT else None)
        brief = Brief(row_of(found), claim, kept, now, met, more)
        return self._ruling(quick, "shot", quick.wielded, kept, now, brief, findings, None)

    def _move(self, quick: Quick, claim: MoveClaim, now: float) -> Ruling:
        found = self._found
        position = found[FOUND.place_x], found[FOUND.place_y], found[FOUND.place_z]
        if found[FOUND.heard]:
            quick.connection.transits.take(now, now - claim.client_time)
        if quick.accepted is not None:
            quick.accepted.past.append((now, position))
        kept = self._kept(quick, claim.sequence, "upheld", position, None)
        brief = Brief(row_of(found), claim, kept, now, _NOTHING_MET, [])
        return self._ruling(quick, "move", "", kept, now, brief, (), position)

    def _kept(self, quick: Quick, sequence: int, outcome: Outcome, position: Triple | None, hit: Met | None) -> Kept:
        connection = quick.connection
        last = int(connection.numbers[LINE.highest_sequence])
        kept = Kept(sequence, outcome, quick, last, self._found[TAIL].tolist(), position, hit)
        connection.remember(kept)
        return kept

    def _ruling(
        self, quick: Quick, kind: str, weapon: str, kept: Kept, now: float, brief: Brief, findings: tuple[Finding, ...],
        position: Triple | None,
    ) -> Ruling:  # fmt: skip
        connection = quick.connection
        return Ruling.made_of(
            {"number": self._numbering.next(), "kind": kind, "connection": connection.name,
             "account": connection.account, "entity": quick.actor.entity, "sequence": kept.sequence, "weapon": weapon,
             "received_at": now, "outcome": kept.outcome, "findings": findings, "first": None, "rays": (),
             "position": position, "brief": brief, "late": brief}
        )  # fmt: skip

    def _met(self, quick: Quick, became: float, now: float) -> Met:
        """What a shot that the kernel committed ended at; keeps and tells what follows from that."""
        found, columns = self._found, self._columns
        if became >= AT_COVER:
            column = int(found[FOUND.column])
            entity, _, part = columns.named(column, int(found[FOUND.part]))
            if became == AT_COVER:
                return Met(entity, columns.rig_at(column).name, part)
            before, after = found[FOUND.before], found[FOUND.after]
            self._ledger.wounded(entity, before, after, now, quick.actor.entity, quick.wielded, part.name)
            return Met(entity, "", part)
        level = self._world.level
        if became == AT_LEVEL and level is not None:
            return Met(0, level.surface_of(int(found[FOUND.wall])).name)
        return _NOTHING_MET

    def _compare(
        self, quick: Quick, claim: ShotClaim, now: float, met: Met, is_hit: bool
    ) -> tuple[Outcome, tuple[Finding, ...], list[Step]]:
        """Hold what the client says it hit against what its shot met."""
        work: Any = ShotWork(self._world, quick.connection, quick.actor, now)
        work.sequence = claim.sequence
        if quick.held is not None:
            work.weapon = quick.held.weapon
        if is_hit and met.part is not None:
            work.hits = (_Struck(met.entity, met.part.name),)
        elif met.entity:
            work.cover = frozenset({met.entity})
        outcome = self._checking.compare(SHOT.compares, claim, work)
        return outcome, tuple(work.findings), work.steps

    @staticmethod
    def _begun(quick: Quick, claim: Any, place: int) -> Begun:
        procedure = PROCEDURES[type(claim)]
        kind = "" if quick.held is None else quick.held.weapon.rules.kind
        context = Context(procedure.kind, claim, quick.actor.entity, quick.wielded, kind)
        return Begun(min(place, procedure.order.count), quick.actor, context, quick.at)
