"""Procedure of each kind of claim. Read this page to know what Tin Clock checks, in order.

A procedure's `checks` measure and decide, until one rejects. They change nothing: a rejected claim leaves the match
as it was. Then `commit` does what the claim does, and `compares` hold what the client says happened against what did.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Final

from tinclock.core.kernels.checking import look_along_aim
from tinclock.core.kernels.checks import ground, lag, move, muzzle, ride, sender, view, walls, weapon
from tinclock.core.kernels.committing import commit_usual
from tinclock.core.ruling.checks.claimed import check_claimed_damage, check_claimed_part, check_claimed_victim
from tinclock.core.ruling.checks.form import find_malformed, is_count
from tinclock.core.ruling.checks.muzzle import check_muzzle as ask_muzzle
from tinclock.core.ruling.checks.sender import check_tenure as ask_tenure
from tinclock.core.ruling.claims import (
    ImpactClaim,
    LaunchClaim,
    MeleeClaim,
    MoveClaim,
    ShotClaim,
    StatusClaim,
    TriggerClaim,
    UseClaim,
    WeaponActionClaim,
)
from tinclock.core.ruling.driven import InputWork, check_prediction, commit_input, take_input
from tinclock.core.ruling.game_checks import check_game
from tinclock.core.ruling.impact import (
    ImpactWork,
    check_impact,
    check_impact_place,
    check_impact_time,
    check_impact_victim,
    check_projectile,
    commit_impact,
)
from tinclock.core.ruling.launch import LaunchWork, commit_fired_launch, commit_launch
from tinclock.core.ruling.melee import MeleeWork, check_facing, commit_melee
from tinclock.core.ruling.move import MoveWork, commit_move
from tinclock.core.ruling.order import Asks, Check, Order, PythonCheck
from tinclock.core.ruling.prices import check_price
from tinclock.core.ruling.shot import ShotWork, commit_fired, commit_shot
from tinclock.core.ruling.status import (
    StatusWork,
    check_armour,
    check_health,
    check_news,
    check_place,
    check_rounds,
    commit_status,
)
from tinclock.core.ruling.trigger import TriggerWork, commit_trigger
from tinclock.core.ruling.use import UseWork, check_item, check_target, check_useful, commit_use
from tinclock.core.ruling.weapon_action import WeaponActionWork, check_carried, check_sensible, commit_weapon_action
from tinclock.core.ruling.work import Work

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant, Roster


@dataclass(frozen=True, slots=True)
class Procedure:
    """Checks and acts for one kind of claim.

    work : what it is worked on with
    checks : in order, until one rejects; they change nothing. Those of a module of `kernels.checks` are compiled
    commit : what the claim costs, leaves behind and does: all that changes the match, for claims that weren't rejected
    compares : what the client says happened, against what did
    order : the checks as a kernel takes them
    """

    kind: str
    work: type[Work]
    checks: tuple[Check, ...]
    commit: Callable[[Any, Any], None]
    compares: tuple[PythonCheck, ...] = ()
    order: Order = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "order", Order(self.checks))


FIELDS: Final = Asks(sender.check_fields, find_malformed)
FORM: Final = Asks(sender.check_form, find_malformed)
PRICE: Final = Asks(weapon.check_price, check_price)
TENURE: Final = Asks(sender.check_tenure, ask_tenure)
MUZZLE: Final = Asks(muzzle.check_muzzle, ask_muzzle)
_SENT: Final = (sender.check_sequence, FIELDS, sender.check_sender)
_AIMED: Final = (sender.check_sequence, FORM, sender.check_sender, sender.check_phase)
_READY: Final = (weapon.check_loaded, weapon.check_fire_rate, PRICE, weapon.check_charge)
_SEEN: Final = (
    view.check_view, lag.check_lag, lag.check_told, view.check_view_order, TENURE, sender.check_trade, MUZZLE,
)  # fmt: skip
_CLAIMED: Final = (check_claimed_damage, check_claimed_victim, check_claimed_part)

SHOT: Final = Procedure(
    "shot",
    ShotWork,
    (
        *_AIMED,
        sender.check_actor,
        weapon.check_weapon,
        weapon.check_shoots,
        *_READY,
        *_SEEN,
        lag.check_faces,
        weapon.check_number,
        look_along_aim,
    ),
    commit_shot,
    _CLAIMED,
)
LAUNCH: Final = Procedure(
    "launch",
    LaunchWork,
    (*_AIMED, sender.check_actor, weapon.check_weapon, weapon.check_launches, *_READY, *_SEEN, weapon.check_number),
    commit_launch,
)
MELEE: Final = Procedure(
    "melee",
    MeleeWork,
    (
        *_AIMED,
        sender.check_actor,
        weapon.check_weapon,
        weapon.check_reaches,
        weapon.check_loaded,
        weapon.check_fire_rate,
        PRICE,
        *_SEEN,
        check_facing,
    ),
    commit_melee,
    _CLAIMED,
)
IMPACT: Final = Procedure(
    "impact",
    ImpactWork,
    (*_SENT, check_projectile, check_impact, check_impact_time, check_impact_place),
    commit_impact,
    (check_impact_victim,),
)
TRIGGER: Final = Procedure(
    "trigger",
    TriggerWork,
    (
        *_AIMED,
        sender.check_alive,
        weapon.check_weapon,
        weapon.check_fires,
        view.check_view,
        lag.check_lag,
        view.check_view_order,
        TENURE,
    ),
    commit_trigger,
)
WEAPON_ACTION: Final = Procedure(
    "weapon_action",
    WeaponActionWork,
    (*_SENT, TENURE, sender.check_alive, check_carried, check_sensible),
    commit_weapon_action,
)
USE: Final = Procedure(
    "use",
    UseWork,
    (*_SENT, sender.check_phase, TENURE, sender.check_alive, check_item, check_price, check_target, check_useful),
    commit_use,
)
MOVE: Final = Procedure(
    "move",
    MoveWork,
    (
        *_SENT,
        move.check_phase_of_move,
        TENURE,
        sender.check_alive,
        move.check_reported,
        move.check_push,
        move.check_clock,
        ride.check_ride,
        move.check_leap,
        move.check_speed,
        move.check_turn,
        ground.check_fall,
        walls.check_walls,
        move.commit_move,
    ),
    commit_move,
)
INPUT: Final = Procedure(
    "move",
    InputWork,
    (
        *_SENT,
        move.check_phase_of_move,
        TENURE,
        sender.check_alive,
        move.check_push,
        take_input,
        check_prediction,
    ),
    commit_input,
)
"""Move reports of bodies that the server moves."""
STATUS: Final = Procedure(
    "status",
    StatusWork,
    (*_SENT, TENURE, lag.check_faces, check_health, check_news, check_armour, check_rounds, check_place),
    commit_status,
)

PROCEDURES: Final[dict[type, Procedure]] = {
    ShotClaim: SHOT,
    LaunchClaim: LAUNCH,
    ImpactClaim: IMPACT,
    MeleeClaim: MELEE,
    TriggerClaim: TRIGGER,
    WeaponActionClaim: WEAPON_ACTION,
    UseClaim: USE,
    MoveClaim: MOVE,
    StatusClaim: STATUS,
}

OF_CLIENTS_ONLY: Final = frozenset(
    {
        sender.check_sequence,
        sender.check_sender,
        sender.check_phase,
        move.check_phase_of_move,
        lag.check_lag,
        view.check_view_order,
        TENURE,
        lag.check_faces,
    }
)
"""Checks that the server's own shooters skip: they have no connection that could lie."""

