"""Answer to a client that joins, and the published state of a match, put together from roster and ledger."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import Struct

from tinclock.core.combat.published import Effect, EntityState, InFlight, ScoreRow, State

if TYPE_CHECKING:
    from tinclock.core.combat.flights import Flights
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Participant, Roster


class Welcome(Struct, frozen=True, gc=False):
    """For one client only.

    entity : its own; 0 for a spectator
    spread_key : hexadecimal, for a `SpreadStream` of its own that draws what the server rules
    next_sequence : what its next claim must count on from
    state : everything that is published; events after `state.number` continue from it
    """

    entity: int
    spread_key: str
    next_sequence: int
    tick_rate_hz: float
    snapshot_every: int
    state: State


def state_of(roster: Roster, ledger: Ledger, flights: Flights) -> State:
    """The published state as it is after the last event."""
    rows = tuple(
        ScoreRow(entity, row.name, row.team, row.score, row.kills, row.deaths, row.assists, row.streak)
        for entity, row in ledger.scores.rows.items()
    )
    return State(
        ledger.bulletin.number,
        ledger.bulletin.time,
        tuple(_entity(actor, roster, ledger) for actor in roster.actors.values()),
        rows,
        dict(ledger.scores.teams),
        ledger.scores.leader,
        ledger.points.keep_disconnected,
        tuple(
            InFlight(
                one.number, one.actor.entity, one.weapon.name, one.started, one.origin, one.velocity, one.motion,
                flights.last_of(one), one.sequence, one.target,
            )
            for one in flights.live.values()
        ),
        ledger.phase,
    )  # fmt: skip


def _entity(actor: Participant, roster: Roster, ledger: Ledger) -> EntityState:
    entity = actor.entity
    effects = tuple(Effect(what, until, amount) for what, (until, amount) in sorted(ledger.effects(entity).items()))
    return EntityState(
        entity,
        actor.rig,
        actor.name,
        actor.team,
        actor.wielded,
        roster.controller_of(actor),
        ledger.alive(entity),
        ledger.life(entity),
        ledger.health(entity),
        ledger.armour(entity),
        effects,
        *ledger.told_of(entity),
        actor.vehicle,
        actor.stance,
    )
