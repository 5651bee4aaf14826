"""Mistakes of a rules file that show only when its tables are held together, and what is legal but odd."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from tinclock.core.findings import FINDINGS
from tinclock.core.rules.plausible import implausible

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.rules.projectiles import ProjectileRules
    from tinclock.core.rules.rigs import RigRules
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.rules.weapons import ItemRules, WeaponRules


def contradictions(rules: Rules) -> list[str]:
    """One message for each mistake, with its key path."""
    problems = [f"{key}: at least one is needed" for key in ("rigs", "weapons") if not getattr(rules, key)]
    for name, weapon in rules.weapons.items():
        problems += [f"weapons.{name}.{problem}" for problem in _weapon(weapon)]
    for name, item in rules.items.items():
        problems += [f"items.{name}.{problem}" for problem in _item(item)]
    for name, rig in rules.rigs.items():
        zones = {part.zone for part in rig.parts}
        strange = [zone for zone in rig.armour_zones if zone not in zones]
        known = _list(zones)
        problems += [f"rigs.{name}.armour_zones: no part has zone {zone!r}; zones are {known}" for zone in strange]
    problems += _unknown_names(rules)
    rewind, history = rules.view.max_rewind_s, rules.match.history_s
    if rewind > history:
        problems.append(f"view.max_rewind_s: {rewind:g} is more than match.history_s {history:g}")
    if rules.damage.armour > rules.damage.max_armour:
        problems.append(
            f"damage.armour: {rules.damage.armour:g} is more than damage.max_armour {rules.damage.max_armour:g}"
        )
    return problems


def _unknown_names(rules: Rules) -> list[str]:
    """Find names of loadouts, phases, counters, weapons and items that no table has."""
    named: list[tuple[str, str, Mapping[str, object]]] = []
    for name, loadout in rules.loadouts.items():
        named += [(f"loadouts.{name}.weapons", one, rules.weapons) for one in loadout.weapons]
        named += [(f"loadouts.{name}.items", one, rules.items) for one in loadout.items]
    for table, entries in (("rigs", rules.rigs), ("teams", rules.teams)):
        named += [
            (f"{table}.{name}.loadout", one.loadout, rules.loadouts) for name, one in entries.items() if one.loadout
        ]
    for table, prices in (("weapons", rules.weapons), ("items", rules.items)):
        for name, each in prices.items():
            named += [(f"{table}.{name}.costs", one, rules.counters) for one in each.costs]
            named += [(f"{table}.{name}.requires", one, rules.counters) for one in each.requires]
    if rules.match.phase is not None:
        named.append(("match.phase", rules.match.phase, rules.phases))
    problems = [f"{key}: unknown {one!r}; there are {_list([*known])}" for key, one, known in named if one not in known]
    for name, counter in rules.counters.items():
        top = float("inf") if counter.max_value is None else counter.max_value
        if not counter.min_value <= counter.start <= top:
            problems.append(f"counters.{name}.start: {counter.start:g} is not between min_value and max_value")
    for code in rules.game_findings:
        if code in FINDINGS:
            problems.append(f"game_findings.{code}: is a finding of Tin Clock; give the game's own another name")
    for name, rig in rules.rigs.items():
        if rig.stances and rules.movement_of(name) is None:
            problems.append(f"rigs.{name}.stances: need [movement] or rigs.{name}.movement")
    return problems


def _weapon(weapon: WeaponRules) -> list[str]:
    """Contradictions inside one weapon's table."""
    return [*_of_its_kind(weapon), *_of_its_flight(weapon), *_of_its_numbers(weapon)]


def _of_its_kind(weapon: WeaponRules) -> list[str]:
    """Find keys that its kind needs or can't have."""
    out = []
    if weapon.kind != "projectile" and (weapon.pellets > 1) != (weapon.kind == "pellets"):
        out.append(
            f"pellets: is {weapon.pellets}, but kind is {weapon.kind!r}; several pellets and kind 'pellets' go together"
        )
    if weapon.kind != "melee":
        shot_only = {"radius_m": 0.0, "cone_deg": 0.0, "facing_deg": 180.0, "backstab_deg": None, "victims": 1}
        return [
            *out,
            *(f"{key}: only for kind 'reach'" for key, unset in shot_only.items() if getattr(weapon, key) != unset),
        ]
    if weapon.radius_m == 0.0 and weapon.cone_deg == 0.0:
        out.append("radius_m: a melee weapon needs radius_m or cone_deg above 0")
    out += [f"{key}: a melee weapon has none" for key in ("spread", "recoil", "burst") if getattr(weapon, key)]
    if weapon.penetration > 0.0:
        out.append("penetration: a melee weapon has none")
    if weapon.charge_s > 0.0:
        out.append("charge_s: a melee weapon has no charge")
    return out