HOUSE: Final[dict[type, Procedure]] = {
    kind: replace(procedure, checks=tuple(check for check in procedure.checks if check not in OF_CLIENTS_ONLY))
    for kind, procedure in PROCEDURES.items()
}
"""The same for entities that the server acts for."""

FIRED: Final = replace(
    SHOT,
    checks=(sender.check_actor, weapon.check_loaded, weapon.check_fire_rate, PRICE, weapon.check_number),
    commit=commit_fired,
    compares=(),
)
"""Shots that the server fires on its own clock, for a trigger that is held."""

FIRED_LAUNCH: Final = replace(LAUNCH, checks=FIRED.checks, commit=commit_fired_launch)
"""The same, for what flies."""


def procedure_of(roster: Roster, claim: Any, own: Participant) -> Procedure | None:
    """Return the procedure of a claim, None for what is no claim. own : the entity of its connection"""
    if type(claim) is MoveClaim:
        actor = roster.actors.get(claim.actor, own) if is_count(claim.actor) else own
        movement = roster.rules.movement_of(actor.rig)
        if movement is not None and movement.moved_by == "server":
            return INPUT
    return PROCEDURES.get(type(claim))


def with_game_check(procedure: Procedure) -> Procedure:
    """Return a procedure with the game's own findings, after all other checks and before the commit."""
    checks = tuple(check for check in procedure.checks if check is not move.commit_move)
    commits = procedure.checks[len(checks) :]
    return replace(procedure, checks=(*checks, check_game, *commits))


def without_commit(procedure: Procedure) -> Procedure:
    """Return a procedure whose checks change nothing, for a preview."""
    return replace(procedure, checks=tuple(check for check in procedure.checks if check is not move.commit_move))


WITH_GAME_CHECK: Final[dict[int, Procedure]] = {id(one): with_game_check(one) for one in (*PROCEDURES.values(), INPUT)}
PREVIEWS: Final[dict[int, Procedure]] = {id(one): without_commit(one) for one in (*PROCEDURES.values(), INPUT)}
"""Variants of each procedure, by its id."""

QUICK: Final[dict[type, Order]] = {
    ShotClaim: Order((*SHOT.checks, commit_usual)),
    MoveClaim: MOVE.order,
}
"""Orders for claims that come all the time: the same checks, and the kernel commits those of the usual kind."""

NOT_COUNTED: Final = frozenset({"stale_sequence", "skipped_sequence"})
"""After these a claim's number doesn't count as used: one wild number must not make all the next ones look stale."""
