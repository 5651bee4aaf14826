"""Result of a shot at another view, or by another cap: cast again, and nothing is changed by it."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.connections import Connection
from tinclock.core.combat.flights import Flights
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.roster import Participant, Roster
from tinclock.core.combat.weapons import Weapon
from tinclock.core.rules.actions import actions_of
from tinclock.core.rules.numbers import RuleNumbers
from tinclock.core.ruling.shot import ShotWork, cast_shot
from tinclock.core.ruling.work import World
from tinclock.core.text import called
from tinclock.core.timeline.cover import Cover
from tinclock.core.timeline.views import Interpolation, View

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.analysis.shot_scene import HistorySlice
    from tinclock.core.ruling.records import Ruling


class Otherwise(NamedTuple):
    """Hits of a shot's rays at another view.

    view, age_s : the view, and how long before the ruling it lies
    entity, part, distance_m : the first body on a ray's way, and the place; 0, "" and inf for nobody
    damage : points of the server's tables for all rays that meet that one, before friendly fire, armour and shields
    stopped_by : what stops the first ray, "" for nothing; reached_m : how far it goes
    """

    view: View
    age_s: float
    entity: int
    part: str
    distance_m: float
    damage: float
    stopped_by: str
    reached_m: float

    def describe(self, names: Mapping[int, str] | None = None) -> str:
        """In one sentence. names : what to call entities"""
        seen = f"Seen {1000.0 * self.age_s:.0f} ms before it arrived, the shot"
        if self.entity:
            part = self.part.replace("_", " ")
            return (
                f"{seen} meets the {part} of {called(self.entity, names)} after {self.distance_m:.1f} m: "
                f"{self.damage:g} points by the server's tables"
            )
        if self.stopped_by:
            return f"{seen} meets nobody: {self.stopped_by.replace('_', ' ')} stops it after {self.reached_m:.1f} m"
        return f"{seen} meets nobody within {self.reached_m:g} m"


def otherwise(past: HistorySlice, ruling: Ruling, view: View) -> Otherwise | None:
    """Cast a shot's rays again at another view; None for a ruling that isn't a shot, or holds no ray.

    past : the history around the ruling. Raises `OutOfHistoryError` where the view's ticks aren't held.
    """
    history, rules = past.history, past.rules
    table = rules.weapons.get(ruling.weapon)
    if ruling.kind != "shot" or table is None or ruling.origin is None or ruling.direction is None:
        return None
    actions = actions_of(rules)
    weapons = {ruling.weapon: Weapon(ruling.weapon, table)}
    world = World(
        rules, actions, history, past.level, Ledger(rules.match.health, rules.damage, rules.score),
        Roster(rules, weapons, 0), Flights(history, past.level), Cover(history, past.level),
        RuleNumbers(rules),
    )  # fmt: skip
    shooter = Participant(ruling.entity, "", "", "", ruling.connection, 0, 0.0)
    connection = Connection(ruling.connection, ruling.account, ruling.entity, Interpolation(), b"")
    work = ShotWork(world, connection, shooter, ruling.received_at)
    work.weapon, work.origin, work.view = weapons[ruling.weapon], ruling.origin, view
    work.view_time = history.time_of(view)
    work.slots = (history.slot_of(view.from_tick), history.slot_of(view.to_tick))
    ways = [ray.direction for ray in ruling.rays] or [ruling.direction]
    first: Otherwise | None = None
    met: Otherwise | None = None
    for way in ways:
        work.direction = way
        reached, stop = cast_shot(work)
        hit = work.hit
        entity, part, away, points = 0, "", float("inf"), 0.0
        if hit is not None:
            entity, part, away = hit.entity, hit.part.name, hit.distance_m
            points = work.kept * work.weapon.damage_at(hit.distance_m, hit.part.zone)
        one = Otherwise(
            view, ruling.received_at - work.view_time, entity, part, away, points,
            stop.name if stop is not None and not entity else "", reached,
        )  # fmt: skip
        first = first or one
        if entity and met is None:
            met = one
        elif met is not None and entity == met.entity:
            met = met._replace(damage=met.damage + points)
    return met or first
