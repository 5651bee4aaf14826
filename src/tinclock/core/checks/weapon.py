"""Whether the shooter holds the weapon, and whether it can have fired again."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.checks.context import excerpt
from tinclock.core.combat.cadence import Cadence
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.records import Finding, ShotClaim


def check_weapon(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `unknown_weapon` or `weapon_not_held`; works out the weapon."""
    weapon = context.weapons.get(claim.weapon)
    name = excerpt(claim.weapon) if weapon is None else weapon.name
    context.steps.append(Step("weapon", name, context.actor.wielded))
    if weapon is None:
        return context.find("unknown_weapon", detail=excerpt(claim.weapon))
    if weapon.name != context.actor.wielded:
        context.weapon = context.weapons[context.actor.wielded]  # where this is forgiven, it fires what it holds
        return context.find("weapon_not_held", detail=f"claimed {weapon.name}, holds {context.actor.wielded}")
    context.weapon = weapon
    return None


def check_cadence(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `fast_cadence` when the weapon can't have been ready, allowance included; otherwise spends the shot."""
    weapon = context.weapon
    if weapon is None:  # pragma: no cover - a table that only notes unknown weapons still can't fire one
        return context.find("unknown_weapon")
    cadence = context.actor.cadence.get(weapon.name)
    if cadence is None:
        cadence = context.actor.cadence[weapon.name] = Cadence()
    early, allowance = cadence.ready_at - context.received_at, context.rules.cadence.allowance_s
    waited = -early if early > -weapon.interval_s else weapon.interval_s
    context.steps.append(Step("cadence", waited, -allowance, "s"))
    if early > allowance:
        return context.find("fast_cadence", early, allowance, "s", f"interval {weapon.interval_s:g} s")
    cadence.fire(context.received_at, weapon.interval_s)
    return None
