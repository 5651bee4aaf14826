"""Lethality of the tables: the hits that a weapon needs against a rig, and the time that they take."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.combat.held import NEVER, Held
from tinclock.core.combat.weapons import Weapon
from tinclock.core.errors import UnknownNameError
from tinclock.core.ruling.splash import falloff_at

if TYPE_CHECKING:
    from tinclock.core.rules.ruleset import Rules

MAX_HITS = 1000


class Lethality(NamedTuple):
    """One weapon against one zone of one rig, every shot a hit with all its pellets.

    distance_m : from the muzzle; damage : 0 out of range; hits : None when it can't kill
    seconds : from the first shot to the last
    """

    weapon: str
    rig: str
    zone: str
    distance_m: float
    damage: float
    hits: int | None
    seconds: float | None


def mortal_rigs(rules: Rules) -> list[str]:
    """The rigs that take damage, in the order of the rules."""
    return [name for name, rig in rules.rigs.items() if not rig.blocks_only]


def lethality(rules: Rules, rig: str, distance_m: float = 0.0) -> list[Lethality]:
    """Every weapon against every zone of a rig at full health and armour, in the order of the rules.

    Ammunition, reloads, bursts and charges count; damage that goes on afterwards doesn't. Raises `UnknownNameError`
    for a rig that isn't there.
    """
    if rig not in rules.rigs:
        raise UnknownNameError("rig", rig, rules.rigs)
    zones = dict.fromkeys(part.zone for part in rules.rigs[rig].parts)
    out = []
    for name, table in rules.weapons.items():
        weapon = Weapon(name, table)
        out += [_against(weapon, rules, rig, zone, distance_m) for zone in zones]
    return out


def _against(weapon: Weapon, rules: Rules, rig: str, zone: str, distance_m: float) -> Lethality:
    body, taking, table = rules.rigs[rig], rules.damage, weapon.rules
    splash = 0.0 if table.splash is None else table.splash.damage * falloff_at(table.splash, 0.0)
    splash += 0.0 if table.splash is None else table.splash.direct_bonus
    within = distance_m <= table.range_m
    damage = table.pellets * (weapon.damage_at(distance_m, zone) + splash) if within else 0.0
    covers = not body.armour_zones or zone in body.armour_zones
    share = taking.armour_fraction * (1.0 - table.armour_piercing) if covers else 0.0
    health, armour = body.health or rules.match.health, taking.armour
    held, now, began, hits = Held(weapon, b""), 0.0, 0.0, 0
    while health > 0.0 and damage > 0.0 and hits < MAX_HITS:
        if held.magazine == 0 and held.can_reload():
            held.reload(now)
        ready = held.ready_at()
        if ready == NEVER:
            break
        now = max(now + (table.charge_s if hits else 0.0), ready)
        held.settle(now)
        held.spend(now)
        began = began if hits else now
        hits += 1
        taken = min(armour, damage * share)
        armour -= taken
        health -= damage - taken
    killed = health <= 0.0 or math.isclose(health, 0.0, abs_tol=1e-9)
    return Lethality(
        weapon.name, rig, zone, distance_m, damage, hits if killed else None, now - began if killed else None
    )
