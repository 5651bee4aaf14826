"""Rulings of claims that took the short way: kept as rows of numbers, and made in full when somebody reads them."""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import msgspec
import numpy as np

from tinclock.core.combat.receipts import ActorState, Outcome, Receipt, ReceiptHit
from tinclock.core.kernels.committing import AT_COVER, AT_LEVEL, HIT, REFUSED
from tinclock.core.kernels.dtypes import FOUND, STEP_FIELDS, STEPS_FROM
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.ruling.hits import Hit, Stop
from tinclock.core.ruling.trace import Context, steps_in
from tinclock.core.ruling.wounding import WHY
from tinclock.core.text import excerpt_name
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.geometry.rig import Part
    from tinclock.core.packed import Numbers
    from tinclock.core.plain import Fields
    from tinclock.core.ruling.check_results import CheckResult
    from tinclock.core.ruling.quick import Quick
    from tinclock.core.vectors import Triple

TAIL: Final = slice(FOUND.amount, FOUND.at_z + 1)
"""Numbers of a receipt: points, the victim's health before and after, and the actor's state."""
TAIL_BYTES: Final = 8 * (TAIL.stop - TAIL.start)
LOOKED_AT: Final = [
    FOUND.findings, FOUND.became, FOUND.heard, FOUND.column, FOUND.part, FOUND.why, FOUND.wall
]  # fmt: skip
"""Numbers of such a claim that are needed before its ruling is read."""
_UNPACK: Final = struct.Struct(f"={FOUND.at_z + 1 - FOUND.amount}d").unpack


_STANDING: Final = FOUND.shot - FOUND.amount
"""Place in that of how the actor stands."""
NEVER: Final = float("inf")


class Met(NamedTuple):
    """End of a shot: the entity (0: the level, or nothing), the rig or the surface, and the part of a body."""

    entity: int = 0
    name: str = ""
    part: Part | None = None


class Kept(NamedTuple):
    """Data of such a claim's receipt, for its ruling and for repeats. hit : the body that it hurt, if any"""

    sequence: int
    outcome: Outcome
    quick: Quick
    tail: bytes
    hit: Met | None

    def receipt(self) -> Receipt:
        """The receipt."""
        sequence, outcome, quick, tail, hit = self
        numbers = _UNPACK(tail)
        if hit is None or hit.part is None:
            return Receipt(sequence, outcome, (), _standing(quick, numbers))
        amount, before, after, *_ = numbers
        hits = (ReceiptHit(hit.entity, hit.part.name, amount, is_lethal(before, after)),)
        return Receipt(sequence, outcome, hits, _standing(quick, numbers))

    def dealt(self) -> float:
        """The points that it took."""
        _, before, after, *_ = _UNPACK(self.tail)
        return before - after  # type: ignore[no-any-return]

    def state(self) -> ActorState:
        """Return the actor's state at that time."""
        return _standing(self.quick, _UNPACK(self.tail))


def _standing(quick: Quick, numbers: tuple[float, ...]) -> ActorState:
    """Return an actor's state from the numbers of `TAIL`."""
    shot, magazine, reserve, wait, health, armour, last, x, y, z = numbers[_STANDING:]
    position = None if x != x else (x, y, z)
    if quick.held is None:
        return ActorState(quick.entity, int(last), health, armour, position=position)
    return ActorState(
        quick.entity, int(last), health, armour, quick.wielded, None if magazine < 0.0 else int(magazine),
        None if reserve < 0.0 else int(reserve), int(shot), wait if 0.0 < wait < NEVER else 0.0, position=position,
    )  # fmt: skip


def is_lethal(before: float, after: float) -> bool:
    """True if somebody died of losing so many points of health."""
    return after == 0.0 < before


class Remembered:
    """A connection's remembered receipts as a checkpoint holds them: packed together, since there are many.

    quicks, hits : the records that kept receipts share; packed : everything else
    """

    __slots__ = ("hits", "packed", "quicks")

    def __init__(self, receipts: Sequence[Any]) -> None:
        quicks: dict[int, tuple[int, Quick]] = {}
        self.hits: list[Met] = []
        kept: list[tuple[Any, ...]] = []
        for place, one in enumerate(receipts):
            if type(one) is Kept:
                number, _ = quicks.setdefault(id(one.quick), (len(quicks), one.quick))
                kept.append((place, one.sequence, one.outcome, number, one.tail, len(self.hits) if one.hit else -1))
                if one.hit:
                    self.hits.append(one.hit)
        others = [(place, one) for place, one in enumerate(receipts) if type(one) is Receipt]
        self.quicks = [quick for _, quick in quicks.values()]
        self.packed = msgspec.msgpack.encode((len(receipts), kept, others))

    def unpacked(self) -> list[Kept | Receipt | None]:
        """Return the receipts again."""
        count, kept, others = _READ(self.packed)
        out: list[Kept | Receipt | None] = [None] * count
        for place, sequence, outcome, number, tail, hit in kept:
            out[place] = Kept(sequence, outcome, self.quicks[number], tail, None if hit < 0 else self.hits[hit])
        for place, receipt in others:
            out[place] = receipt
        return out


_PackedReceipts = tuple[int, list[tuple[int, int, Outcome, int, bytes, int]], list[tuple[int, Receipt]]]
_READ: Final = msgspec.msgpack.Decoder(_PackedReceipts).decode


