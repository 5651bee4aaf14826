"""Other rules for a match that runs: what can't change is refused, everything else holds from the next tick on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from tinclock.core.combat.events import RulesEvent
from tinclock.core.combat.weapons import Weapon
from tinclock.core.errors import RulesError
from tinclock.core.rules.actions import actions_of
from tinclock.core.rules.client_rules import client_rules
from tinclock.core.rules.contradictions import contradictions

if TYPE_CHECKING:
    from tinclock.core.combat.roster import Participant
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.checking import Checking
    from tinclock.core.ruling.work import World

KEPT_OF_MATCH: Final = ("tick_rate_hz", "snapshot_every", "history_s", "zone_depth_m", "mode", "rejoin")
"""Settings that the history, and every client that draws from it, was made for."""


def require_changeable(world: World, new: Rules) -> None:
    """Raise `RulesError` for rules that contradict themselves, or that a running match can't change to."""
    old, problems = world.rules, contradictions(new)
    for key in KEPT_OF_MATCH:
        was, would = getattr(old.match, key), getattr(new.match, key)
        if was != would:
            problems.append(f"match.{key}: is {was!r} and can't become {would!r} while a match runs")
    for rig in sorted({*old.rigs, *new.rigs}):
        if old.rigs.get(rig) != new.rigs.get(rig):
            problems.append(f"rigs.{rig}: differs; the history holds bodies of the rigs that the match began with")
    carried = {name for actor in world.roster.actors.values() for name in actor.weapons}
    carried |= {one.weapon.name for one in world.flights.live.values()}
    for name in sorted(carried - {*new.weapons}):
        problems.append(f"weapons.{name}: somebody carries it, or it is in the air")
    gone = [f"counters.{name}" for name in sorted({*old.counters} ^ {*new.counters})]
    if world.ledger.phase and world.ledger.phase not in new.phases:
        gone.append(f"phases.{world.ledger.phase}")
    problems += [f"{key}: can't be added or removed while a match runs" for key in gone]
    owned = {name for actor in world.roster.actors.values() for name in actor.items}
    problems += [f"items.{name}: somebody has it" for name in sorted(owned - {*new.items})]
    if problems:
        raise RulesError("rules", problems)
    actions_of(new)


def change_rules(world: World, checking: Checking, new: Rules, now: float) -> World:
    """Let other rules hold from now on, and tell everybody; returns the world with them.

    Magazines, stocks and everything under way stay, cut down to what the new rules allow; what is in the air goes on as
    it was launched. Lives go on with the health that they have.
    """
    actions = actions_of(new)
    changed = world._replace(rules=new, actions=actions)
    roster, ledger = world.roster, world.ledger
    roster.rules, ledger.full_health, ledger.damage, ledger.points = new, new.match.health, new.damage, new.score
    ledger.scores.led_by, ledger.counter_rules = new.score.leader, new.counters
    zones, weapons = world.history.columns.zones, {}
    for name, table in new.weapons.items():
        weapons[name] = weapon = Weapon(name, table, enforced=ledger.enforces)
        weapon.aim_at(zones)
    roster.weapons = weapons
    for actor in roster.actors.values():
        _refit(actor, weapons, new)
    for connection in roster.connections.values():
        connection.quick = None
    world.numbers.take(new)
    checking.weigh_by(actions)
    bulletin = ledger.bulletin
    bulletin.tell(RulesEvent(bulletin.next, now, 0, client_rules(new).digests))
    return changed


def _refit(actor: Participant, weapons: dict[str, Weapon], new: Rules) -> None:
    for name, held in actor.weapons.items():
        held.take(weapons[name])
    for name, stock in actor.items.items():
        stock.rules = new.items[name]
        stock.count = min(stock.count, stock.rules.count)
