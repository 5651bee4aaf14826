"""What a check may look at, and where it leaves what it measured."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.records import Finding, Step

if TYPE_CHECKING:
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Line, Participant
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.geometry.level import Level
    from tinclock.core.records import Triple
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.history import PartHit, PoseHistory
    from tinclock.core.timeline.views import View


class Context:
    """One claim's surroundings. A check reads it, appends to `steps` what it measured, and may set what it works out.

    `findings` and `steps` gather what the ruling will hold.
    """

    sequence = 0
    origin: Triple = (0.0, 0.0, 0.0)
    direction: Triple = (1.0, 0.0, 0.0)
    eye: Triple | None = None
    view: View | None = None
    view_time: float | None = None
    slots: tuple[int, int] = (0, 0)
    weapon: Weapon | None = None
    hit: PartHit | None = None
    damage = 0.0
    kept = 1.0
    """Share of the damage that is left after what the shot passed through."""

    def __init__(
        self,
        rules: Rules,
        history: PoseHistory,
        level: Level | None,
        ledger: Ledger,
        weapons: dict[str, Weapon],
        line: Line,
        actor: Participant,
        received_at: float,
    ) -> None:
        self.rules, self.history, self.level, self.ledger, self.weapons = rules, history, level, ledger, weapons
        self.line, self.actor, self.received_at = line, actor, received_at
        self.findings: list[Finding] = []
        self.steps: list[Step] = []

    def find(
        self,
        code: str,
        observed: float | None = None,
        limit: float | None = None,
        unit: str = "",
        detail: str = "",
    ) -> Finding:
        """A finding about the connection of this claim; the margin is how far beyond the limit it lies."""
        margin = None if observed is None or limit is None else abs(observed - limit)
        return Finding(
            code,
            self.line.name,
            self.actor.account,
            self.actor.entity,
            self.sequence,
            self.received_at,
            observed,
            limit,
            margin,
            unit,
            detail,
        )


def excerpt(value: object, length: int = 60) -> str:
    """A short, printable piece of something a client sent."""
    try:
        text = ascii(value[: length + 1] if isinstance(value, (str, bytes)) else value)
    except Exception as error:  # repr of a stranger's object may do anything
        text = f"<{type(value).__name__}: {type(error).__name__}>"
    return text if len(text) <= length else text[: length - 3] + "..."
