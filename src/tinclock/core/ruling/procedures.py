"""What happens to each kind of claim, in order. Read this page to know what Tin Clock checks.

A procedure's `checks` measure and decide, until one denies. They change nothing: a denied claim leaves the match as it
was. Then `commit` does what the claim does, and `compares` hold what the client says happened against what did.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final, NamedTuple

from tinclock.core.findings import Finding
from tinclock.core.ruling.checks.claimed import check_claimed_damage, check_claimed_part, check_claimed_victim
from tinclock.core.ruling.checks.form import check_aimed_fields, check_fields, check_form
from tinclock.core.ruling.checks.lag import check_faces, check_lag
from tinclock.core.ruling.checks.muzzle import check_muzzle
from tinclock.core.ruling.checks.sender import check_actor, check_alive, check_sender, check_tenure, check_trade
from tinclock.core.ruling.checks.sequence import check_sequence
from tinclock.core.ruling.checks.view import check_view, check_view_order
from tinclock.core.ruling.checks.weapon import (
    check_cadence,
    check_charge,
    check_fires,
    check_launches,
    check_loaded,
    check_reaches,
    check_shoots,
    check_weapon,
)
from tinclock.core.ruling.claims import (
    HandleClaim,
    ImpactClaim,
    LaunchClaim,
    MoveClaim,
    ShotClaim,
    StatusClaim,
    StrikeClaim,
    TriggerClaim,
    UseClaim,
)
from tinclock.core.ruling.handle import HandleWork, check_carried, check_sensible, commit_handle
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
from tinclock.core.ruling.move import (
    MoveWork,
    check_clock,
    check_leap,
    check_push,
    check_reported,
    check_speed,
    check_turn,
    check_walls,
    commit_move,
)
from tinclock.core.ruling.shot import ShotWork, check_number, commit_fired, commit_shot
from tinclock.core.ruling.status import (
    StatusWork,
    check_armour,
    check_health,
    check_news,
    check_place,
    check_rounds,
    commit_status,
)
from tinclock.core.ruling.strike import StrikeWork, check_facing, commit_strike
from tinclock.core.ruling.trigger import TriggerWork, commit_trigger
from tinclock.core.ruling.use import UseWork, check_item, check_target, check_useful, commit_use
from tinclock.core.ruling.work import Work

Check = Callable[[Any, Any], Finding | None]


class Procedure(NamedTuple):
    """How one kind of claim is ruled.

    work : what it is worked on with; checks : in order, until one denies; they change nothing
    commit : what the claim costs, leaves behind and does: all that changes the match, for claims that weren't denied
    compares : what the client says happened, against what did
    """

    kind: str
    work: type[Work]
    checks: tuple[Check, ...]
    commit: Callable[[Any, Any], None]
    compares: tuple[Check, ...] = ()


_SENT: Final = (check_sequence, check_fields, check_sender)
_AIMED: Final = (check_sequence, check_aimed_fields, check_sender)
_READY: Final = (check_loaded, check_cadence, check_charge)
_SEEN: Final = (check_view, check_lag, check_view_order, check_tenure, check_trade, check_muzzle)
_CLAIMED: Final = (check_claimed_damage, check_claimed_victim, check_claimed_part)

SHOT: Final = Procedure(
    "shot",
    ShotWork,
    (
        check_sequence,
        check_form,  # `check_aimed_fields`, faster
        check_sender,
        check_actor,
        check_weapon,
        check_shoots,
        *_READY,
        *_SEEN,
        check_faces,
        check_number,
    ),
    commit_shot,
    _CLAIMED,
)
LAUNCH: Final = Procedure(
    "launch",
    LaunchWork,
    (*_AIMED, check_actor, check_weapon, check_launches, *_READY, *_SEEN, check_number),
    commit_launch,
)
STRIKE: Final = Procedure(
    "strike",
    StrikeWork,
    (*_AIMED, check_actor, check_weapon, check_reaches, check_loaded, check_cadence, *_SEEN, check_facing),
    commit_strike,
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
    (*_AIMED, check_alive, check_weapon, check_fires, check_view, check_lag, check_view_order, check_tenure),
    commit_trigger,
)
HANDLE: Final = Procedure(
    "handle", HandleWork, (*_SENT, check_tenure, check_alive, check_carried, check_sensible), commit_handle
)
USE: Final = Procedure(
    "use", UseWork, (*_SENT, check_tenure, check_alive, check_item, check_target, check_useful), commit_use
)
MOVE: Final = Procedure(
    "move",
    MoveWork,
    (
        *_SENT,
        check_tenure,
        check_alive,
        check_reported,
        check_push,
        check_clock,
        check_leap,
        check_speed,
        check_turn,
        check_walls,
    ),
    commit_move,
)
STATUS: Final = Procedure(
    "status",
    StatusWork,
    (*_SENT, check_tenure, check_faces, check_health, check_news, check_armour, check_rounds, check_place),
    commit_status,
)

PROCEDURES: Final[dict[type, Procedure]] = {
    ShotClaim: SHOT,
    LaunchClaim: LAUNCH,
    ImpactClaim: IMPACT,
    StrikeClaim: STRIKE,
    TriggerClaim: TRIGGER,
    HandleClaim: HANDLE,
    UseClaim: USE,
    MoveClaim: MOVE,
    StatusClaim: STATUS,
}

OF_CLIENTS_ONLY: Final = frozenset(
    {check_sequence, check_sender, check_lag, check_view_order, check_tenure, check_faces}
)
"""What the server's own shooters are not asked: they have no connection that could lie."""

HOUSE: Final[dict[type, Procedure]] = {
    kind: procedure._replace(checks=tuple(check for check in procedure.checks if check not in OF_CLIENTS_ONLY))
    for kind, procedure in PROCEDURES.items()
}
"""The same for entities that the server acts for."""

FIRED: Final = SHOT._replace(
    checks=(check_actor, check_loaded, check_cadence, check_number), commit=commit_fired, compares=()
)
"""Shots that the server fires on its own clock, for a trigger that is held."""

FIRED_LAUNCH: Final = LAUNCH._replace(checks=FIRED.checks, commit=commit_fired_launch)
"""The same, for what flies."""

NOT_COUNTED: Final = frozenset({"stale_sequence", "skipped_sequence"})
"""After these a claim's number doesn't count as used: one wild number must not make all the next ones look stale."""
