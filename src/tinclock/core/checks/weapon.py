"""Whether the weapon can have fired: it exists, is held, loaded, drawn, charged and ready. Nothing is spent here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.checks.context import excerpt
from tinclock.core.combat.held import NEVER
from tinclock.core.records import Step

if TYPE_CHECKING:
    from tinclock.core.checks.context import Context
    from tinclock.core.claims import LaunchClaim, ShotClaim, StrikeClaim, TriggerClaim
    from tinclock.core.records import Finding

    Firing = ShotClaim | LaunchClaim | StrikeClaim | TriggerClaim


def check_weapon(claim: Firing, context: Context) -> Finding | None:
    """Find `unknown_weapon` or `weapon_not_held`; works out the weapon that fires, which is the one that is held."""
    actor = context.actor
    wielded = actor.wielded
    held = context.held = actor.weapons.get(wielded)
    if held is not None:
        context.weapon = held.weapon
        if claim.weapon == wielded:
            context.steps.append(Step("weapon", wielded, wielded))
            return None
    context.steps.append(Step("weapon", excerpt_name(claim.weapon), wielded))
    if held is None:
        known = claim.weapon in context.roster.weapons
        return context.find("unarmed" if known else "unknown_weapon", detail=excerpt(claim.weapon))
    if claim.weapon not in context.roster.weapons:
        return context.find("unknown_weapon", detail=excerpt(claim.weapon))
    return context.find("weapon_not_held", detail=f"claimed {claim.weapon}, holds {actor.wielded}")


def excerpt_name(name: str) -> str:
    """A client's name for something, short and printable."""
    return name if len(name) <= 40 and name.isascii() and name.isprintable() else excerpt(name)


def _check_kind(context: Context, kinds: frozenset[str], what: str) -> Finding | None:
    """Find `wrong_kind` for a weapon of another kind than these."""
    kind = "none" if context.weapon is None else context.weapon.rules.kind
    if kind in kinds:
        return None
    context.steps.append(Step("kind of weapon", kind, " or ".join(sorted(kinds))))
    return context.find("wrong_kind", detail=f"{what} with a weapon of kind {kind}")


_RAYS, _FLIES, _REACHES = (frozenset(kinds) for kinds in (("hitscan", "pellets"), ("projectile",), ("reach",)))
_TRIGGERED = _RAYS | _FLIES


def check_shoots(claim: Firing, context: Context) -> Finding | None:
    """Find `wrong_kind` for a shot with a weapon that reaches or launches."""
    return _check_kind(context, _RAYS, "a shot")


def check_launches(claim: Firing, context: Context) -> Finding | None:
    """Find `wrong_kind` for a launch with a weapon whose shots don't fly."""
    return _check_kind(context, _FLIES, "a launch")


def check_fires(claim: Firing, context: Context) -> Finding | None:
    """Find `wrong_kind` for the trigger of a weapon that has none."""
    return _check_kind(context, _TRIGGERED, "a trigger")


def check_reaches(claim: Firing, context: Context) -> Finding | None:
    """Find `wrong_kind` for a blow with a weapon that shoots."""
    return _check_kind(context, _REACHES, "a blow")


def check_loaded(claim: Firing, context: Context) -> Finding | None:
    """Find `not_drawn`, `no_ammunition` or `reloading`, with the cadence's allowance for packets that bunch."""
    held, weapon = context.held, context.weapon
    if held is None or weapon is None or not weapon.encumbered:
        return None
    now, allowance = context.received_at, context.rules.cadence.allowance_s
    drawing = held.drawn_at - now
    if drawing > 0.0:
        context.steps.append(Step("still to draw for", drawing, allowance, "s"))
        if drawing > allowance:
            return context.find("not_drawn", drawing, allowance, "s")
    if held.magazine is None:
        return None
    rounds, under_way = held.rounds_at(now + allowance)[0] or 0, now + allowance < held.reload_ends < NEVER
    context.steps.append(Step("magazine", float(rounds), 1.0, "shots"))
    if rounds == 0:
        return context.find("no_ammunition", 0.0, 1.0, "shots", "reloading" if under_way else "")
    if under_way and not weapon.rules.reload_interruptible:
        left = held.reload_ends - now
        context.steps.append(Step("still to reload for", left, allowance, "s"))
        return context.find("reloading", left, allowance, "s")
    return None


def check_cadence(claim: Firing, context: Context) -> Finding | None:
    """Find `fast_cadence` when the weapon can't have been ready, allowance included."""
    held = context.held
    if held is None:
        return None
    cadence = held.cadence
    early, allowance = cadence.ready_at - context.received_at, context.rules.cadence.allowance_s
    waited = -early if early > -cadence.interval_s else cadence.interval_s
    context.steps.append(Step("cadence", waited, -allowance, "s"))
    if early > allowance:
        return context.find("fast_cadence", early, allowance, "s", f"interval {cadence.interval_s:g} s")
    return None


def check_charge(claim: ShotClaim, context: Context) -> Finding | None:
    """Find `undercharged` or `overcharged`; works out the charge, the claimed one where there was time for it."""
    weapon, held = context.weapon, context.held
    if weapon is None or held is None or weapon.rules.charge_s == 0.0:
        return None
    full, least = weapon.rules.charge_s, weapon.rules.charge_least
    most = held.charge_at(context.received_at + context.rules.cadence.allowance_s)
    claimed = most if claim.charge is None else claim.charge
    context.charge = min(max(claimed, 0.0), most)
    context.steps.append(Step("charge", context.charge, least))
    if context.charge < least:
        return context.find("undercharged", context.charge, least, "", f"full after {full:g} s")
    return context.find("overcharged", claimed, most, "") if claimed > most else None
