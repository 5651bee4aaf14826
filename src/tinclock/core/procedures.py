"""What happens to each kind of claim, in order. Read this page to know what Tin Clock checks.

A procedure's `checks` run first, until one denies. They change nothing: a denied claim leaves the match as it was. Then
`spends` and `act` do what the claim does; then `compares` hold what the client says happened against what did.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final, NamedTuple

from tinclock.core.acts.blow import check_facing, perform_blow
from tinclock.core.acts.handle import check_carried, check_sensible, perform_handle
from tinclock.core.acts.impact import (
    check_impact,
    check_impact_place,
    check_impact_time,
    check_impact_victim,
    check_projectile,
    perform_impact,
)
from tinclock.core.acts.launch import perform_launch
from tinclock.core.acts.move import (
    check_clock,
    check_leap,
    check_push,
    check_reported,
    check_speed,
    check_turn,
    check_walls,
    perform_move,
)
from tinclock.core.acts.shot import check_number, perform_shot, spend_shot
from tinclock.core.acts.status import check_armour, check_health, check_place, check_rounds, perform_status
from tinclock.core.acts.trigger import perform_trigger
from tinclock.core.acts.use import check_item, check_target, check_useful, perform_use
from tinclock.core.checks.claimed import check_claimed_damage, check_claimed_part, check_claimed_victim
from tinclock.core.checks.context import Context
from tinclock.core.checks.form import check_fields, check_form
from tinclock.core.checks.muzzle import check_muzzle
from tinclock.core.checks.sender import check_actor, check_alive, check_sender, check_tenure, check_trade
from tinclock.core.checks.sequence import check_sequence
from tinclock.core.checks.view import check_view, check_view_order, keep_view
from tinclock.core.checks.weapon import (
    check_cadence,
    check_charge,
    check_fires,
    check_launches,
    check_loaded,
    check_reaches,
    check_shoots,
    check_weapon,
)
from tinclock.core.claims import (
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
from tinclock.core.records import Finding

Check = Callable[[Any, Context], Finding | None]


class Procedure(NamedTuple):
    """How one kind of claim is ruled."""

    kind: str
    checks: tuple[Check, ...]
    act: Callable[[Any, Context], None]
    compares: tuple[Check, ...] = ()
    spends: tuple[Callable[[Any, Context], None], ...] = ()
    """What a claim that counts costs or leaves behind, before it acts."""


_SENT: Final = (check_sequence, check_fields, check_sender)
_READY: Final = (check_loaded, check_cadence, check_charge)
_SEEN: Final = (check_view, check_view_order, check_tenure, check_trade, check_muzzle)
_FIRES: Final = (keep_view, spend_shot)
_CLAIMED: Final = (check_claimed_damage, check_claimed_victim, check_claimed_part)

SHOT: Final = Procedure(
    "shot",
    (
        check_sequence,
        check_form,  # `check_fields`, faster
        check_sender,
        check_actor,
        check_weapon,
        check_shoots,
        *_READY,
        *_SEEN,
        check_number,
    ),
    perform_shot,
    _CLAIMED,
    _FIRES,
)
LAUNCH: Final = Procedure(
    "launch",
    (*_SENT, check_actor, check_weapon, check_launches, *_READY, *_SEEN, check_number),
    perform_launch,
    spends=_FIRES,
)
STRIKE: Final = Procedure(
    "strike",
    (*_SENT, check_actor, check_weapon, check_reaches, check_loaded, check_cadence, *_SEEN, check_facing),
    perform_blow,
    _CLAIMED,
    (keep_view,),
)
IMPACT: Final = Procedure(
    "impact",
    (*_SENT, check_projectile, check_impact, check_impact_time, check_impact_place),
    perform_impact,
    (check_impact_victim,),
)
TRIGGER: Final = Procedure(
    "trigger",
    (*_SENT, check_alive, check_weapon, check_fires, check_view, check_view_order, check_tenure),
    perform_trigger,
    spends=(keep_view,),
)
HANDLE: Final = Procedure(
    "handle",
    (*_SENT, check_tenure, check_alive, check_carried, check_sensible),
    perform_handle,
)
USE: Final = Procedure(
    "use",
    (*_SENT, check_tenure, check_alive, check_item, check_target, check_useful),
    perform_use,
)
MOVE: Final = Procedure(
    "move",
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
    perform_move,
)
STATUS: Final = Procedure(
    "status",
    (*_SENT, check_tenure, check_health, check_armour, check_rounds, check_place),
    perform_status,
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

OF_CLIENTS_ONLY: Final = frozenset({check_sequence, check_sender, check_view_order, check_tenure})
"""What the server's own shooters are not asked: they have no connection that could lie."""

HOUSE: Final[dict[type, Procedure]] = {
    kind: procedure._replace(
        checks=tuple(check for check in procedure.checks if check not in OF_CLIENTS_ONLY),
        spends=tuple(one for one in procedure.spends if one is not keep_view),
    )
    for kind, procedure in PROCEDURES.items()
}
"""The same for entities that the server acts for."""

FIRED: Final = SHOT._replace(
    checks=(check_actor, check_loaded, check_cadence, check_number), compares=(), spends=(spend_shot,)
)
"""Shots that the server fires on its own clock, for a trigger that is held."""

FIRED_LAUNCH: Final = LAUNCH._replace(checks=FIRED.checks, spends=FIRED.spends)
"""The same, for what flies."""

NOT_COUNTED: Final = frozenset({"stale_sequence", "skipped_sequence"})
"""After these a claim's number doesn't count as used: one wild number must not make all the next ones look stale."""
