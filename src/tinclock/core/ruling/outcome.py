"""The ruling that a claim's work comes to: what it holds, and how its actor stands then."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.held import NEVER
from tinclock.core.combat.receipts import ActorState, Outcome, Receipt
from tinclock.core.plain import Fields
from tinclock.core.ruling.procedures import NOT_COUNTED
from tinclock.core.ruling.records import Ruling, ruling_of
from tinclock.core.text import excerpt, excerpt_name

if TYPE_CHECKING:
    from tinclock.core.ruling.work import Work

_NOTHING_FOUND: Fields = {
    "hits": (), "damage": 0.0, "view": None, "view_time": None, "rewound_s": None, "origin": None, "direction": None,
    "reached_m": None, "stopped_by": None, "shot": None, "aim": None, "rays": (), "position": None,
}  # fmt: skip
"""Remaining fields of a ruling whose kind of claim adds none."""


def ruling_on(work: Work, number: int, kind: str, outcome: Outcome, weapon: str, first: Receipt | None) -> Ruling:
    """The ruling on a claim that was worked on. first : the receipt that stands, where its number came before"""
    connection, late = work.connection, work.late
    fields = {
        "number": number, "kind": kind, "connection": connection.name,
        "account": connection.account, "entity": work.actor.entity, "sequence": work.sequence, "weapon": weapon,
        "received_at": work.received_at, "outcome": outcome, **_NOTHING_FOUND, "findings": tuple(work.findings),
        "first": first, "state": None if kind == "projectile" else _state_of(work), **work.found(),
    }  # fmt: skip
    if late is None:
        fields["checks"] = tuple(work.steps)
    else:
        fields["late"] = late
    return ruling_of(fields)


def _state_of(work: Work) -> ActorState:
    actor, now, connection = work.actor, work.received_at, work.connection
    if actor.connection != connection.name:  # it no longer acts for that one: what it may know is its own
        actor = work.roster.actors.get(connection.entity, actor)
    held = actor.weapons.get(actor.wielded)
    counted = not (work.findings and work.findings[0].code in NOT_COUNTED)
    last = work.sequence if counted and work.sequence > connection.highest_sequence else connection.highest_sequence
    health, armour = work.ledger.standing(actor.entity)
    position = None if actor.accepted is None else actor.accepted.position
    simulated = 0 if actor.inputs is None else actor.inputs.acknowledged
    if held is None:
        return ActorState(actor.entity, last, health, armour, position=position, input=simulated)
    wait, (magazine, reserve) = held.ready_at() - now, held.rounds_at(now)
    state = ActorState(
        actor.entity, last, health, armour, actor.wielded, magazine, reserve, held.shots,
        wait if 0.0 < wait < NEVER else 0.0, position=position, input=simulated,
    )  # fmt: skip
    return work.state(state)


def named(name: object, work: Work) -> str:
    """The weapon of a ruling: as the claim names it where that is known, else a short piece of it."""
    if name is None:
        return work.used
    if type(name) is not str:
        return excerpt(name)
    return work.used if name == work.used else excerpt_name(name)
