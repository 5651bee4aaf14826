"""Findings and traces in plain words, for the server's own people. Nothing here is ever sent to a client."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tinclock.core.records import Finding, Ruling, Step

CODES: dict[str, str] = {
    "unknown_connection": "the connection is not admitted (it left, or never joined)",
    "foreign_actor": "the claim names another entity than the sender's own",
    "malformed": "the claim is not well formed",
    "repeated_sequence": "this sequence number was ruled before; the first ruling stands",
    "stale_sequence": "the sequence number is too old to be ruled",
    "skipped_sequence": "the sequence number is too far ahead of the last one",
    "dead_actor": "the shooter was not alive",
    "absent_actor": "the server has no pose of the shooter",
    "unknown_weapon": "no such weapon",
    "weapon_not_held": "the shooter does not hold this weapon",
    "fast_cadence": "shots come faster than the weapon fires",
    "direction_not_unit": "the direction is not a unit vector",
    "muzzle_far": "the shot starts too far from the shooter's eye",
    "muzzle_blocked": "a wall stands between the shooter's eye and where the shot starts",
    "view_unknown": "the view names snapshots that were never sent",
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
    "form": ("length of the direction", "must be"),
    "sequence": ("sequence number", "next is"),
    "actor": ("the shooter is", "must be"),
    "weapon": ("weapon", "holds"),
    "cadence": ("weapon had been ready for", "at least"),
    "view": ("age of the view", "limit"),
    "view order": ("view lies before an earlier one by", "at most"),
    "newest snapshot": ("newest snapshot of the view", "newest recorded"),
    "since the snapshot was sent": ("since the snapshot was sent", "at least"),
    "muzzle wall": ("first wall from the eye at", "clear for"),
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

_MARKS = {"ok": " ", "note": "~", "amend": "*", "deny": "x"}


def _amount(value: float | str | None, unit: str) -> str:
    if value is None:
        return "-"
    if isinstance(value, str):
        return value
    if math.isinf(value):
        return "unlimited"
    if unit == "entity":
        return f"entity {value:g}"
    if unit == "s":
        return f"{value * 1000.0:.1f} ms"
    number = f"{value:.3f}".rstrip("0").rstrip(".") if unit != "" else f"{value:g}"
    return f"{number} {unit}".rstrip()


def explain_step(step: Step) -> str:
    """One line: mark, what, measured, limit."""
    name, relation = _STEPS.get(step.name, (step.name, "limit"))
    limit = "" if step.limit is None else f"({relation} {_amount(step.limit, step.unit)})"
    return f"{_MARKS[step.verdict]} {name:<35} {_amount(step.observed, step.unit):<27} {limit}".rstrip()


def explain_finding(finding: Finding) -> str:
    """A finding as a sentence, with what was measured."""
    text = CODES.get(finding.code, finding.code)
    if finding.observed is not None and finding.limit is not None:
        text += f": {_amount(finding.observed, finding.unit)} against {_amount(finding.limit, finding.unit)}"
    if finding.detail:
        text += f" ({finding.detail})"
    return text


def explain_ruling(ruling: Ruling) -> str:
    """A whole ruling, readable in a terminal."""
    head = (
        f"ruling {ruling.number}: {ruling.outcome} - {ruling.kind} {ruling.sequence} "
        f"of entity {ruling.entity} ({ruling.account}) with {ruling.weapon or '-'} at {ruling.received_at:.3f} s"
    )
    lines = [head]
    lines += [f"  {explain_step(step)}" for step in ruling.steps]
    lines += [f"  finding {f.code}: {explain_finding(f)}" for f in ruling.findings]
    for hit in ruling.hits:
        lines.append(
            f"  hit entity {hit.victim} in the {hit.part} at {hit.distance_m:.2f} m: {hit.damage:g} damage, "
            f"health {hit.health_before:g} -> {hit.health_after:g}{', killed' if hit.lethal else ''}"
        )
    return "\n".join(lines)
