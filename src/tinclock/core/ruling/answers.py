"""The sentence that every explanation begins with: what came of the claim, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from tinclock.core.findings import explain_code
from tinclock.core.text import printable

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.ruling.records import Hit, Ruling

MOST_VICTIMS = 3
UNHURT: Final = {
    "team-mate": "friendly fire is off",
    "team-mate: the shooter takes it": "the shooter takes what a team-mate would",
    "shielded": "a shield takes all of it",
    "died since the view": "that player had died since",
    "respawned since the view": "that player has come back to life since",
    "out of the shot's reach": "at that distance nothing is left of it",
}
"""By the trace's word for the victim: why a hit does no damage."""
WHAT: Final = {
    "shot": "shot", "strike": "blow", "launch": "launch", "impact": "claimed impact", "trigger": "trigger",
    "handle": "handling of the weapon", "use": "use of the item", "move": "move", "status": "report",
    "flight": "projectile",
}  # fmt: skip


def called(entity: int, names: Mapping[int, str] | None) -> str:
    """What to call an entity."""
    return printable((names or {}).get(entity) or f"entity {entity}")


def answer_of(ruling: Ruling, names: Mapping[int, str] | None = None, because: str = "") -> str:
    """What came of a ruling's claim and why, in one sentence.

    names : what to call entities; because : why it hit nobody, where that was looked into
    """
    what = WHAT.get(ruling.kind, ruling.kind)
    if ruling.first is not None:
        return f"The {what} came before: what was ruled then stands."
    if ruling.outcome == "denied":
        code = ruling.findings[-1].code if ruling.findings else ""
        return f"The {what} was refused: {explain_code(code) if code else 'it is not well formed'}."
    if ruling.hits:
        return _whom(ruling, names)
    if ruling.kind in ("shot", "strike", "flight"):
        return _nobody(ruling, what, because)
    if ruling.outcome == "amended":
        changed = next((f for f in ruling.findings), None)
        return f"The {what} counts as the server has it: {explain_code(changed.code) if changed else 'amended'}."
    return f"The {what} counts as it was claimed."


def _whom(ruling: Ruling, names: Mapping[int, str] | None) -> str:
    by_victim: dict[int, Hit] = {}
    for hit in ruling.hits:
        if hit.victim not in by_victim or hit.damage > by_victim[hit.victim].damage:
            by_victim[hit.victim] = hit
    states = [str(step.observed) for step in ruling.steps if step.name == "victim"]
    told = []
    for place, hit in enumerate(list(by_victim.values())[:MOST_VICTIMS]):
        part = hit.part.replace("_", " ")
        text = f"{called(hit.victim, names)} was hit in the {part} at {hit.distance_m:.1f} m"
        if hit.damage > 0.0:
            lost = hit.health_before - hit.health_after
            text += f" and lost {lost:.3g} points of health" + (", and died" if hit.lethal else "")
        else:
            state = states[place] if place < len(states) else ""
            text += f"; no damage, because {UNHURT.get(state, state or 'nothing is left of it')}"
        told.append(text)
    more = len(by_victim) - len(told)
    sentence = "; ".join(told) + (f"; and {more} more were hit" if more > 0 else "")
    return f"{sentence[0].upper() if not names else sentence[0]}{sentence[1:]}."


def _nobody(ruling: Ruling, what: str, because: str) -> str:
    stop = ruling.stopped_by
    if not because and stop is not None and stop.kind in ("cover", "level") and ruling.reached_m is not None:
        because = f"the {printable(stop.name).replace('_', ' ')} stopped it after {ruling.reached_m:.1f} m"
    if not because and stop is not None and stop.name:
        name = printable(stop.name).replace("_", " ")
        because = f"it ended at the {name}" if stop.kind in ("cover", "level") else f"it ended in the air ({name})"
    nothing = ", so nothing of what was claimed counts" if ruling.outcome == "amended" else ""
    return f"The {what} hit nobody{f': {because}' if because else ''}{nothing}."
