"""Whether the weapon can have fired: it exists, is held, loaded, drawn, charged and ready. Nothing is spent here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.held import NEVER
from tinclock.core.ruling.steps import Measure
from tinclock.core.text import excerpt

if TYPE_CHECKING:
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import LaunchClaim, ShotClaim, StrikeClaim, TriggerClaim
    from tinclock.core.ruling.work import AimedWork

    Firing = ShotClaim | LaunchClaim | StrikeClaim | TriggerClaim


def check_weapon(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `unknown_weapon` or `weapon_not_held`; works out the weapon that fires, which is the one that is held."""
    actor = work.actor
    wielded = actor.wielded
    held = actor.weapons.get(wielded)
    if held is not None:
        work.held, work.weapon = held, held.weapon
        if claim.weapon == wielded:
            work.steps.append(Measure.WEAPON.step(wielded, wielded))
            return None
    work.steps.append(Measure.WEAPON.step(excerpt_name(claim.weapon), wielded))
    if held is None:
        known = claim.weapon in work.roster.weapons
        return work.find("unarmed" if known else "unknown_weapon", detail=excerpt(claim.weapon))
    if claim.weapon not in work.roster.weapons:
        return work.find("unknown_weapon", detail=excerpt(claim.weapon))
    return work.find("weapon_not_held", detail=f"claimed {claim.weapon}, holds {actor.wielded}")


def excerpt_name(name: str) -> str:
    """A client's name for something, short and printable."""
    return name if len(name) <= 40 and name.isascii() and name.isprintable() else excerpt(name)


def _check_kind(work: AimedWork, kinds: frozenset[str], what: str) -> Finding | None:
    """Find `wrong_kind` for a weapon of another kind than these."""
    kind = work.weapon.rules.kind
    if kind in kinds:
        return None
    work.steps.append(Measure.KIND_OF_WEAPON.step(kind, " or ".join(sorted(kinds))))
    return work.find("wrong_kind", detail=f"{what} with a weapon of kind {kind}")


_RAYS, _FLIES, _REACHES = (frozenset(kinds) for kinds in (("hitscan", "pellets"), ("projectile",), ("reach",)))
_TRIGGERED = _RAYS | _FLIES


def check_shoots(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `wrong_kind` for a shot with a weapon that reaches or launches."""
    return _check_kind(work, _RAYS, "a shot")


def check_launches(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `wrong_kind` for a launch with a weapon whose shots don't fly."""
    return _check_kind(work, _FLIES, "a launch")


def check_fires(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `wrong_kind` for the trigger of a weapon that has none."""
    return _check_kind(work, _TRIGGERED, "a trigger")


def check_reaches(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `wrong_kind` for a blow with a weapon that shoots."""
    return _check_kind(work, _REACHES, "a blow")


def check_loaded(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `not_drawn`, `no_ammunition` or `reloading`, with the cadence's allowance for packets that bunch."""
    held, weapon = work.held, work.weapon
    if not weapon.encumbered:
        return None
    now, allowance = work.received_at, work.rules.cadence.allowance_s
    drawing = held.drawn_at - now
    if drawing > 0.0:
        work.steps.append(Measure.STILL_TO_DRAW_FOR.step(drawing, allowance))
        if drawing > allowance:
            return work.find("not_drawn", drawing, allowance)
    if held.magazine is None:
        return None
    rounds, under_way = held.rounds_at(now + allowance)[0] or 0, now + allowance < held.reload_ends < NEVER
    work.steps.append(Measure.MAGAZINE.step(float(rounds), 1.0))
    if rounds == 0:
        return work.find("no_ammunition", 0.0, 1.0, "reloading" if under_way else "")
    if under_way and not weapon.rules.reload_interruptible:
        left = held.reload_ends - now
        work.steps.append(Measure.STILL_TO_RELOAD_FOR.step(left, allowance))
        return work.find("reloading", left, allowance)
    return None


def check_cadence(claim: Firing, work: AimedWork) -> Finding | None:
    """Find `fast_cadence` when the weapon can't have been ready, allowance included."""
    cadence = work.held.cadence
    early, allowance = cadence.ready_at - work.received_at, work.rules.cadence.allowance_s
    waited = -early if early > -cadence.interval_s else cadence.interval_s
    work.steps.append(Measure.CADENCE.step(waited, -allowance))
    if early > allowance:
        return work.find("fast_cadence", early, allowance, f"interval {cadence.interval_s:g} s")
    return None


def check_charge(claim: ShotClaim, work: AimedWork) -> Finding | None:
    """Find `undercharged` or `overcharged`; works out the charge, the claimed one where there was time for it."""
    weapon, held = work.weapon, work.held
    if weapon.rules.charge_s == 0.0:
        return None
    full, least = weapon.rules.charge_s, weapon.rules.charge_least
    most = held.charge_at(work.received_at + work.rules.cadence.allowance_s)
    claimed = most if claim.charge is None else claim.charge
    work.charge = min(max(claimed, 0.0), most)
    work.steps.append(Measure.CHARGE.step(work.charge, least))
    if work.charge < least:
        return work.find("undercharged", work.charge, least, f"full after {full:g} s")
    return work.find("overcharged", claimed, most) if claimed > most else None
