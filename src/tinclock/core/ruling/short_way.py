"""The short way of claims that come all the time, see `quick`; those that turn out otherwise go on in the long one."""

from __future__ import annotations

from operator import itemgetter
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from msgspec.structs import replace

from tinclock.core.combat.accounts import Blow, Wound
from tinclock.core.combat.receipts import Receipt
from tinclock.core.kernels.checking import check_claims
from tinclock.core.kernels.checks.sender import REMEMBERED as REMEMBERED_RECEIPTS
from tinclock.core.kernels.committing import ACCEPTED, AT_COVER, AT_LEVEL, HIT, REFUSED
from tinclock.core.kernels.damage import HURT, REFLECTED
from tinclock.core.kernels.dtypes import CODE, FINDINGS_FROM, FOUND
from tinclock.core.ruling.brief import LOOKED_AT, TAIL, Brief, Kept, Met, is_lethal, length_of, place_of
from tinclock.core.ruling.checking import Begun
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.ruling.found import CODES, findings_found
from tinclock.core.ruling.hits import Stop
from tinclock.core.ruling.procedures import NOT_COUNTED, PROCEDURES
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.shot_events import along, end_of, rounded, tell_shot
from tinclock.core.ruling.trace import Context
from tinclock.core.ruling.wounding import tell_damage

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.combat.receipts import Outcome
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.check_results import CheckResult
    from tinclock.core.ruling.checking import Checking
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.ruling.work import World
    from tinclock.core.vectors import Triple

_new: Final[Any] = tuple.__new__
_new_ruling: Final[Any] = Ruling.__new__
WOUND: Final = slice(FOUND.before, FOUND.armour_after + 1)
OWN_WOUND: Final = slice(FOUND.own_before, FOUND.own_armour_after + 1)
"""Points that a hit took from its victim, and that a reflected one took from its actor."""
_look: Final = itemgetter(*LOOKED_AT)
_NOTHING_MET: Final = Met()
_NO_HITS: Final[tuple[tuple[int, str, float, bool], ...]] = ()
_FORGOTTEN: Final = Receipt(0, "accepted")
"""Stands for the receipt of a claim that was only counted, so that a repeat of it is seen to be one."""
_AS_SAID: Final[tuple[Outcome, tuple[Finding, ...], tuple[CheckResult, ...]]] = ("accepted", (), ())


def _aim(found: Any) -> Triple:
    """Return the unit direction of a shot, from the row of what was found."""
    return found[FOUND.direction_x], found[FOUND.direction_y], found[FOUND.direction_z]


class Numbering:
    """Counts a match's rulings from 1."""

    __slots__ = ("last",)

    def __init__(self) -> None:
        self.last = 0

    def next(self) -> int:
        """The number of the next one."""
        self.last += 1
        return self.last


