"""Riders and stances: what an entity rides, and the limits by which it moves."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from tinclock.core.combat.events import StanceEvent, VehicleEvent
from tinclock.core.errors import BadNumberError, UnknownNameError
from tinclock.core.kernels.dtypes import BODY
from tinclock.core.ruling.commands import SetStance, SetVehicle

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.pipeline import ClaimPipeline


def set_vehicle(match: ClaimPipeline, command: SetVehicle, now: float) -> None:
    """Let an entity ride another, or get off."""
    actor = match.roster.require(command.entity)
    if command.vehicle is None:
        get_off(match, actor, now)
        return
    vehicle = match.roster.require(command.vehicle)
    if vehicle is actor or vehicle.vehicle or any(one.vehicle == actor.entity for one in match.roster.actors.values()):
        raise BadNumberError(
            "vehicle", "an entity that rides nothing, for a rider that carries nobody", command.vehicle
        )
    if actor.vehicle != vehicle.entity:
        actor.vehicle = vehicle.entity
        actor.numbers[BODY.vehicle] = match.history.columns.ride(actor.entity, vehicle.entity)
        actor.numbers[BODY.rode_until] = math.inf
        _tell(match, actor, now)


def get_off(match: ClaimPipeline, actor: Participant, now: float) -> None:
    """Let an entity ride nothing: it stands where it was accepted to be, at rest."""
    if not actor.vehicle:
        return
    actor.vehicle = 0
    match.history.columns.ride(actor.entity, None)
    actor.numbers[BODY.rode_until] = now
    if actor.accepted is not None:
        actor.accepted.put(actor.accepted.position, now)
    _tell(match, actor, now)


def _tell(match: ClaimPipeline, actor: Participant, now: float) -> None:
    bulletin = match.ledger.bulletin
    bulletin.tell(VehicleEvent(bulletin.next, now, actor.entity, actor.vehicle))


def leave(match: ClaimPipeline, leaver: Participant, now: float) -> None:
    """Let everybody get off an entity that leaves, and the entity get off its vehicle."""
    get_off(match, leaver, now)
    column = match.history.columns.of(leaver.entity)
    for actor in match.roster.actors.values():
        if actor.vehicle == leaver.entity:
            get_off(match, actor, now)
        if actor.numbers[BODY.vehicle] == column:
            actor.numbers[BODY.vehicle] = -1.0
    leaver.numbers[BODY.vehicle], leaver.numbers[BODY.rode_until] = -1.0, -math.inf


def set_stance(match: ClaimPipeline, command: SetStance, now: float) -> None:
    """Let an entity move by the limits of a stance."""
    actor = match.roster.require(command.entity)
    stances = match.roster.rules.rigs[actor.rig].stances
    if command.stance and command.stance not in stances:
        raise UnknownNameError("stance", command.stance, stances)
    if command.stance != actor.stance:
        actor.numbers[BODY.limits_before], actor.numbers[BODY.stance_since] = actor.numbers[BODY.limits], now
        actor.stance = command.stance
        match.limit(actor)
        bulletin = match.ledger.bulletin
        bulletin.tell(StanceEvent(bulletin.next, now, actor.entity, actor.stance))
