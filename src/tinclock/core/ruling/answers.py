"""The sentence that every explanation begins with: what came of the claim, and why."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

from tinclock.core.findings import explain_code
from tinclock.core.text import called, points, printable

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from tinclock.core.findings import Finding
    from tinclock.core.ruling.check_results import CheckResult
    from tinclock.core.ruling.hits import Hit, Stop

MAX_VICTIMS = 3
UNHURT: Final = {
    "team-mate": "friendly fire is off",
    "team-mate: the shooter takes it": "the shooter takes what a team-mate would",
    "shielded": "a shield takes all of it",
    "died since the view": "that player had died since",
    "respawned since the view": "that player has come back to life since",
    "out of the shot's reach": "at that distance nothing is left of it",
    "hidden from the burst": "what stands in between takes all of it",
}
"""By the trace's word for the victim: why a hit does no damage."""
WHAT: Final = {
    "shot": "shot", "melee": "melee attack", "launch": "launch", "impact": "claimed impact", "trigger": "trigger",
    "weapon_action": "handling of the weapon", "use": "use of the item", "move": "move", "status": "report",
    "projectile": "projectile",
}  # fmt: skip


def answer_of(
    kind: str, outcome: str, findings: Sequence[Finding], hits: Sequence[Hit], steps: Sequence[CheckResult],
    stopped_by: Stop | None, reached_m: float | None, names: Mapping[int, str] | None = None, because: str = "", *,
    repeated: bool = False,
) -> str:  # fmt: skip
    """Return the result of a ruling's claim and its reason, in one sentence.

    Of the ruling its kind, outcome, findings, hits and steps, what stopped it, and how far it got, metres.

    names : what to call entities; because : why it hit nobody, where that was looked into
    repeated : whether it was ruled before
    """
    what = WHAT.get(kind, kind)
    if repeated:
        return f"The {what} came before: what was ruled then stands."
    if outcome == "rejected":
        return f"The {what} was rejected: {explain_code(findings[-1].code) if findings else 'it is not well formed'}."
    if hits:
        return _whom(hits, steps, names)
    if kind in ("shot", "melee", "projectile"):
        nothing = ", so nothing of what was claimed counts" if outcome == "adjusted" else ""
        return _nobody(what, stopped_by, reached_m, because, nothing)
    if outcome == "adjusted" and findings:
        return f"The {what} counts as the server has it: {explain_code(findings[0].code)}."
    return f"The {what} counts as it was claimed."


class _Hurt(NamedTuple):
    """Everything that one claim did to one victim: its hits, and why each did nothing, where one did nothing."""

    hits: list[Hit]
    reasons: list[str]


def _whom(hits: Sequence[Hit], steps: Sequence[CheckResult], names: Mapping[int, str] | None) -> str:
    victims = _by_victim(hits, steps)
    told = [_what_it_did(victim, victims[victim], names) for victim in list(victims)[:MAX_VICTIMS]]
    more = len(victims) - len(told)
    sentence = "; ".join(told) + (f"; and {more} more were hit" if more > 0 else "")
    return f"{sentence[0].upper() if not names else sentence[0]}{sentence[1:]}."


def _by_victim(hits: Sequence[Hit], steps: Sequence[CheckResult]) -> dict[int, _Hurt]:
    """Group hits by victim, in the order in which they were applied.

    The trace has a step for each blow: one for each hit of a flight, a burst or a melee attack, and one for each victim
    of a shot, whose pellets are one blow.
    """
    victims: dict[int, _Hurt] = {}
    for hit in hits:
        victims.setdefault(hit.victim, _Hurt([], [])).hits.append(hit)
    blows = [hit.victim for hit in hits]
    reasons = list(_reasons(steps))
    if len(reasons) != len(blows):
        blows = list(victims)
    for victim, reason in zip(blows, reasons, strict=False):
        victims[victim].reasons.append(reason)
    return victims


def _reasons(steps: Sequence[CheckResult]) -> Iterator[str]:
    """The state of the victim of each blow of a trace; of a burst that cover kept off altogether, that."""
    hidden = False
    for step in steps:
        if step.name == "seen from the burst":
            hidden = step.observed == 0.0
        elif step.name == "victim":
            nothing = step.observed == "out of the shot's reach" and hidden
            yield "hidden from the burst" if nothing else str(step.observed)
            hidden = False


def _what_it_did(victim: int, hurt: _Hurt, names: Mapping[int, str] | None) -> str:
    hardest = max(hurt.hits, key=lambda hit: hit.damage)
    text = f"{called(victim, names)} was hit in the {hardest.part.replace('_', ' ')} at {hardest.distance_m:.1f} m"
    lost = max(hit.health_before for hit in hurt.hits) - min(hit.health_after for hit in hurt.hits)
    died = ", and died" if any(hit.lethal for hit in hurt.hits) else ""
    if lost > 0.0:
        return f"{text} and lost {points(lost)} points of health{died}"
    if hardest.damage > 0.0:
        return f"{text}; armour took all of it"
    reason = next((reason for reason in hurt.reasons if reason != "alive"), "nothing is left of it")
    return f"{text}; no damage, because {UNHURT.get(reason, reason)}"


def _nobody(what: str, stop: Stop | None, reached_m: float | None, because: str, nothing: str) -> str:
    if not because and stop is not None and stop.kind in ("cover", "level") and reached_m is not None:
        because = f"the {printable(stop.name).replace('_', ' ')} stopped it after {reached_m:.1f} m"
    if not because and stop is not None and stop.name:
        name = printable(stop.name).replace("_", " ")
        because = f"it ended at the {name}" if stop.kind in ("cover", "level") else f"it ended in the air ({name})"
    return f"The {what} hit nobody{f': {because}' if because else ''}{nothing}."
