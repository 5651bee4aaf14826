"""Rulings of claims that a kernel committed: made of rows of numbers, in full only when somebody reads them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from tinclock.core.combat.ledger import Blow
from tinclock.core.combat.receipts import ActorState, Outcome, Receipt, ReceiptHit
from tinclock.core.kernels.committing import AT_COVER, AT_LEVEL, HIT
from tinclock.core.kernels.rows import FOUND, LINE, STEP_FIELDS, STEPS_FROM
from tinclock.core.ruling.hits import Hit, Stop
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.steps import Measure
from tinclock.core.ruling.trace import Late, steps_in
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Connection, Participant
    from tinclock.core.findings import Finding
    from tinclock.core.geometry.level import Level
    from tinclock.core.geometry.rig import Part
    from tinclock.core.plain import Fields
    from tinclock.core.ruling.steps import Step
    from tinclock.core.ruling.trace import Context
    from tinclock.core.timeline.columns import Columns
    from tinclock.core.vectors import Triple

NEVER: Final = float("inf")


class Settled(NamedTuple):
    """A claim that a kernel committed: its number, who made it, about whom, when, and what its steps' words need."""

    sequence: int

    connection: Connection
    actor: Participant
    now: float
    context: Context


class Met(NamedTuple):
    """What a shot ended at: the entity (0: the level, or nothing), the rig or the surface, and the part of a body.

    hits : what its client is told of that; is_cover : whether it only stands in the way
    """

    entity: int
    name: str
    part: Part | None
    hits: tuple[ReceiptHit, ...] = ()
    is_cover: bool = False


_NOTHING_MET: Final = Met(0, "", None)


def follow_shot(one: Settled, found: Any, ledger: Ledger, columns: Columns, level: Level | None) -> Met:
    """Keep and tell what follows from a shot that the kernel committed; returns what it met.

    found : the row of what was found
    """
    became = found[FOUND.became]
    if became >= AT_COVER:
        column = int(found[FOUND.column])
        entity, _, part = columns.named(column, int(found[FOUND.part]))
        if became == AT_COVER:
            return Met(entity, columns.rig_at(column).name, part, (), True)
        ledger.wounded(
            entity, found[FOUND.before], one.now, Blow("shot", one.actor.entity, one.context.wielded, part.name)
        )
        return Met(entity, "", part, (ReceiptHit(entity, part.name, found[FOUND.amount]),))
    if became == AT_LEVEL and level is not None:
        return Met(0, level.surface_of(int(found[FOUND.wall])).name, None)
    return _NOTHING_MET


def shot_ruling(
    one: Settled, found: Any, number: int, met: Met, more: list[Step], findings: tuple[Finding, ...], outcome: Outcome
) -> Ruling:
    """The ruling of a shot that the kernel committed.

    met : what it ended at; more, findings, outcome : what came of comparing that with what its client says
    """
    steps = STEPS_FROM + STEP_FIELDS * int(found[FOUND.steps])
    weapon = one.context.wielded
    range_m = one.actor.weapons[weapon].weapon.range_m
    late = UsualShot(found[:steps].tobytes(), one.context, met, one.now, range_m, more)
    return _ruling(one, number, weapon, met.hits, _standing(one, found), late, None, outcome, findings)


def settle_move(one: Settled, found: Any, number: int) -> Ruling:
    """Keep what follows from a move that the kernel accepted; returns its ruling. found : the row of what was found"""
    _, connection, actor, now, context = one
    position = found[FOUND.place_x], found[FOUND.place_y], found[FOUND.place_z]
    if found[FOUND.heard]:
        connection.transits.take(now, now - context.claim.client_time)
    if actor.accepted is not None:
        actor.accepted.past.append((now, position))
    numbers = found[STEPS_FROM : STEPS_FROM + STEP_FIELDS * int(found[FOUND.steps])].tobytes()
    late = UsualMove(numbers, context)
    return _ruling(one, number, "", (), _standing(one, found, position), late, position)


def _standing(one: Settled, found: Any, position: Triple | None = None) -> ActorState:
    """How the actor stands, as the kernel put it down."""
    _, connection, actor, _, context = one
    last = int(connection.numbers[LINE.highest_sequence])
    if position is None and actor.accepted is not None:
        position = actor.accepted.position
    if not context.weapon_kind:  # it holds none
        return ActorState(actor.entity, last, found[FOUND.health], found[FOUND.armour], position=position)
    magazine, reserve, wait = found[FOUND.magazine], found[FOUND.reserve], found[FOUND.ready_in_s]
    return ActorState(
        actor.entity, last, found[FOUND.health], found[FOUND.armour], context.wielded,
        None if magazine < 0.0 else int(magazine), None if reserve < 0.0 else int(reserve), int(found[FOUND.shot]),
        wait if 0.0 < wait < NEVER else 0.0, position=position,
    )  # fmt: skip


