"""Who acts is the connection, whatever the claim says: it acts for its own entity, or for one that it was given."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from tinclock.core.ruling.steps import Measure
from tinclock.core.timeline.bodies import last_eye

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.work import AimedWork, Work


class _Named(Protocol):
    @property
    def actor(self) -> int: ...


def check_sender(claim: _Named, work: Work) -> Finding | None:
    """Find `foreign_actor` when the claim names an entity that the connection neither acts for nor lately did.

    Works out the actor. Whether a change of control allows the claim is `check_tenure`'s, once the view is known.
    """
    own, name = work.actor, work.connection.name
    work.steps.append(Measure.SENDER.step(claim.actor, own.entity))
    if claim.actor == own.entity and own.connection == name:
        return None
    named = work.roster.actors.get(claim.actor)
    if named is not None and work.received_at - named.held_until(name) <= work.rules.match.history_s:
        work.actor = named
        return None
    return work.find("foreign_actor", detail=f"named entity {claim.actor}, owns {own.entity}")


def check_tenure(claim: _Named, work: Work) -> Finding | None:
    """Find `foreign_actor` or `not_yet_owner` where control changed hands: the claim is of the time of its screen.

    A player who lost control may still act on a screen from before; one who gained it can't have acted on one that
    showed the world an interpolation delay and a jitter earlier than the change.
    """
    actor, connection = work.actor, work.connection
    if not actor.tenures:
        return None
    clock, delay, seen = connection.clock, connection.drawing.interpolation_delay_s, work.seen_at()
    until = actor.held_until(connection.name)
    if until != float("inf"):
        work.steps.append(Measure.CONTROL_LOST.step(until - seen, 0.0))
        return None if seen < until else work.find("foreign_actor", detail=f"lost entity {actor.entity}")
    slack = delay + work.rules.view.order_allowance_s + work.rules.view.jitter_factor * clock.jitter_s
    before = actor.since - seen
    work.steps.append(Measure.CONTROL_GAINED.step(max(0.0, before), slack))
    return work.find("not_yet_owner", before, slack) if before > slack else None


def check_alive(claim: _Named, work: Work) -> Finding | None:
    """Find `dead_actor`."""
    if work.actor.entity in work.ledger.dead:
        work.steps.append(Measure.ACTOR.step("dead", "alive"))
        return work.find("dead_actor")
    work.steps.append(Measure.ACTOR.step("alive"))
    return None


def check_actor(claim: _Named, work: AimedWork) -> Finding | None:
    """Find `dead_actor` or `absent_actor`; works out the actor's eye as the server has it now.

    Inside the trade window a dead one's eye is where it was last; `check_trade` then looks at the view.
    """
    entity, history = work.actor.entity, work.history
    if entity in work.ledger.dead:
        window = work.rules.harm.trade_window_s
        since = work.received_at - work.ledger.died_at(entity)
        work.steps.append(Measure.DEAD_FOR.step(since, window))
        if since >= window:
            return work.find("dead_actor", since, window)
        work.posthumous, eye = True, last_eye(history, entity)
    else:
        eye = history.eye_now(entity)
    if eye is None:
        work.steps.append(Measure.ACTOR.step("absent", "present"))
        return work.find("absent_actor")
    work.eye = eye
    if not work.posthumous:
        work.steps.append(Measure.ACTOR.step("alive"))
    return None


def check_trade(claim: _Named, work: AimedWork) -> Finding | None:
    """Find `dead_actor` for one that died on its own screen before it acted."""
    if not work.posthumous:
        return None
    lead = work.ledger.died_at(work.actor.entity) - work.view_time
    work.steps.append(Measure.SEEN_BEFORE_ITS_DEATH_BY.step(lead, 0.0))
    return None if lead >= 0.0 else work.find("dead_actor", -lead, 0.0)