def _of_its_flight(weapon: WeaponRules) -> list[str]:
    """Flight of a projectile, and its splash."""
    out, flies = [], weapon.kind == "projectile"
    if flies and weapon.penetration > 0.0:
        out.append('penetration: what flies doesn\'t pass the level; flight.on_body = "pass" is for bodies')
    if (weapon.projectile is not None) != flies:
        out.append("projectile: is needed for kind 'projectile', and only there")
    if weapon.splash is not None and not flies:
        out.append("splash: only for kind 'projectile'")
    if weapon.projectile is not None:
        out += [f"projectile.{problem}" for problem in _flight(weapon.projectile)]
    if weapon.splash is not None:
        distances = [distance for distance, _ in weapon.splash.falloff]
        if any(b <= a for a, b in pairwise(distances)):
            out.append(f"splash.falloff: distances must rise, got {distances}")
    return out


def _of_its_numbers(weapon: WeaponRules) -> list[str]:
    """Numbers that need others."""
    out = []
    distances = [distance for distance, _ in weapon.falloff]
    if any(b <= a for a, b in pairwise(distances)):
        out.append(f"falloff: distances must rise, got {distances}")
    if weapon.charge_s == 0.0 and weapon.min_charge_fraction != 1.0:
        out.append("min_charge_fraction: needs charge_s above 0")
    if weapon.burst is not None and weapon.burst.interval_s >= weapon.interval_s:
        out.append(f"burst.interval_s: {weapon.burst.interval_s:g} must be below interval_s {weapon.interval_s:g}")
    if weapon.magazine is None:
        no_effect = {"reserve": None, "reload_s": 0.0, "reload_interruptible": False, "reload_when_empty": False}
        out += [f"{key}: needs a magazine" for key, unset in no_effect.items() if getattr(weapon, key) != unset]
    if weapon.recoil is not None and not weapon.recoil.pattern_deg:
        out.append("recoil.pattern_deg: at least one entry is needed")
    return out


def _flight(flight: ProjectileRules) -> list[str]:
    out = []
    if flight.fuse_s is not None and flight.fuse_s > flight.lifetime_s:
        out.append(f"fuse_s: {flight.fuse_s:g} is longer than lifetime_s {flight.lifetime_s:g}")
    if flight.proximity_fuse_m is not None and flight.proximity_fuse_m <= flight.radius_m:
        out.append(f"proximity_fuse_m: {flight.proximity_fuse_m:g} must be more than radius_m {flight.radius_m:g}")
    if (flight.thrust_m_s2 > 0.0) != (flight.thrust_s > 0.0):
        out.append("thrust_s: thrust_m_s2 and thrust_s go together")
    if flight.turn_deg_per_s > 0.0:
        forces = ("gravity_m_s2", "drag_per_m", "thrust_m_s2")
        out += [f"{key}: must be 0 for what homes (turn_deg_per_s)" for key in forces if getattr(flight, key) != 0.0]
    if flight.drag_per_m == 0.0 and any(flight.wind_m_s):
        out.append("wind_m_s: is felt only with drag_per_m")
    return out


def _item(item: ItemRules) -> list[str]:
    out = []
    if item.effect in ("shield", "boost") and item.duration_s == 0.0:
        out.append(f"duration_s: effect {item.effect!r} needs a time above 0")
    if item.effect != "shield" and item.amount == 0.0:
        out.append(f"amount: effect {item.effect!r} needs an amount above 0")
    if item.effect == "ammunition" and item.amount != int(item.amount):
        out.append(f"amount: effect 'ammunition' needs a whole number, got {item.amount:g}")
    return out


def carried_by_all(rules: Rules) -> dict[str, list[str]]:
    """Return what every player carries: weapons and items with `for_clients`, where no loadout decides."""
    open_rigs = [rig for rig in rules.rigs.values() if rig.eye is not None and rig.loadout is None]
    if not open_rigs:
        return {"weapons": [], "items": []}
    tables: dict[str, Mapping[str, WeaponRules | ItemRules]] = {"weapons": rules.weapons, "items": rules.items}
    return {table: [name for name, one in entries.items() if one.for_clients] for table, entries in tables.items()}


def unusual_rules(rules: Rules) -> list[str]:
    """Return legal values that are hardly meant, with their key paths."""
    out = []
    zones = {part.zone for rig in rules.rigs.values() if not rig.blocks_only for part in rig.parts}
    for name, weapon in rules.weapons.items():
        out += [f"weapons.{name}.{odd}" for odd in _odd_weapon(weapon, zones, rules)]
    out += [f"rigs.{name}.{odd}" for name, rig in rules.rigs.items() for odd in _odd_rig(rig)]
    mortal = [rig for rig in rules.rigs.values() if not rig.blocks_only]
    if rules.rigs and not mortal:
        out.append("rigs: all of them only block; nobody can be hit")
    stretch = rules.match.snapshot_every / rules.match.tick_rate_hz
    if rules.view.max_rewind_s < 2.0 * stretch:
        out.append(
            f"view.max_rewind_s: {rules.view.max_rewind_s:g} is less than two snapshots ({2.0 * stretch:g} s), "
            "the least interpolation delay: even without a network every view is past it"
        )
    if rules.match.history_s < rules.view.max_rewind_s + 2.0 * stretch:
        out.append(
            f"match.history_s: {rules.match.history_s:g} leaves less than two snapshots beyond view.max_rewind_s "
            f"{rules.view.max_rewind_s:g}: views near the cap may no longer be held"
        )
    if rules.damage.friendly_fire == "none" and rules.score.own_team_kill != -100.0:
        out.append("score.own_team_kill: is set, but damage.friendly_fire is 'none'")
    if rules.damage.friendly_fire != "none" and rules.damage.friendly_fraction == 0.0:
        out.append(f"damage.friendly_fraction: 0 makes friendly_fire {rules.damage.friendly_fire!r} the same as 'none'")
    return [*out, *implausible(rules)]


