"""Handling a weapon: taking it in hand, reloading, charging, breaking off."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.combat.events import WeaponEvent
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.work import Work
from tinclock.core.text import excerpt, excerpt_name

if TYPE_CHECKING:
    from tinclock.core.combat.held import Held
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Participant
    from tinclock.core.findings import Finding
    from tinclock.core.ruling.claims import WeaponActionClaim


def wield(actor: Participant, weapon: str, ledger: Ledger, now: float, *, at_once: bool) -> None:
    """Take another weapon in hand: what was under way with the old one is broken off, the new one gets drawn."""
    if weapon == actor.wielded:
        return
    old, new = actor.weapons.get(actor.wielded), actor.weapons[weapon]
    if old is not None:
        old.settle(now)
        old.put_away()
    actor.held_trigger = None
    actor.wielded = weapon
    fired_at = now if old is None else max(now, old.fire_rate.fired_at)
    new.drawn_at = now if at_once else fired_at + new.weapon.rules.draw_s
    ledger.bulletin.tell(WeaponEvent(ledger.bulletin.next, now, actor.entity, weapon))


class WeaponActionWork(Work):
    """A weapon that is handled. held : the weapon as its owner carries it."""

    held: Held

    @property
    def used(self) -> str:
        """The weapon's name."""
        held: Held | None = self.__dict__.get("held")
        return "" if held is None else held.weapon.name


def check_carried(claim: WeaponActionClaim, work: WeaponActionWork) -> Finding | None:
    """Find `unknown_weapon`, or `weapon_not_held` for one that isn't carried (draw) or isn't in hand (the rest)."""
    actor = work.actor
    work.steps.append(Measure.WEAPON.step(excerpt_name(claim.weapon), actor.wielded))
    if claim.weapon not in work.roster.weapons:
        return work.find("unknown_weapon", detail=excerpt(claim.weapon))
    held = actor.weapons.get(claim.weapon if claim.action == "draw" else actor.wielded)
    if held is None:
        return work.find("weapon_not_carried", detail=f"carries {', '.join(actor.weapons) or 'nothing'}")
    work.held = held
    if claim.action != "draw" and claim.weapon != actor.wielded:
        return work.find("weapon_not_held", detail=f"claimed {claim.weapon}, holds {actor.wielded}")
    return None


def check_sensible(claim: WeaponActionClaim, work: WeaponActionWork) -> Finding | None:
    """Find `no_effect`: a reload of a full magazine or without a reserve, a charge of what has none, a second draw."""
    held, now = work.held, work.received_at
    rules = held.weapon.rules
    reason = ""
    if claim.action == "reload" and not held.can_reload(now):
        reason = "nothing to reload"
    elif claim.action == "charge" and rules.charge_s == 0.0:
        reason = "this weapon has no charge"
    elif claim.action == "draw" and claim.weapon == work.actor.wielded:
        reason = "is in hand"
    work.steps.append(Measure.HANDLING.step(claim.action, reason or None))
    return work.find("no_effect", detail=reason) if reason else None


def commit_weapon_action(claim: WeaponActionClaim, work: WeaponActionWork) -> None:
    """Do it, on the server's clock."""
    held, now = work.held, work.received_at
    held.settle(now)
    match claim.action:
        case "draw":
            wield(work.actor, claim.weapon, work.ledger, now, at_once=False)
        case "reload":
            held.reload(now)
        case "charge":
            held.charge(now)
        case _:
            held.put_away()
