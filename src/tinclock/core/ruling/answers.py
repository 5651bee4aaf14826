"""The sentence that every explanation begins with: what came of the claim, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

from tinclock.core.findings import explain_code
from tinclock.core.text import called, printable

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from tinclock.core.findings import Finding
    from tinclock.core.ruling.hits import Hit, Stop
    from tinclock.core.ruling.steps import Step

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


def answer_of(
    kind: str, outcome: str, findings: Sequence[Finding], hits: Sequence[Hit], steps: Sequence[Step],
    stopped_by: Stop | None, reached_m: float | None, names: Mapping[int, str] | None = None, because: str = "", *,
    repeated: bool = False,
) -> str:  # fmt: skip
    """What came of a ruling's claim and why, in one sentence.

    Of the ruling its kind, outcome, findings, hits and steps, what stopped it, and how far it got, metres.

    names : what to call entities; because : why it hit nobody, where that was looked into
    repeated : whether it was ruled before
    """
    what = WHAT.get(kind, kind)
    if repeated:
        return f"The {what} came before: what was ruled then stands."
    if outcome == "denied":
        return f"The {what} was refused: {explain_code(findings[-1].code) if findings else 'it is not well formed'}."
    if hits:
        return _whom(hits, steps, names)
    if kind in ("shot", "strike", "flight"):
        nothing = ", so nothing of what was claimed counts" if outcome == "amended" else ""
        return _nobody(what, stopped_by, reached_m, because, nothing)
    if outcome == "amended" and findings:
        return f"The {what} counts as the server has it: {explain_code(findings[0].code)}."
    return f"The {what} counts as it was claimed."


def _whom(hits: Sequence[Hit], steps: Sequence[Step], names: Mapping[int, str] | None) -> str:
    by_victim: dict[int, Hit] = {}
    for hit in hits:
        if hit.victim not in by_victim or hit.damage > by_victim[hit.victim].damage:
            by_victim[hit.victim] = hit
    states = [str(step.observed) for step in steps if step.name == "victim"]
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


def _nobody(what: str, stop: Stop | None, reached_m: float | None, because: str, nothing: str) -> str:
    if not because and stop is not None and stop.kind in ("cover", "level") and reached_m is not None:
        because = f"the {printable(stop.name).replace('_', ' ')} stopped it after {reached_m:.1f} m"
    if not because and stop is not None and stop.name:
        name = printable(stop.name).replace("_", " ")
        because = f"it ended at the {name}" if stop.kind in ("cover", "level") else f"it ended in the air ({name})"
    return f"The {what} hit nobody{f': {because}' if because else ''}{nothing}."
