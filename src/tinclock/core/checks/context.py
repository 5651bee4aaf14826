"""What a check may look at, and where it leaves what it measured."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.records import Finding, Step
from tinclock.core.timeline.cover import Instant

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.claims import Triple
    from tinclock.core.combat.flights import Flights, Impact
    from tinclock.core.combat.held import Held
    from tinclock.core.combat.ledger import Ledger
    from tinclock.core.combat.roster import Line, Participant, Roster
    from tinclock.core.combat.weapons import Weapon
    from tinclock.core.geometry.level import Level
    from tinclock.core.records import Hit, Ray
    from tinclock.core.rules import Consequence, Rules
    from tinclock.core.timeline.cover import Cover
    from tinclock.core.timeline.history import PartHit, PoseHistory
    from tinclock.core.timeline.views import View


class World(NamedTuple):
    """What all claims of one match are held against."""

    rules: Rules
    consequences: Mapping[str, Consequence]
    history: PoseHistory
    level: Level | None
    ledger: Ledger
    roster: Roster
    flights: Flights
    cover: Cover


class Context:
    """One claim's surroundings. A check reads it, appends to `steps` what it measured, and may set what it works out.

    `findings` and `steps` gather what the ruling will hold; so do `hits` and what follows it, which acts set.
    """

    __slots__ = (
        "actor", "aim", "charge", "cover", "damage", "direction", "eye", "findings", "flights", "held",
        "history", "hit", "hits", "impact", "item", "kept", "ledger", "level", "line", "origin", "paid", "position",
        "posthumous", "projectiles", "rays", "reached_m", "received_at", "roster", "rules", "seconds", "sequence",
        "shot", "slots", "steps", "stopped_by", "view", "view_time", "ways", "weapon", "world",
    )  # fmt: skip

    def __init__(self, world: World, line: Line, actor: Participant, received_at: float) -> None:
        self.rules, _, self.history, self.level, self.ledger, self.roster, self.flights, _ = world
        self.world, self.line, self.actor, self.received_at = world, line, actor, received_at
        self.findings: list[Finding] = []
        self.steps: list[Step] = []
        self.sequence = 0
        self.origin: Triple | None = None
        self.direction: Triple | None = None
        self.eye: Triple | None = None
        self.view: View | None = None
        self.view_time: float | None = None
        self.slots = (0, 0)
        self.weapon: Weapon | None = None
        self.held: Held | None = None
        self.charge = self.kept = 1.0
        """Shares of the damage: for the charge, and what is left after what the shot passed through."""
        self.paid = 0.0
        """What the way from the shooter's eye to the muzzle took from the weapon's penetration."""
        self.posthumous = False
        """Whether the actor died so little ago that its shot still counts."""
        self.hit: PartHit | None = None
        self.hits: tuple[Hit, ...] = ()
        self.damage = self.seconds = 0.0
        """Points that were taken; how much time a move may use."""
        self.aim: Triple | None = None
        self.shot: int | None = None
        self.reached_m: float | None = None
        self.cover: set[int] = set()
        """Entities that only stood in the way and stopped a ray."""
        self.stopped_by: str | None = None
        self.ways: tuple[Triple, ...] = ()
        """Where the rays of a shot go."""
        self.rays: tuple[Ray, ...] = ()
        self.position: Triple | None = None
        self.item = ""
        self.projectiles: tuple[int, ...] = ()
        self.impact: Impact | None = None

    def instant(self) -> Instant:
        """Where the history is read for this claim."""
        return Instant(*self.slots, 0.0 if self.view is None else self.view.fraction)

    def ray(self) -> tuple[Triple, Triple]:
        """Origin and direction, once they were worked out."""
        if self.origin is None or self.direction is None:  # pragma: no cover - the form check denies first
            raise AssertionError("a ray is asked for only after the form of the claim was checked")
        return self.origin, self.direction

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
            self.line.account,
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
