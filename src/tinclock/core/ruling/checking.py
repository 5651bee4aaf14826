"""Puts a claim through its checks: most in one kernel call over rows of numbers, the others where that asks."""

from __future__ import annotations

import math
import struct
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np
from msgspec.structs import replace

from tinclock.core.kernels.call_rows import CALL, WHO, WORLD
from tinclock.core.kernels.checking import check_claims
from tinclock.core.kernels.dtypes import (
    ADJUSTED,
    ANOTHER,
    BODY,
    CLAIM,
    CODE,
    FINDING_FIELDS,
    FINDINGS_FROM,
    FOUND,
    FOUND_LENGTH,
    IN_HAND,
    NOT_CARRIED,
    STEP_FIELDS,
    STEPS_FROM,
    UNHEARD_OF,
)
from tinclock.core.kernels.layout import COLUMN_COUNT, MAX_BONES, PART_COUNT
from tinclock.core.kernels.triangles import STACK, WIDTH
from tinclock.core.packed import Row, address_of, memory_of
from tinclock.core.ruling.checks.form import AIMED
from tinclock.core.ruling.checks.sender import actor_named
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.ruling.found import CODES, findings_found
from tinclock.core.ruling.procedures import QUICK
from tinclock.core.ruling.quick import Quick
from tinclock.core.ruling.trace import VERDICTS, Context, Late, steps_found

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from tinclock.core.combat.connections import Connection
    from tinclock.core.combat.receipts import Outcome
    from tinclock.core.combat.roster import Participant, Roster
    from tinclock.core.findings import Action
    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.numbers import RuleNumbers
    from tinclock.core.ruling.order import Order, PythonCheck
    from tinclock.core.ruling.procedures import Procedure
    from tinclock.core.ruling.work import Work
    from tinclock.core.timeline.history import PoseHistory

NAN: Final = math.nan
_PACK: Final = struct.Struct(f"={len(CLAIM)}d").pack_into
_NO_AIM: Final = (0.0, 0.0, 0.0)


class Begun(NamedTuple):
    """A claim whose checks have begun.

    place : of the check that asks Python, or how many there are; actor : who it is about
    context : what the words of its steps need; at : the address of its call; found : the row of what was found
    """

    place: int
    actor: Participant
    context: Context
    at: int
    found: Any


class KernelCall:
    """Arguments of a kernel call: a row of `CALL`, at an address."""

    __slots__ = ("_row", "at")

    def __init__(self, world: int, who: int, claim: int, found: int) -> None:
        self._row = np.zeros(len(CALL), np.int64)
        self._row[CALL.world], self._row[CALL.who] = world, who
        self._row[CALL.claim], self._row[CALL.found] = claim, found
        self.at = address_of(self._row)

    def follow(self, order: Order, *, is_plain: bool = False) -> None:
        """Take this order of checks. is_plain : the claim took the short way, so its refusal does too"""
        self._row[CALL.order], self._row[CALL.checks], self._row[CALL.plain] = order.at, order.count, is_plain


