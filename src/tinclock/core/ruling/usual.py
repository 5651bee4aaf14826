"""The ruling of a shot that the kernel committed: made of its row of numbers, in full only when somebody reads it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.combat.ledger import Blow
from tinclock.core.combat.receipts import ActorState, Receipt, ReceiptHit
from tinclock.core.kernels.committing import AT_COVER, AT_LEVEL, HIT
from tinclock.core.kernels.rows import FOUND, LINE, STEP_FIELDS, STEPS_FROM
from tinclock.core.ruling.hits import Hit, Stop
from tinclock.core.ruling.records import Ruling
from tinclock.core.ruling.steps import Measure
from tinclock.core.ruling.trace import steps_in
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from tinclock.core.geometry.rig import Part
    from tinclock.core.plain import Fields
    from tinclock.core.ruling.shot import ShotWork
    from tinclock.core.ruling.steps import Step
    from tinclock.core.ruling.trace import Context

NEVER: Final = float("inf")


def settle_usual(work: ShotWork, found: Any, context: Context, number: int) -> Ruling:
    """Keep and tell what follows from a shot that the kernel committed; returns its ruling.

    found : the row of what was found; context : what its words need; number : of the ruling
    """
    connection, actor, weapon, now = work.connection, work.actor, context.wielded, work.received_at
    became = found[FOUND.became]
    hits: tuple[ReceiptHit, ...] = ()
    met: tuple[int, str, Part | None] = (0, "", None)
    if became >= AT_COVER:
        columns, column = work.history.columns, int(found[FOUND.column])
        entity, _, part = columns.named(column, int(found[FOUND.part]))
        met = entity, columns.rig_at(column).name, part
        if became == HIT:
            blow = Blow("shot", actor.entity, weapon, part.name)
            work.ledger.wounded(entity, found[FOUND.before], now, blow)
            hits = (ReceiptHit(entity, part.name, found[FOUND.amount]),)
    elif became == AT_LEVEL and work.level is not None:
        met = 0, work.level.surface_of(int(found[FOUND.wall])).name, None
    magazine, reserve, wait = found[FOUND.magazine], found[FOUND.reserve], found[FOUND.ready_in_s]
    state = ActorState(
        actor.entity, int(connection.numbers[LINE.highest_sequence]), found[FOUND.health], found[FOUND.armour], weapon,
        None if magazine < 0.0 else int(magazine), None if reserve < 0.0 else int(reserve), int(found[FOUND.shot]),
        wait if 0.0 < wait < NEVER else 0.0,
        position=None if actor.accepted is None else actor.accepted.position,
    )  # fmt: skip
    receipt = Receipt(work.sequence, "upheld", hits, state)
    steps = STEPS_FROM + STEP_FIELDS * int(found[FOUND.steps])
    return Ruling.made_of(
        {"number": number, "kind": "shot", "connection": connection.name, "account": connection.account,
         "entity": actor.entity, "sequence": work.sequence, "weapon": weapon, "received_at": now, "outcome": "upheld",
         "findings": (), "first": None, "state": state, "rays": (), "position": None, "receipt_made": receipt,
         "late": UsualShot(found[:steps].tobytes(), context, met, now, work.actor.weapons[weapon].weapon.range_m)}
    )  # fmt: skip


class UsualShot:
    """Such a shot's numbers, and what they name as it was called when the shot was ruled.

    met : what it ended at: the entity (0: the level, or nothing), the rig or the surface, and the part of a body
    """

    __slots__ = ("_context", "_met", "_now", "_numbers", "_range_m")

    def __init__(
        self, numbers: bytes, context: Context, met: tuple[int, str, Part | None], now: float, range_m: float
    ) -> None:
        self._numbers, self._context, self._met, self._now, self._range_m = numbers, context, met, now, range_m

    def fields(self) -> Fields:
        """What its ruling has beside what is plain at once."""
        row, claim = np.frombuffer(self._numbers).tolist(), self._context.claim
        became, reached = row[FOUND.became], row[FOUND.reached_m]
        entity, name, part = self._met
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
            "steps": (*steps, *self._ends(row)),
        }  # fmt: skip

    def _hit(self, row: list[float], entity: int, part: Part, aim: tuple[float, float, float]) -> Hit:
        (ox, oy, oz), (dx, dy, dz), t = self._context.claim.origin, aim, row[FOUND.enter_m]
        return Hit(
            entity, part.name, part.zone, part.side, t, (ox + dx * t, oy + dy * t, oz + dz * t), row[FOUND.amount],
            row[FOUND.before], row[FOUND.after], False,
        )  # fmt: skip

    def _ends(self, row: list[float]) -> tuple[Step, ...]:
        """The steps of what it met."""
        became, (entity, name, part) = row[FOUND.became], self._met
        if became == HIT and part is not None:
            amount = Measure.DAMAGE.step(row[FOUND.amount])
            return Measure.REWIND.step(entity, part.name), Measure.VICTIM.step("alive"), amount
        if became == AT_COVER:
            return (Measure.COVER.step(row[FOUND.reached_m], name),)
        if became == AT_LEVEL:
            return (Measure.LEVEL.step(row[FOUND.reached_m], name),)
        return (Measure.NOBODY_HIT_WITHIN.step(self._range_m),)