def _odd_rig(rig: RigRules) -> list[str]:
    """Half turns of boxes: they do nothing that a smaller turn wouldn't, but are what wxyz looks like, read as xyzw."""
    return [
        f"parts[{place}] ({part.name}).rotation: {list(part.rotation)} is half a turn; is it meant as wxyz? "
        f"Write xyzw, the real part last: {[*part.rotation[1:], part.rotation[0]]}"
        for place, part in enumerate(rig.parts)
        if part.shape == "box" and abs(part.rotation[3]) < 1e-3 and abs(part.rotation[0]) > 0.5
    ]


def _odd_weapon(weapon: WeaponRules, zones: set[str], rules: Rules) -> list[str]:
    return [*_odd_damage(weapon, zones, rules), *_odd_zones(weapon, zones), *_odd_timing(weapon, rules)]


def _odd_damage(weapon: WeaponRules, zones: set[str], rules: Rules) -> list[str]:
    out = []
    factors = [factor for _, factor in weapon.falloff]
    if any(b > a for a, b in pairwise(factors)):
        out.append(f"falloff: rises with distance, {factors}")
    if weapon.falloff and weapon.falloff[0][0] > weapon.range_m:
        out.append(f"falloff: begins at {weapon.falloff[0][0]:g} m, beyond range_m {weapon.range_m:g}")
    if weapon.splash is not None and any(b[1] > a[1] for a, b in pairwise(weapon.splash.falloff)):
        out.append("splash.falloff: rises with distance")
    if weapon.damage == 0.0 and weapon.damage_over_time is None and weapon.splash is None:
        out.append("damage: 0: it can't kill")
    elif weapon.magazine is not None and weapon.reserve is not None:
        rounds, most = weapon.magazine + weapon.reserve, _most_damage(weapon, zones)
        if most < rules.match.health:
            out.append(
                f"damage: all {rounds} shots at best do {most:g} of {rules.match.health:g} points: it can't kill"
            )
    return out


def _most_damage(weapon: WeaponRules, zones: set[str]) -> float:
    """Maximum damage of all rounds of a weapon, in points."""
    rounds = (weapon.magazine or 0) + (weapon.reserve or 0)
    best = max([weapon.zones.get(zone, 1.0) for zone in zones], default=1.0)
    best *= max([1.0, *(factor for _, factor in weapon.falloff)])
    lasting = 0.0 if weapon.damage_over_time is None else weapon.damage_over_time.damage * weapon.damage_over_time.times
    splash = 0.0 if weapon.splash is None else weapon.splash.damage + weapon.splash.direct_bonus
    return rounds * (weapon.pellets * (weapon.damage * best + splash) + lasting)


def _odd_zones(weapon: WeaponRules, zones: set[str]) -> list[str]:
    strange, bare = sorted(set(weapon.zones) - zones), sorted(zones - set(weapon.zones))
    out = [f"zones.{zone}: no rig has this zone; zones are {_list(zones)}" for zone in strange]
    return [*out, f"zones: {_list(bare)} not listed; counts 1"] if weapon.zones and bare else out


def _odd_timing(weapon: WeaponRules, rules: Rules) -> list[str]:
    out = []
    if weapon.spread is not None and weapon.spread.per_shot_deg > 0.0 and weapon.spread.recovery_deg_per_s == 0.0:
        out.append("spread.recovery_deg_per_s: 0: the spread grows to max_deg and never comes back")
    if weapon.burst is not None and weapon.magazine is not None and weapon.burst.shots > weapon.magazine:
        out.append(f"burst.shots: {weapon.burst.shots} is more than magazine {weapon.magazine}")
    if weapon.reload_s == 0.0 and weapon.magazine is not None and weapon.reserve != 0:
        out.append("reload_s: 0: reloading takes no time")
    if 0.0 < weapon.interval_s < rules.fire_rate.tolerance_s / 4.0:
        out.append(
            f"interval_s: {weapon.interval_s:g} is short against "
            f"fire_rate.tolerance_s {rules.fire_rate.tolerance_s:g}: "
            f"a burst of {int(rules.fire_rate.tolerance_s / weapon.interval_s)} extra shots passes"
        )
    return out


def _list(names: set[str] | list[str]) -> str:
    return ", ".join(sorted(names))
