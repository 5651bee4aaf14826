"""What comes out of the referee: findings, hits, rulings, receipts, events."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

from msgspec import Struct

from tinclock.core.motion import Motion
from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Mapping

Triple = tuple[float, float, float]
Outcome = Literal["upheld", "amended", "denied"]
StepVerdict = Literal["ok", "note", "amend", "deny"]
EventKind = Literal[
    "joined",
    "left",
    "spawn",
    "health",
    "armour",
    "death",
    "effect",
    "weapon",
    "control",
    "score",
    "leader",
    "launch",
    "guide",
    "end",
]


class Finding(Struct, frozen=True, gc=False):
    """What one check saw. `margin` is how far beyond the limit the observed value lies, in `unit`."""

    code: str
    connection: str
    account: str
    entity: int
    sequence: int
    server_time: float
    observed: float | None = None
    limit: float | None = None
    margin: float | None = None
    unit: str = ""
    detail: str = ""


class Hit(Struct, frozen=True, gc=False):
    """A hitbox that the ruling counts as hit, with the server's damage; `times` is how many pellets met it.

    `impulse` is what a splash pushes with, in newton seconds, for the game to use.
    """

    victim: int
    part: str
    zone: str
    side: str
    distance_m: float
    point: Triple
    damage: float
    health_before: float
    health_after: float
    lethal: bool
    times: int = 1
    impulse: Triple | None = None


class Ray(Struct, frozen=True, gc=False):
    """One ray as it was ruled: where it went, how far it got, and what stopped it (None: nothing within range)."""

    direction: Triple
    reached_m: float
    stopped_by: str | None = None


class Step(Struct, frozen=True, gc=False):
    """One step of a ruling: what was measured, against which limit, and what came of it."""

    name: str
    observed: float | str | None
    limit: float | str | None = None
    unit: str = ""
    verdict: StepVerdict = "ok"


class Told(Struct, frozen=True, omit_defaults=True, gc=False):
    """What the server holds of an actor after a claim, for its client to correct itself by.

    last_sequence : the highest that was ruled
    magazine, reserve : None where they never run out
    shots : how many of this weapon were spent, which numbers the next
    ready_in_s : until the weapon fires again
    position : where moves were accepted to; None where the server does the moving
    projectiles : ids of what a launch let fly, in the order of its pellets
    """

    entity: int
    last_sequence: int
    health: float
    armour: float = 0.0
    weapon: str = ""
    magazine: int | None = None
    reserve: int | None = None
    shots: int = 0
    ready_in_s: float = 0.0
    item: str = ""
    items_left: int = 0
    item_ready_in_s: float = 0.0
    position: Triple | None = None
    projectiles: tuple[int, ...] = ()


class ReceiptHit(Struct, frozen=True, omit_defaults=True, gc=False):
    """Whom the client hit, where, for how much."""

    victim: int
    part: str
    damage: float
    lethal: bool = False


class Receipt(Struct, frozen=True, omit_defaults=True, gc=False):
    """What a client is told of its claim: what happened and what is true, never why a check objected or by how much."""

    sequence: int
    outcome: Outcome
    hits: tuple[ReceiptHit, ...] = ()
    told: Told | None = None


class Ruling(Struct, frozen=True, gc=False):
    """The referee's decision on one claim.

    `rewound_s` is how far before `received_at` it was ruled; `reached_m` how far the (first) ray went and `stopped_by`
    what ended it; `rays` holds all rays of a shot with several pellets. `aim` is what the player aimed at, `direction`
    where the first ray went. `position` is where a move ended. `first` is the receipt that stands when this one is
    about a repeated sequence number.
    """

    number: int
    kind: str
    connection: str
    account: str
    entity: int
    sequence: int
    weapon: str
    received_at: float
    outcome: Outcome
    hits: tuple[Hit, ...] = ()
    damage: float = 0.0
    findings: tuple[Finding, ...] = ()
    view: View | None = None
    view_time: float | None = None
    rewound_s: float | None = None
    origin: Triple | None = None
    direction: Triple | None = None
    reached_m: float | None = None
    stopped_by: str | None = None
    first: Receipt | None = None
    steps: tuple[Step, ...] = ()
    told: Told | None = None
    shot: int | None = None
    aim: Triple | None = None
    rays: tuple[Ray, ...] = ()
    position: Triple | None = None

    @property
    def trace(self) -> tuple[Step, ...]:
        """Every step, in the order taken: what was measured, against which limit, and what came of it."""
        return self.steps

    def explain(self) -> str:
        """The trace in plain words, one line a step."""
        from tinclock.core.wording import explain_ruling

        return explain_ruling(self)

    def receipt(self) -> Receipt:
        """What the client may be told. A repeat is told what it was told first."""
        if self.first is not None:
            return self.first
        hits = tuple([ReceiptHit(hit.victim, hit.part, hit.damage, hit.lethal) for hit in self.hits])
        return Receipt(self.sequence, self.outcome, hits, self.told)


class ViewBounds(NamedTuple):
    """How old a connection's views may be on arrival, in seconds.

    newest_s : younger ones can't have reached the client; oldest_s : older ones are noted; cap_s : none is ruled older
    """

    newest_s: float
    oldest_s: float
    cap_s: float


class Event(Struct, frozen=True, omit_defaults=True, gc=False):
    """A published change, numbered without gaps. Every client may see it.

    entity : whom it is about; 0 for a team (`team` says which) or for nobody
    cause : what changed it: "shot", "strike", "lasting", "reflected", "use", "spawn", "kill", "assist", ...
    actor, weapon, part : who did it, with what, where
    before, after, amount : of what the kind names; for "score" `what` says which column of the row, for "effect" which
    until : server time when an effect, or at the latest a flight, ends
    projectile, sequence, place, velocity, motion : of what flies; the sequence is its launch's, of its owner's client
    victim : the body that a flight ended at, in `part`; `what` names the surface where it was the level
    """

    number: int
    kind: EventKind
    server_time: float
    entity: int
    cause: str = ""
    actor: int | None = None
    weapon: str | None = None
    part: str | None = None
    amount: float | None = None
    before: float | None = None
    after: float | None = None
    what: str = ""
    until: float | None = None
    name: str = ""
    team: str = ""
    rig: str = ""
    life: int | None = None
    projectile: int | None = None
    sequence: int | None = None
    place: Triple | None = None
    velocity: Triple | None = None
    motion: Motion | None = None
    victim: int | None = None

    def explain(self, names: Mapping[int, str] | None = None) -> str:
        """The change as a line of text; `names` says what to call entities."""
        from tinclock.core.wording import explain_event

        return explain_event(self, names)
