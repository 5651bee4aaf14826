"""Findings and traces in plain words, for the server's own people. Nothing here is ever sent to a client."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.records import Event, Finding, Ruling, Step

CODES: dict[str, str] = {
    "unknown_connection": "the connection is not admitted (it left, or never joined)",
    "spectator": "a spectator claims something",
    "foreign_actor": "the claim names an entity that the sender doesn't act for",
    "not_yet_owner": "the screen of this claim is from before its sender had control",
    "malformed": "the claim is not well formed",
    "flooded": "more messages came than a client can have to say; the rest was dropped",
    "repeated_sequence": "this sequence number was ruled before; the first ruling stands",
    "stale_sequence": "the sequence number is too old to be ruled",
    "skipped_sequence": "the sequence number is too far ahead of the last one",
    "dead_actor": "the actor was not alive",
    "absent_actor": "the server has no pose of the actor",
    "unknown_weapon": "no such weapon",
    "unarmed": "the actor carries no such weapon",
    "weapon_not_held": "the actor does not hold this weapon",
    "wrong_kind": "this kind of weapon doesn't do that",
    "not_drawn": "the weapon was still being drawn",
    "reloading": "the weapon was still being reloaded",
    "no_ammunition": "the magazine was empty",
    "fast_cadence": "shots come faster than the weapon fires",
    "undercharged": "the weapon was not charged enough",
    "overcharged": "more charge is claimed than there was time for; ruled with what there was",
    "shots_skipped": "the number of this shot is not the next one; its spread is the server's own",
    "not_facing": "the blow goes where the body doesn't face",
    "unknown_projectile": "no such projectile, or one that is long gone",
    "foreign_projectile": "the projectile is somebody else's",
    "flight_over": "the projectile had ended before",
    "no_impact": "the server's own flight hit nobody then",
    "impact_time_differs": "the impact is claimed at another time; the server's own stands",
    "impact_place_differs": "the impact is claimed at another place; the server's own stands",
    "unknown_item": "no such item, or the actor carries none",
    "item_spent": "none of this item is left",
    "item_cooling": "the item was not ready again",
    "target_far": "the target is no team-mate within reach",
    "needless": "it would change nothing",
    "moves_not_ruled": "clients don't report moves here: there is no [movement], or the body was never put anywhere",
    "stale_move": "the report is not newer than the last one",
    "fast_clock": "more time is claimed than there was; cut down",
    "push_too_long": "the input is longer than an input can be",
    "teleport": "the body leapt; it stays where it was",
    "too_fast": "the body moved further than it can; cut down",
    "too_sharp": "the body changed its velocity by more than it can; cut down",
    "through_wall": "the way goes through the level; stopped there",
    "health_differs": "the client believes in a health that it never had lately",
    "armour_differs": "the client believes in an armour that it never had lately",
    "ammunition_differs": "the client believes in more ammunition than there is",
    "position_differs": "the client believes that it is where it can't be",
    "direction_not_unit": "the direction is not a unit vector",
    "muzzle_far": "the shot starts too far from the shooter's eye",
    "muzzle_blocked": "a wall stands between the shooter's eye and where the shot starts",
    "view_unknown": "the view names snapshots that this client was never sent",
    "view_ahead": "the view is newer than anything that can have reached the client",
    "view_late": "the view is older than the connection explains",
    "view_capped": "the view is older than max_rewind_s; ruled at that age",
    "view_backwards": "the view lies before the one of an earlier claim",
    "damage_differs": "the claimed damage is not what the weapon does",
    "victim_differs": "the claimed victim is not who was hit",
    "part_differs": "the claimed part is not the one that was hit",
}

_STEPS: dict[str, tuple[str, str]] = {
    "sender": ("acts as", "is"),
    "fields": ("the claim is", "must be"),
    "form": ("length of the direction", "must be"),
    "sequence": ("sequence number", "next is"),
    "actor": ("the actor is", "must be"),
    "dead for": ("the actor has been dead for", "trade window"),
    "seen before its death by": ("the view lies before its death by", "at least"),
    "control lost": ("the view lies before control was lost", "at least"),
    "control gained": ("the view lies before control was gained", "at most"),
    "kind of weapon": ("kind of weapon", "must be"),
    "still to draw for": ("still to be drawn for", "at most"),
    "still to reload for": ("still to be reloaded for", "at most"),
    "magazine": ("in the magazine", "at least"),
    "charge": ("charge", "at least"),
    "spread": ("spread around the aim, half angle", ""),
    "aim off the body's facing": ("aim lies off the body's facing by", "at most"),
    "in reach": ("in reach", "part"),
    "nobody reached within": ("the blow reached nobody within", ""),
    "nobody hit within": ("the shot hit nobody within", ""),
    "blow stopped by": ("something solid is in between", ""),
    "victim's back": ("the victim's back", "must be"),
    "launched": ("launched", "compensation"),
    "flown for": ("had flown for", ""),
    "flight ends": ("the flight ends:", ""),
    "level met": ("met the level", ""),
    "bounced": ("came off the level", ""),
    "body met": ("met", "part"),
    "harm": ("harm", "at most"),
    "in the splash": ("in the splash", "off its middle by"),
    "seen from the burst": ("share of it that is in sight", "of"),
    "set off": ("sets off projectile", "by"),
    "projectile": ("projectile", "issued so far"),
    "flight was over at": ("flight was over at", "claimed at"),
    "impact of the server's own": ("impact of the server's own", "claimed"),
    "impact ahead of the poses by": ("impact lies ahead of the poses by", ""),
    "impact off in time by": ("impact off in time by", "at most"),
    "impact off in place by": ("impact off in place by", "at most"),
    "item": ("item", ""),
    "items left": ("left of it", "at least"),
    "item cools for": ("ready again in", "at most"),
    "target": ("target at", "at most"),
    "effect": ("effect", "of"),
    "handling": ("does", "but"),
    "trigger": ("trigger", ""),
    "behind the server's clock by": ("behind the server's clock by", "at most"),
    "move": ("moves are", ""),
    "push": ("length of the input", "at most"),
    "time since the last report": ("time since the last report", "at most"),
    "leap": ("away from the last place", "at most"),
    "way over ground": ("way over ground", "at most"),
    "way upright": ("way up or down", "at most"),
    "change of velocity": ("change of velocity", "at most"),
    "wall on the way": ("first wall on the way", "of"),
    "accepted way": ("way that was accepted", ""),
    "believed health": ("believes in a health of", "nearest lately"),
    "believed armour": ("believes in an armour of", "nearest lately"),
    "believed ammunition": ("believes in rounds", "nearest possible"),
    "believed place off by": ("believes in a place off by", "at most"),
    "weapon": ("weapon", "holds"),
    "cadence": ("weapon had been ready for", "at least"),
    "view": ("age of the view", "at most"),
    "snapshot sent after admission": ("its snapshot was sent after admission by", "at least"),
    "view order": ("view lies before an earlier one by", "at most"),
    "newest snapshot": ("newest snapshot of the view", "newest recorded"),
    "since the snapshot was sent": ("since the snapshot was sent", "at least"),
    "muzzle wall": ("first wall from the eye at", "clear for"),
    "cover": ("stopped at", "by"),
    "cover met": ("met", ""),
    "passed": ("passed through", "of"),
    "muzzle": ("shot starts from the eye at", "at most"),
    "level": ("stopped by the level at", "surface"),
    "rewind": ("hit at the view", "part"),
    "victim": ("the victim is now", ""),
    "damage": ("damage by the server's table", ""),
    "claimed damage": ("claimed damage", "weapon's most"),
    "claimed victim": ("claimed victim", "found"),
    "claimed part": ("claimed part", "found"),
}
"""What a step measures, and how its limit is meant."""


def printable(text: str) -> str:
    """A stranger's text as a terminal may show it: control characters, ends of lines and marks that turn the direction
    of writing are written out.
    """
    return text if text.isprintable() else "".join(c if c.isprintable() else ascii(c)[1:-1] for c in text)


def printable_lines(text: str) -> str:
    """The same for text of several lines of our own."""
    return "\n".join(map(printable, text.split("\n")))


_MARKS = {"ok": " ", "note": "~", "amend": "*", "deny": "x"}


def amount(value: float | str | None, unit: str) -> str:
    """A measured value as text, in the unit that people read it in."""
    if value is None:
        return "-"
    if isinstance(value, str):
        return printable(value)
    if math.isinf(value):
        return "unlimited"
    if unit == "entity":
        return f"entity {value:g}"
    if unit == "s":
        return f"{value * 1000.0:.1f} ms"
    if unit == "rad":
        return f"{math.degrees(value):.2f} degrees"
    if unit == "deg":
        return f"{value:.1f} degrees"
    number = f"{value:.3f}".rstrip("0").rstrip(".") if unit != "" else f"{value:g}"
    return f"{number} {unit}".rstrip()


def explain_step(step: Step) -> str:
    """One line: mark, what, measured, limit."""
    name, relation = _STEPS.get(step.name, (step.name, "limit"))
    limit = "" if step.limit is None else f"({relation} {amount(step.limit, step.unit)})"
    return f"{_MARKS[step.verdict]} {name:<35} {amount(step.observed, step.unit):<27} {limit}".rstrip()


def explain_event(event: Event, names: Mapping[int, str] | None = None) -> str:
    """An event as a sentence; `names` says what to call entities."""
    who = _name(event.entity, names) if event.entity else printable(event.team) or "nobody"
    by = "" if event.actor in (None, event.entity) else f" by {_name(event.actor or 0, names)}"
    how = "".join(f" ({text})" for text in (", ".join(filter(None, (event.weapon, event.part))),) if text)
    change = "" if event.before is None or event.after is None else f" {event.before:g} -> {event.after:g}"
    text = {
        "joined": f"{who} joins{f' team {printable(event.team)}' if event.team else ''} as {event.rig}",
        "left": f"{who} is gone",
        "spawn": f"{who} begins life {event.life} with health {event.after or 0:g}",
        "health": f"health of {who}{change}{by}{how}, {event.cause}",
        "armour": f"armour of {who}{change}{by}{how}, {event.cause}",
        "death": f"{who} dies{by}{how}, {event.cause}",
        "effect": f"{who} {_effect(event)}, {event.cause}",
        "weapon": f"{who} holds {event.weapon}",
        "control": f"{who} is acted for{by if by else ' by its own'}",
        "score": f"{event.what} of {who}{change}, {event.cause}",
        "leader": f"{who} leads",
        "launch": f"{who} launches projectile {event.projectile}{how}",
        "guide": f"projectile {event.projectile} of {who} follows {_name(event.actor or 0, names)}",
        "end": f"projectile {event.projectile} of {who} ends{how}, {event.cause}{_end(event, names)}",
    }[event.kind]
    return f"{event.number:>5} {event.server_time:8.3f} s  {text}"


def _end(event: Event, names: Mapping[int, str] | None) -> str:
    if event.victim is not None:
        return f" of {_name(event.victim, names)}"
    return f": {event.what}" if event.what else ""


def _effect(event: Event) -> str:
    until = event.until or 0.0
    return f"has its {event.what} until {until:.2f} s" if until > event.server_time else f"loses its {event.what}"


def _name(entity: int, names: Mapping[int, str] | None) -> str:
    return printable((names or {}).get(entity) or f"entity {entity}")


def explain_finding(finding: Finding) -> str:
    """A finding as a sentence, with what was measured."""
    text = CODES.get(finding.code, finding.code)
    if finding.observed is not None and finding.limit is not None:
        text += f": {amount(finding.observed, finding.unit)} against {amount(finding.limit, finding.unit)}"
    if finding.detail:
        text += f" ({printable(finding.detail)})"
    return text


def explain_ruling(ruling: Ruling) -> str:
    """A whole ruling, readable in a terminal."""
    head = (
        f"ruling {ruling.number}: {ruling.outcome} - {ruling.kind} {ruling.sequence} "
        f"of entity {ruling.entity} ({printable(ruling.account)}) with {printable(ruling.weapon) or '-'} "
        f"at {ruling.received_at:.3f} s"
    )
    lines = [head]
    lines += [f"  {explain_step(step)}" for step in ruling.steps]
    lines += [f"  finding {f.code}: {explain_finding(f)}" for f in ruling.findings]
    for hit in ruling.hits:
        lines.append(
            f"  hit entity {hit.victim} in the {hit.part} at {hit.distance_m:.2f} m: {hit.damage:g} damage, "
            f"health {hit.health_before:g} -> {hit.health_after:g}{', killed' if hit.lethal else ''}"
            f"{f' ({hit.times} pellets)' if hit.times > 1 else ''}"
        )
    if ruling.kind == "move" and ruling.position is not None:
        lines.append("  the body is now at ({:.2f}, {:.2f}, {:.2f})".format(*ruling.position))
    return "\n".join(lines)
