"""Entities that come in: new ones, and those of accounts that come back."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.events import JoinedEvent
from tinclock.core.combat.held import Held
from tinclock.core.combat.roster import require_name
from tinclock.core.errors import UnknownNameError

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.ruling.pipeline import ClaimPipeline


class Entrant(NamedTuple):
    """Somebody who comes in, as the server says it.

    connection : "" for what nobody plays; weapons : None for those of its loadout; weapon : in hand, None for the first
    """

    rig: str
    team: str
    name: str
    connection: str
    weapons: tuple[str, ...] | None
    weapon: str | None
    loadout: str | None = None


def require_sound(match: ClaimPipeline, entrant: Entrant) -> None:
    """Raise `UnknownNameError` or `BadNameError` for names that the match doesn't have or can't keep."""
    require_name("name", entrant.name), require_name("team", entrant.team)
    if entrant.rig not in match.history.rigs:
        raise UnknownNameError("rig", entrant.rig, match.history.rigs)
    own, _ = match.roster.loadout_of(entrant.team, entrant.rig, entrant.loadout)
    carried = own if entrant.weapons is None else entrant.weapons
    for name in (*carried, *([entrant.weapon] if entrant.weapon else [])):
        match.roster.require_weapon(name)
    if entrant.weapon and entrant.weapon not in carried:
        raise UnknownNameError("carried weapon", entrant.weapon, carried)


def enter(match: ClaimPipeline, entrant: Entrant, now: float) -> Participant:
    """Issue the next id to an entity, alive from now on."""
    roster, ledger, is_player = match.roster, match.ledger, bool(entrant.connection)
    actor = roster.enter(
        name=entrant.name, team=entrant.team, rig=entrant.rig, connection=entrant.connection, carried=entrant.weapons,
        wielded=entrant.weapon, now=now, loadout=entrant.loadout,
    )  # fmt: skip
    match.history.add(actor.entity, actor.rig)
    match.enter(actor)
    body, shape = roster.rules.rigs[actor.rig], match.history.rigs[actor.rig]
    if shape.has_eye:
        actor.look_from(shape.eye_bone, shape.eye_at)
    ledger.open(
        actor.entity, body.health, name=actor.name if is_player else None, team=actor.team, kill_score=body.kill_score,
        body=actor,
    )  # fmt: skip
    told = JoinedEvent(
        ledger.bulletin.next, now, actor.entity, actor.rig, actor.name, actor.team, actor.wielded, is_player
    )
    ledger.bulletin.tell(told)
    ledger.spawn(actor.entity, now)
    return actor


def come_back(match: ClaimPipeline, account: str, entrant: Entrant, now: float) -> Participant | None:
    """Let an account continue with the entity that it left, in the state in which it left it; None for a stranger."""
    roster, ledger = match.roster, match.ledger
    found = roster.departed(account, entrant.rig)
    if found is None:
        return None
    actor, departed = found
    if entrant.weapons is not None:
        carried = {name: actor.weapons.get(name) or actor.taken.pop(name, None) for name in entrant.weapons}
        actor.weapons = {name: held or Held(roster.weapons[name], actor.key) for name, held in carried.items()}
    roster.come_back(actor, entrant.connection, entrant.name, entrant.team, now)
    wanted = entrant.weapon or actor.wielded
    actor.wielded = wanted if wanted in actor.weapons else next(iter(actor.weapons), "")
    match.history.add(actor.entity, actor.rig)
    match.enter(actor)
    books = departed.account
    ledger.bulletin.tell(
        JoinedEvent(
            ledger.bulletin.next, now, actor.entity, actor.rig, actor.name, actor.team, actor.wielded, True, books.life,
            books.alive, books.health, books.armour,
        )
    )  # fmt: skip
    ledger.reopen(actor.entity, departed, entrant.name, entrant.team, now)
    return actor
