"""Who acts is the connection, whatever the claim says: it acts for its own entity, or for one that it was given."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from tinclock.core.records import Step
from tinclock.core.timeline.bodies import last_eye

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding


class _Named(Protocol):
    @property
    def actor(self) -> int: ...


def check_sender(claim: _Named, context: Context) -> Finding | None:
    """Find `foreign_actor` when the claim names an entity that the connection neither acts for nor lately did.

    Works out the actor. Whether a change of control allows the claim is `check_tenure`'s, once the view is known.
    """
    own, name = context.actor, context.line.name
    context.steps.append(Step("sender", claim.actor, own.entity, "entity"))
    if claim.actor == own.entity and own.connection == name:
        return None
    named = context.roster.actors.get(claim.actor)
    if named is not None and context.received_at - named.held_until(name) <= context.rules.match.history_s:
        context.actor = named
        return None
    return context.find("foreign_actor", detail=f"named entity {claim.actor}, owns {own.entity}")


def check_tenure(claim: _Named, context: Context) -> Finding | None:
    """Find `foreign_actor` or `not_yet_owner` where control changed hands: the claim is of the time of its screen.

    Who lost control may still act on a screen from before; who gained it can't have acted on one that showed the world
    an interpolation delay and a jitter earlier than the change.
    """
    actor, line = context.actor, context.line
    if not actor.tenures:
        return None
    clock, delay = line.clock, line.drawing.interpolation_delay_s
    seen = context.view_time
    if seen is None:
        seen = context.received_at - (clock.round_trip_s + delay if clock.samples else 0.0)
    until = actor.held_until(line.name)
    if until != float("inf"):
        context.steps.append(Step("control lost", until - seen, 0.0, "s"))
        return None if seen < until else context.find("foreign_actor", detail=f"lost entity {actor.entity}")
    slack = delay + context.rules.view.order_allowance_s + context.rules.view.jitter_factor * clock.jitter_s
    before = actor.since - seen
    context.steps.append(Step("control gained", max(0.0, before), slack, "s"))
    return context.find("not_yet_owner", before, slack, "s") if before > slack else None


def check_alive(claim: _Named, context: Context) -> Finding | None:
    """Find `dead_actor`."""
    if context.actor.entity in context.ledger.dead:
        context.steps.append(Step("actor", "dead", "alive"))
        return context.find("dead_actor")
    context.steps.append(Step("actor", "alive"))
    return None


def check_actor(claim: _Named, context: Context) -> Finding | None:
    """Find `dead_actor` or `absent_actor`; works out the actor's eye as the server has it now.

    Inside the trade window a dead one's eye is where it was last; `check_trade` then looks at the view.
    """
    entity, history = context.actor.entity, context.history
    if entity in context.ledger.dead:
        window = context.rules.harm.trade_window_s
        since = context.received_at - context.ledger.died_at(entity)
        context.steps.append(Step("dead for", since, window, "s"))
        if since >= window:
            return context.find("dead_actor", since, window, "s")
        context.posthumous, context.eye = True, last_eye(history, entity)
    else:
        context.eye = history.eye_now(entity)
    if context.eye is None:
        context.steps.append(Step("actor", "absent", "present"))
        return context.find("absent_actor")
    if not context.posthumous:
        context.steps.append(Step("actor", "alive"))
    return None


def check_trade(claim: _Named, context: Context) -> Finding | None:
    """Find `dead_actor` for one that died on its own screen before it acted."""
    if not context.posthumous or context.view_time is None:
        return None
    lead = context.ledger.died_at(context.actor.entity) - context.view_time
    context.steps.append(Step("seen before its death by", lead, 0.0, "s"))
    return None if lead >= 0.0 else context.find("dead_actor", -lead, 0.0, "s")