class Checking:
    """The checks of one match, with the rows that a claim is held against."""

    def __init__(
        self, history: PoseHistory, level: Level | None, roster: Roster, numbers: RuleNumbers,
        actions: Mapping[str, Action], limits: Mapping[tuple[str, str], RuleNumbers] | None = None,
    ) -> None:  # fmt: skip
        self._history, self._roster, self._actions = history, roster, actions
        self._numbers, self._limits = numbers, limits or {}
        self._claim, self._found = Row(len(CLAIM)), Row(FOUND_LENGTH)
        self.found: Any = self._found.numbers
        """The row of what the last claim's checks found."""
        self._buffer = memory_of(self._claim.owner)
        self._plain = Row(len(CLAIM))
        self._plain.numbers[CLAIM.push] = NAN
        self.plain_row = memory_of(self._plain.owner)
        """Row for claims of the short way."""
        self._who_array = np.zeros(len(WHO), np.int64)
        self._who = memory_of(self._who_array)
        self._kept = [
            np.array([float(VERDICTS.index(actions[code])) for code in CODES]),
            np.array([history.columns.quantum]),
            np.zeros(4, np.int64) if level is None else level.header,
            np.array((0.0, 0.0, 0.0) if level is None else level.offset),
        ]
        does, quantum, header, middle = (int(array.ctypes.data) for array in self._kept)
        world = np.zeros(len(WORLD), np.int64)
        world[WORLD.rules], world[WORLD.actions] = numbers.at, does
        world[WORLD.moments], world[WORLD.quantum] = int(history.moments.ctypes.data), quantum
        world[WORLD.has_level], world[WORLD.level], world[WORLD.level_middle] = level is not None, header, middle
        if level is not None and len(level.passable_rows):
            self._kept.append(level.passable_rows)
            world[WORLD.passable_rows] = int(level.passable_rows.ctypes.data)
        self._world, self._bodies = world, np.zeros(0, np.int64)
        self.world_at = address_of(world)
        """The address of what all claims are held against."""
        self._kept.append(numbers.owner)
        self._call = self.call(int(self._who_array.ctypes.data), self._claim)
        self._scratch: list[NDArray[Any]] = []

    def weigh_by(self, actions: Mapping[str, Action]) -> None:
        """Let findings have other actions from now on."""
        self._actions = actions
        self._kept[0][:] = [float(VERDICTS.index(actions[code])) for code in CODES]

    def call(self, who_at: int, claim: Row) -> KernelCall:
        """Return the arguments of a kernel call for a claim's row and the rows that it is checked against."""
        return KernelCall(self.world_at, who_at, claim.at, self._found.at)

    def enter(self, actor: Participant) -> None:
        """Somebody takes part from now on, in the column that the history gave."""
        column = self._history.columns.of(actor.entity)
        if column >= len(self._bodies):
            longer = np.zeros(2 * column + 8, np.int64)
            longer[: len(self._bodies)] = self._bodies
            self._bodies = longer
            self._world[WORLD.bodies] = int(longer.ctypes.data)
        self._bodies[column] = actor.at
        self.limit(actor)
        actor.numbers[BODY.rig] = list(self._history.columns.rigs).index(actor.rig)
        header = self._history.columns.header
        if not self._scratch or len(self._scratch[0]) < header[COLUMN_COUNT]:
            self._make_scratch(int(header[COLUMN_COUNT]), int(header[MAX_BONES]), int(header[PART_COUNT]))

    def limit(self, actor: Participant) -> None:
        """Let somebody move by the limits of its rig and stance."""
        limits = self._limits.get((actor.rig, actor.stance)) or self._limits.get((actor.rig, ""), self._numbers)
        actor.numbers[BODY.limits] = limits.at

    def _is_driven(self, actor: Participant) -> bool:
        movement = self._roster.rules.movement_of(actor.rig)
        return movement is not None and movement.moved_by == "server"

    def _make_scratch(self, columns: int, bones: int, parts: int) -> None:
        """Arrays for casts to write into, made once, so that no claim waits for memory."""
        self._scratch = [
            np.empty(columns, np.float32), np.empty(columns + 1, np.int32), np.empty(bones, np.float32),
            np.empty(parts + 1, np.int32), np.empty(STACK, np.int32), np.empty(STACK, np.float32),
            np.empty(WIDTH, np.float32), np.empty(WIDTH + 1, np.int32),
        ]  # fmt: skip
        self._scratch_at = np.array([array.ctypes.data for array in self._scratch], np.int64)
        self._world[WORLD.scratch] = int(self._scratch_at.ctypes.data)

    def begin(
        self, procedure: Procedure, claim: Any, connection: Connection, own: Participant, now: float, *,
        is_well_formed: bool,
    ) -> Begun:  # fmt: skip
        """Put a claim through its procedure's checks, up to the first that asks Python."""
        actor, context = self._prepare(procedure.kind, claim, connection, own, now, is_well_formed)
        order = procedure.order
        self._call.follow(order)
        check_claims(self._call.at, 0, 1, 0)
        return Begun(int(self.found[FOUND.place]), actor, context, self._call.at, self.found)

    def quick_of(self, connection: Connection) -> Quick | None:
        """Return the rows that a connection's claims are checked against in the short way; None for a spectator."""
        actor = self._roster.actors.get(connection.entity)
        if actor is None or connection.game_findings or self._is_driven(actor):
            return None
        column = self._history.columns.of(actor.entity)
        quick = Quick(connection, actor, actor.weapons.get(actor.wielded), column)
        for kind, order in QUICK.items():
            quick.calls[kind] = call = self.call(quick.who_at, self._plain)
            call.follow(order, is_plain=True)
        connection.quick = quick
        return quick if quick.fits() else None

    def passes(self, procedure: Procedure, claim: Any, work: Work, begun: Begun) -> bool:
        """Put a claim that was begun through the rest of its checks; returns whether none rejected it."""
        order, (place, actor, context, at, found), asked = procedure.order, begun, False
        while True:
            if found[FOUND.sent]:
                work.actor = actor
            work.take(found, claim)
            if found[FOUND.findings]:
                work.findings += findings_found(found, context, work)
            if place >= order.count:
                break
            asked, found[FOUND.asked] = True, 1.0
            work.steps += steps_found(found, context)
            found[FOUND.steps] = found[FOUND.findings] = 0.0
            ask = order.asked[place]
            if ask is not None and self.rejects(ask, claim, work):
                return False
            if work.starts_at_eye():  # casts that follow begin there too
                found[FOUND.starts_at_eye] = 1.0
            check_claims(at, 0, 1, place + 1)
            place = int(found[FOUND.place])
        if asked:
            work.steps += steps_found(found, context)
        else:
            numbers = found[STEPS_FROM : STEPS_FROM + STEP_FIELDS * int(found[FOUND.steps])].tobytes()
            work.late = Late(numbers, context, work.steps)
        return not found[FOUND.rejected]

    def rejects(self, check: PythonCheck, claim: Any, work: Work) -> bool:
        """Put a claim to one check of Python's; returns whether it rejects the claim."""
        finding = check(claim, work)
        if finding is None:
            return False
        action = self._actions[finding.code]
        work.findings.append(finding)
        work.steps[-1] = replace(work.steps[-1], verdict=action)
        return action == "reject"

    def compare(self, checks: tuple[PythonCheck, ...], claim: Any, work: Work) -> Outcome:
        """Hold what a client says happened against what did; returns what comes of its claim."""
        for check in checks:
            if self.rejects(check, claim, work):
                break
        findings, actions = work.findings, self._actions
        adjusted = findings and any(actions[finding.code] == "adjust" for finding in findings)
        return "adjusted" if adjusted else "accepted"

    def adjusts(self, found: Any) -> bool:
        """True if one of the findings in the row of what was found adjusts its claim."""
        does = self._kept[0]
        codes = range(FINDINGS_FROM + CODE, FINDINGS_FROM + FINDING_FIELDS * int(found[FOUND.findings]), FINDING_FIELDS)
        return any(does[int(found[at])] == ADJUSTED for at in codes)

    def _prepare(
        self, kind: str, claim: Any, connection: Connection, own: Participant, now: float, is_well_formed: bool
    ) -> tuple[Participant, Context]:
        """Fill the rows in; returns who the claim is about, and what its steps' words need."""
        actor, sender = own, 0.0
        if is_well_formed:
            actor, sender = actor_named(claim.actor, own, connection, self._roster, now)
        held = actor.weapons.get(actor.wielded)
        who = self._who
        who[WHO.line], who[WHO.body] = connection.at, actor.at
        who[WHO.column] = self._history.columns.of(actor.entity)
        weapon_kind = ""
        if held is not None:
            weapon = held.weapon
            who[WHO.held], who[WHO.weapon], weapon_kind = held.at, weapon.at, weapon.rules.kind
        else:
            who[WHO.held] = who[WHO.weapon] = 0
        accepted = actor.accepted
        who[WHO.moved], who[WHO.said] = 0 if accepted is None else accepted.at, connection.lag.said_at
        if not is_well_formed:
            self._pack_nothing(claim.sequence, 0, now, False, sender)
        elif isinstance(claim, AIMED):
            self._pack(
                claim, connection, now, sender, self._named(claim.weapon, actor, held is not None), held is not None
            )
        elif type(claim) is MoveClaim:
            self._pack_move(claim, now, sender)
        else:
            self._pack_nothing(claim.sequence, claim.actor, now, True, sender)
        return actor, Context(kind, claim, own.entity, actor.wielded, weapon_kind)

    def _named(self, weapon: str, actor: Participant, holds_one: bool) -> float:
        """Return the meaning of a weapon's name for its actor."""
        if holds_one and weapon == actor.wielded:
            return IN_HAND
        if weapon not in self._roster.weapons:
            return UNHEARD_OF
        return ANOTHER if holds_one else NOT_CARRIED

    def _pack(
        self, claim: Any, connection: Connection, now: float, sender: float, weapon: float, holds_one: bool
    ) -> None:
        view, stamp = claim.view, claim.client_time
        from_tick, to_tick, fraction = (0, 0, 0.0) if view is None else (view.from_tick, view.to_tick, view.fraction)
        shot, charge = getattr(claim, "shot", None), getattr(claim, "charge", None)
        lag, earliest, latest = connection.lag, NAN, NAN
        if claim.sequence < lag.newest_sequence:  # it was overtaken
            earliest, latest = lag.stamps(claim.sequence)
        _PACK(
            self._buffer, 0, claim.sequence, claim.actor, now, 1.0,
            *getattr(claim, "origin", _NO_AIM), *claim.direction, view is not None, from_tick, to_tick, fraction,
            NAN if stamp is None else stamp, NAN if shot is None else shot, NAN if charge is None else charge,
            earliest, latest, sender, weapon, holds_one, NAN, getattr(claim, "relative_to", None) is not None,
        )  # fmt: skip

    def _pack_move(self, claim: MoveClaim, now: float, sender: float) -> None:
        view, push = claim.view, claim.push
        from_tick, to_tick, fraction = (0, 0, 0.0) if view is None else (view.from_tick, view.to_tick, view.fraction)
        length = NAN if push is None else math.sqrt(sum(v * v for v in push))
        _PACK(
            self._buffer, 0, claim.sequence, claim.actor, now, 1.0, *claim.position, *_NO_AIM, view is not None,
            from_tick, to_tick, fraction, claim.client_time, NAN, NAN, NAN, NAN, sender, 0.0, 0.0, length, 0.0,
        )  # fmt: skip

    def _pack_nothing(self, sequence: int, actor: int, now: float, is_well_formed: bool, sender: float) -> None:
        _PACK(
            self._buffer, 0, sequence, actor, now, is_well_formed, *_NO_AIM, *_NO_AIM, 0.0, 0.0, 0.0, 0.0, NAN, NAN,
            NAN, NAN, NAN, sender, 0.0, 0.0, NAN, 0.0,
        )  # fmt: skip