class Brief(NamedTuple):
    """Such a claim's numbers, and what their words need.

    row : what was found, up to its last step; now : when the claim came, server time in seconds
    met : what a shot ended at; more : steps that came after those of the kernel
    """

    row: bytes
    claim: Any
    kept: Kept
    now: float
    met: Met
    more: tuple[CheckResult, ...]

    def told(self) -> tuple[object, float, Triple | None]:
        """Return the hits, the damage dealt, and the end of a move."""
        kept = self.kept
        amount, before, after, *_, x, y, z = _UNPACK(kept.tail)
        hit, place = kept.hit, None
        lethal = is_lethal(before, after)
        hits = () if hit is None or hit.part is None else ((hit.entity, hit.part.name, amount, lethal),)
        if isinstance(self.claim, MoveClaim):
            place = (x, y, z) if kept.outcome != "rejected" else place_of(np.frombuffer(self.row).tolist())
        return hits, before - after, place

    def fields(self) -> Fields:
        """All that its ruling has but its number, its outcome and its findings."""
        row, kept = np.frombuffer(self.row).tolist(), self.kept
        quick, kind = kept.quick, "move" if isinstance(self.claim, MoveClaim) else "shot"
        connection, of = quick.connection, "" if quick.held is None else quick.held.weapon.rules.kind
        context = Context(kind, self.claim, quick.actor.entity, quick.wielded, of)
        steps = steps_in(row[STEPS_FROM:], int(row[FOUND.steps]), context)
        common = {
            "kind": kind, "connection": connection.name, "account": connection.account, "entity": quick.actor.entity,
            "sequence": kept.sequence, "received_at": self.now, "first": None, "rays": (), "state": kept.state(),
        }  # fmt: skip
        if kind == "move":
            return {**common, **_NO_SHOT, "position": place_of(row), "checks": tuple(steps)}
        if row[FOUND.became] == REFUSED:
            return {**common, **_NO_SHOT, **self._refused(row), "position": None, "checks": tuple(steps)}
        steps += [*self._ends(row), *self.more]
        return {**common, **self._shot(row), "weapon": quick.wielded, "position": None, "checks": tuple(steps)}

    def _shot(self, row: list[float]) -> Fields:
        claim, (entity, name, part), became = self.claim, self.met, row[FOUND.became]
        aim = row[FOUND.direction_x], row[FOUND.direction_y], row[FOUND.direction_z]
        hits: tuple[Hit, ...] = ()
        stop: Stop | None = None
        if became == HIT and part is not None:
            hits, stop = (self._hit(row, entity, part, aim),), Stop("body", entity=entity)
        elif became >= AT_LEVEL:
            stop = Stop("cover" if entity else "level", name, entity)
        return {
            "hits": hits, "damage": row[FOUND.before] - row[FOUND.after], "view_time": row[FOUND.view_time],
            "view": View(int(row[FOUND.from_tick]), int(row[FOUND.to_tick]), row[FOUND.fraction]),
            "rewound_s": self.now - row[FOUND.view_time], "origin": claim.origin, "direction": aim, "aim": aim,
            "reached_m": row[FOUND.reached_m], "stopped_by": stop, "shot": int(row[FOUND.shot]),
        }  # fmt: skip

    def _refused(self, row: list[float]) -> Fields:
        """Return the known fields of a rejected shot, as far as its checks got."""
        claim, quick, known = self.claim, self.kept.quick, dict[str, Any]()
        known["weapon"] = quick.wielded if row[FOUND.armed] else excerpt_name(claim.weapon)
        view_time, aim = row[FOUND.view_time], row[FOUND.direction_x]
        if view_time == view_time:
            known["view"] = View(int(row[FOUND.from_tick]), int(row[FOUND.to_tick]), row[FOUND.fraction])
            known["view_time"], known["rewound_s"] = view_time, self.now - view_time
        if row[FOUND.formed]:
            known["origin"] = claim.origin
            if aim == aim:
                known["direction"] = aim, row[FOUND.direction_y], row[FOUND.direction_z]
        return known

    def _hit(self, row: list[float], entity: int, part: Part, aim: Triple) -> Hit:
        (ox, oy, oz), (dx, dy, dz), t = self.claim.origin, aim, row[FOUND.enter_m]
        return Hit(
            entity, part.name, part.zone, part.side, t, (ox + dx * t, oy + dy * t, oz + dz * t), row[FOUND.amount],
            row[FOUND.before], row[FOUND.after], is_lethal(row[FOUND.before], row[FOUND.after]),
        )  # fmt: skip

    def _ends(self, row: list[float]) -> tuple[CheckResult, ...]:
        """The steps of what a shot met."""
        became, (entity, name, part) = row[FOUND.became], self.met
        if became == HIT and part is not None:
            amount = Measure.DAMAGE.step(row[FOUND.amount])
            return Measure.REWIND.step(entity, part.name), Measure.VICTIM.step(WHY[int(row[FOUND.why])]), amount
        if became == AT_COVER:
            return (Measure.COVER.step(row[FOUND.reached_m], name),)
        if became == AT_LEVEL:
            return (Measure.LEVEL.step(row[FOUND.reached_m], name),)
        held = self.kept.quick.held
        return (Measure.NOBODY_HIT_WITHIN.step(0.0 if held is None else held.weapon.range_m),)


_NO_SHOT: Final[Fields] = {
    "weapon": "", "hits": (), "damage": 0.0, "view": None, "view_time": None, "rewound_s": None, "origin": None,
    "direction": None, "reached_m": None, "stopped_by": None, "shot": None, "aim": None,
}  # fmt: skip


def place_of(row: Numbers) -> Triple | None:
    """Return the position of a body after a move report, metres, as far as its checks got."""
    return (row[FOUND.place_x], row[FOUND.place_y], row[FOUND.place_z]) if row[FOUND.is_placed] else None


def length_of(steps: Any) -> Any:
    """Return the length of a row with a number of steps, or of an array of such numbers."""
    return STEPS_FROM + STEP_FIELDS * steps
