"""Sender of a claim: the connection, whatever the claim says. It acts for its own entity, or for one that it was given.

Most of what is checked of a sender is compiled: `kernels.checks.sender`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.dtypes import FOREIGN, LENT, OWN
from tinclock.core.ruling.check_results import Measure

if TYPE_CHECKING:
    from tinclock.core.combat.connections import Connection
    from tinclock.core.combat.roster import Participant, Roster
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.work import Work


def actor_named(
    named: int, own: Participant, connection: Connection, roster: Roster, received_at: float
) -> tuple[Participant, float]:
    """Return the actor of a claim that names an entity, and if its connection acts for it: `OWN`, `LENT`, `FOREIGN`.

    An entity that it lately acted for will do: whether a change of control allows the claim is `check_tenure`'s.
    """
    if named == own.entity and own.connection == connection.name:
        return own, OWN
    lent = roster.actors.get(named)
    if lent is not None and received_at - lent.held_until(connection.name) <= roster.rules.match.history_s:
        return lent, LENT
    return own, FOREIGN


def check_tenure(claim: object, work: Work) -> Finding | None:
    """Find `wrong_actor` or `control_too_recent` where control changed hands: the claim is of the time of its screen.

    A player who lost control may still act on a screen from before; one who gained it can't have acted on one that
    showed the world an interpolation delay and a jitter earlier than the change.
    """
    actor, connection = work.actor, work.connection
    if not actor.tenures:
        return None
    clock, delay, seen = connection.clock, connection.interpolation.interpolation_delay_s, work.seen_at()
    until = actor.held_until(connection.name)
    if until != float("inf"):
        work.steps.append(Measure.CONTROL_LOST.step(until - seen, 0.0))
        return None if seen < until else work.find("wrong_actor", detail=f"lost entity {actor.entity}")
    slack = delay + work.rules.view.max_view_backstep_s + work.rules.view.jitter_factor * clock.jitter_s
    before = actor.since - seen
    work.steps.append(Measure.CONTROL_GAINED.step(max(0.0, before), slack))
    return work.find("control_too_recent", before, slack) if before > slack else None