def _ruling(
    one: Settled, number: int, weapon: str, hits: tuple[ReceiptHit, ...], state: ActorState, late: Any,
    position: Triple | None = None, outcome: Outcome = "upheld", findings: tuple[Finding, ...] = (),
) -> Ruling:  # fmt: skip
    sequence, connection, actor, now, context = one
    return Ruling.made_of(
        {"number": number, "kind": context.kind, "connection": connection.name, "account": connection.account,
         "entity": actor.entity, "sequence": sequence, "weapon": weapon, "received_at": now, "outcome": outcome,
         "findings": findings, "first": None, "state": state, "rays": (), "position": position,
         "receipt_made": Receipt(sequence, outcome, hits, state), "late": late}
    )  # fmt: skip


class UsualMove(Late):
    """An accepted move's numbers."""

    __slots__ = ()

    def __init__(self, numbers: bytes, context: Context) -> None:
        super().__init__(numbers, context, [])

    def fields(self) -> Fields:
        """What its ruling has beside what is plain at once."""
        return {
            **super().fields(), "hits": (), "damage": 0.0, "view": None, "view_time": None, "rewound_s": None,
            "origin": None, "direction": None, "reached_m": None, "stopped_by": None, "shot": None, "aim": None,
        }  # fmt: skip


class UsualShot:
    """A shot's numbers, and what they name as it was called when it was ruled; `more` are steps that came after."""

    __slots__ = ("_context", "_met", "_more", "_now", "_numbers", "_range_m")

    def __init__(
        self, numbers: bytes, context: Context, met: Met, now: float, range_m: float, more: list[Step]
    ) -> None:
        self._numbers, self._context, self._met, self._now, self._range_m = numbers, context, met, now, range_m
        self._more = more

    def fields(self) -> Fields:
        """What its ruling has beside what is plain at once."""
        row, claim = np.frombuffer(self._numbers).tolist(), self._context.claim
        became, reached = row[FOUND.became], row[FOUND.reached_m]
        entity, name, part = self._met[:3]
        aim = row[FOUND.direction_x], row[FOUND.direction_y], row[FOUND.direction_z]
        steps = steps_in(row[STEPS_FROM:], int(row[FOUND.steps]), self._context)
        hits: tuple[Hit, ...] = ()
        stop: Stop | None = None
        if became == HIT and part is not None:
            hits, stop = (self._hit(row, entity, part, aim),), Stop("body", entity=entity)
        elif became >= AT_LEVEL:
            stop = Stop("cover" if entity else "level", name, entity)
        view_time = row[FOUND.view_time]
        return {
            "hits": hits, "damage": row[FOUND.before] - row[FOUND.after], "view_time": view_time,
            "view": View(int(row[FOUND.from_tick]), int(row[FOUND.to_tick]), row[FOUND.fraction]),
            "rewound_s": self._now - view_time, "origin": claim.origin, "direction": aim, "aim": aim,
            "reached_m": reached, "stopped_by": stop, "shot": int(row[FOUND.shot]),
            "steps": (*steps, *self._ends(row), *self._more),
        }  # fmt: skip

    def _hit(self, row: list[float], entity: int, part: Part, aim: Triple) -> Hit:
        (ox, oy, oz), (dx, dy, dz), t = self._context.claim.origin, aim, row[FOUND.enter_m]
        return Hit(
            entity, part.name, part.zone, part.side, t, (ox + dx * t, oy + dy * t, oz + dz * t), row[FOUND.amount],
            row[FOUND.before], row[FOUND.after], False,
        )  # fmt: skip

    def _ends(self, row: list[float]) -> tuple[Step, ...]:
        """The steps of what it met."""
        became, (entity, name, part) = row[FOUND.became], self._met[:3]
        if became == HIT and part is not None:
            amount = Measure.DAMAGE.step(row[FOUND.amount])
            return Measure.REWIND.step(entity, part.name), Measure.VICTIM.step("alive"), amount
        if became == AT_COVER:
            return (Measure.COVER.step(row[FOUND.reached_m], name),)
        if became == AT_LEVEL:
            return (Measure.LEVEL.step(row[FOUND.reached_m], name),)
        return (Measure.NOBODY_HIT_WITHIN.step(self._range_m),)