class Counted(NamedTuple):
    """Result of a ruling: two with the same result are equal.

    hits : entity, part, damage in points and whether it killed, of each hit; damage : all of it, in points
    position : where a move ended
    """

    outcome: str
    hits: tuple[tuple[int, str, float, bool], ...]
    damage: float
    position: Triple | None


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
        return self.settle_row(quick, claim, now, found)

    def settle_row(self, quick: Quick, claim: Any, now: float, found: Any) -> Ruling:
        """`settle` from the row of what was found."""
        row = found[: length_of(int(found[FOUND.steps]))].tobytes()
        return self.settle(quick, claim, now, found, _look(found), row, found[TAIL].tobytes())

    def settle(
        self, quick: Quick, claim: Any, now: float, found: Any, looked: Sequence[float], row: bytes, tail: bytes
    ) -> Ruling:
        """Keep and tell what follows from a claim that the kernel committed or refused; returns its ruling.

        found : the row of what was found; looked : its numbers of `brief.LOOKED_AT`; row : it up to its last step
        tail : what its receipt is made of
        """
        count, became, heard, column, part, why, wall = looked
        met, hit, (outcome, findings, more), counts = _NOTHING_MET, None, _AS_SAID, True
        if became == REFUSED:
            outcome, findings = "rejected", self._found(quick, claim, now, found)
            count, counts = 0.0, findings[0].code not in NOT_COUNTED
        elif became == ACCEPTED:
            if heard == 2.0:
                quick.connection.transits.make_room()
        else:
            if became >= AT_COVER:
                met = self._struck(quick, became, now, int(column), int(part), why, found, claim.origin)
                hit = met if became == HIT else None
            elif became == AT_LEVEL and self.world.level is not None:
                met = Met(0, self.world.level.surface_of(int(wall)).name)
            if self._ledger.publishes_shots:
                self._tell(quick, claim, now, met, found)
            if claim.victim is not None or claim.part is not None or claim.damage is not None:
                count = 1.0
        if count:
            outcome, findings, more = self._compare(quick, claim, now, met, became == HIT, found)
        sequence, connection, numbering = claim.sequence, quick.connection, self._numbering
        kept = _new(Kept, (sequence, outcome, quick, tail, hit))
        if counts:
            place = sequence % REMEMBERED_RECEIPTS
            connection.sequences[place], connection.receipts[place] = sequence, kept
        numbering.last += 1
        ruling: Ruling = _new_ruling(Ruling)
        known = ruling.__dict__
        known["number"], known["outcome"], known["findings"], known["kept"] = numbering.last, outcome, findings, kept
        known["connection"], known["late"] = quick.name, _new(Brief, (row, claim, kept, now, met, more))
        return ruling

    def count(self, quick: Quick, claim: Any, now: float, found: Any) -> Counted:
        """`settle` for somebody who only counts what comes of claims: nothing can be read of it afterwards."""
        became, before, after = found[FOUND.became], found[FOUND.before], found[FOUND.after]
        outcome: Outcome = "accepted"
        hits, place, counts, says = _NO_HITS, None, True, False
        met = _NOTHING_MET
        if became == REFUSED:
            outcome, counts = "rejected", CODES[int(found[FINDINGS_FROM + CODE])] not in NOT_COUNTED
            place = place_of(found) if type(claim) is MoveClaim else None
        elif became == ACCEPTED:
            if found[FOUND.heard] == 2.0:
                quick.connection.transits.make_room()
            place = found[FOUND.at_x], found[FOUND.at_y], found[FOUND.at_z]
        else:
            if became >= AT_COVER:
                met = self._struck(
                    quick, became, now, int(found[FOUND.column]), int(found[FOUND.part]), found[FOUND.why], found,
                    claim.origin,
                )  # fmt: skip
                if became == HIT and met.part is not None:
                    hits = ((met.entity, met.part.name, found[FOUND.amount], is_lethal(before, after)),)
            says = claim.victim is not None or claim.part is not None or claim.damage is not None
        if says:
            outcome = self._compare(quick, claim, now, met, became == HIT, found)[0]
        elif became != REFUSED and found[FOUND.findings] and self._checking.adjusts(found):
            outcome = "adjusted"
        if counts:
            at = claim.sequence % REMEMBERED_RECEIPTS
            quick.connection.sequences[at], quick.connection.receipts[at] = claim.sequence, _FORGOTTEN
        counted: Counted = _new(Counted, (outcome, hits, before - after, place))
        return counted

    def _tell(self, quick: Quick, claim: Any, now: float, met: Met, found: Any) -> None:
        """Publish a shot that the kernel committed."""
        entity, name, part = met
        stop = None
        if part is not None and not name:
            stop = Stop("body", entity=entity)
        elif name:
            stop = Stop("cover" if entity else "level", name, entity)
        end = end_of(along(claim.origin, _aim(found), found[FOUND.reached_m]), stop, "" if part is None else part.name)
        tell_shot(self._ledger, now, quick.entity, quick.wielded, claim.sequence, claim.origin, (end,))

    def _struck(
        self, quick: Quick, became: float, now: float, column: int, part_row: int, why: float, found: Any,
        origin: Triple,
    ) -> Met:  # fmt: skip
        """Return the end of a shot that the kernel committed; keeps and tells its consequences."""
        columns = self._columns
        entity, part = columns.whose(column, part_row)
        if became == AT_COVER:
            return Met(entity, columns.rig_at(column).name, part)
        if why in (HURT, REFLECTED):
            wound, own = Wound(*found[WOUND]), Wound(*found[OWN_WOUND])
            blow = Blow("shot", quick.entity, quick.wielded, part.name)
            if wound.lethal or own.lethal:
                way = _aim(found)
                blow = replace(blow, position=rounded(along(origin, way, found[FOUND.enter_m])), direction=rounded(way))
            tell_damage(self._ledger, entity, why, wound, own, now, blow)
        met: Met = _new(Met, (entity, "", part))
        return met

    def _found(self, quick: Quick, claim: Any, now: float, found: Any) -> tuple[Finding, ...]:
        """Return the findings of the compiled checks about a claim."""
        work = PROCEDURES[type(claim)].work(self.world, quick.connection, quick.actor, now)
        work.sequence = claim.sequence
        return tuple(findings_found(found, self._context(quick, claim), work))

    def _compare(
        self, quick: Quick, claim: Any, now: float, met: Met, is_hit: bool, found: Any
    ) -> tuple[Outcome, tuple[Finding, ...], tuple[CheckResult, ...]]:
        """Hold what the client says it hit against what its shot met: what comes of it, and all that was found."""
        procedure = PROCEDURES[type(claim)]
        work: Any = procedure.work(self.world, quick.connection, quick.actor, now)
        work.sequence = claim.sequence
        if found[FOUND.findings]:
            work.findings = findings_found(found, self._context(quick, claim), work)
        if quick.held is not None:
            work.weapon = quick.held.weapon
        if is_hit and met.part is not None:
            work.hits = (_Struck(met.entity, met.part.name),)
        elif met.entity:
            work.cover = frozenset({met.entity})
        outcome = self._checking.compare(procedure.compares, claim, work)
        return outcome, tuple(work.findings), tuple(work.steps)

    @staticmethod
    def _context(quick: Quick, claim: Any) -> Context:
        kind = "" if quick.held is None else quick.held.weapon.rules.kind
        return Context(PROCEDURES[type(claim)].kind, claim, quick.actor.entity, quick.wielded, kind)

    def begun(self, quick: Quick, claim: Any, place: int, at: int, found: Any) -> Begun:
        """A claim that goes on in the long way, from the place that it got to."""
        count = PROCEDURES[type(claim)].order.count
        return Begun(min(place, count), quick.actor, self._context(quick, claim), at, found)
