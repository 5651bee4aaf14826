"""Books of one entity: health, armour, effects, counters, and what damaged it lately."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, Final, NamedTuple

from msgspec import Struct

from tinclock.core.kernels.dtypes import BODY
from tinclock.core.packed import Flag, Number, Row
from tinclock.core.rules.tables import EffectName
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from tinclock.core.combat.scores import ScoreLine
    from tinclock.core.rules.weapons import DamageOverTimeRules

NEVER: Final = float("inf")
REMEMBERED_CHANGES = 64
"""Number of changes of health that are kept, to compare reports of clients with."""


class Blow(Struct, frozen=True, gc=False):
    """Source of damage.

    covered : fraction of the damage that armour may take
    position, direction, force_n_s : place of the hit in metres, unit direction of the damage, and push
    """

    cause: str
    actor: int = 0
    weapon: str = ""
    part: str = ""
    covered: float = 0.0
    position: Triple | None = None
    direction: Triple | None = None
    force_n_s: float | None = None


class Wound(NamedTuple):
    """Health and armour of a body before and after a hit, in points; equal where nothing was taken."""

    before: float
    after: float
    armour_before: float = 0.0
    armour_after: float = 0.0

    @property
    def lethal(self) -> bool:
        """True if the hit killed."""
        return self.after == 0.0 < self.before


class HealthSince(Struct, frozen=True, gc=False):
    """Health and armour from a time on."""

    since: float
    health: float
    armour: float


class Departed(NamedTuple):
    """Books of an entity that left: its account, its row of the board, damage over time and effects under way."""

    account: Account
    row: ScoreLine | None
    lasting: list[Lasting]
    effects: dict[EffectName, tuple[float, float]]
    left_at: float


class Lasting(NamedTuple):
    at: float
    entity: int
    blow: Blow
    rules: DamageOverTimeRules
    left: int


class Account:
    """Books of one entity.

    full : health at the start of a life, points; regenerates_at : server time of its next regeneration, inf for none
    """

    __slots__ = (
        "body", "changed", "counters", "damaged", "full", "kill_score", "life", "max_health", "numbers", "past",
        "regenerates_at", "team",
    )  # fmt: skip

    health = Number(BODY.health)
    armour = Number(BODY.armour)
    alive = Flag(BODY.alive)
    dead = Flag(BODY.dead)
    died_at = Number(BODY.died_at)

    def __init__(self, body: Row, full: float, team: str, kill_score: float) -> None:
        self.body, self.numbers = body, body.numbers
        self.full, self.team, self.kill_score = full, team, kill_score
        self.health = self.armour = 0.0
        self.alive, self.dead = False, False
        self.life, self.died_at = 0, float("-inf")
        self.counters: dict[str, float] = {}
        self.changed: set[str] = set()
        """Counters of which an event told."""
        self.max_health: float | None = None
        """Points that the server set as the health at the start of a life."""
        self.regenerates_at = NEVER
        self.end_effects()
        self.damaged: deque[tuple[float, int, float]] = deque()  # when, attacker, how much
        self.past: deque[HealthSince] = deque(maxlen=REMEMBERED_CHANGES)

    def totals(self) -> tuple[int, int, float, float]:
        """Return shots, hits, and points of damage given and taken."""
        row = self.numbers
        return int(row[BODY.shots]), int(row[BODY.hits]), row[BODY.given], row[BODY.taken]

    def end_effects(self) -> None:
        """Set all effects as if there had been none."""
        for until, amount in EFFECTS.values():
            self.numbers[until], self.numbers[amount] = -NEVER, 0.0
        self.numbers[BODY.speed_since] = self.numbers[BODY.push_until] = -NEVER


EFFECTS: Final[dict[EffectName, tuple[int, int]]] = {
    "shield": (BODY.shield_until, BODY.shield_amount),
    "boost": (BODY.boost_until, BODY.boost_factor),
    "speed": (BODY.speed_until, BODY.speed_factor),
    "free_movement": (BODY.free_until, BODY.free_amount),
}
"""By name: places of the server time until which an effect lasts, and of its amount."""
