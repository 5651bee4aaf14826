"""What goes into the referee and what comes out: claims, findings, hits, rulings, receipts, events."""

from __future__ import annotations

from typing import Literal, NamedTuple

from msgspec import Struct

from tinclock.core.timeline.views import View

Triple = tuple[float, float, float]
Outcome = Literal["upheld", "amended", "denied"]
StepVerdict = Literal["ok", "note", "amend", "deny"]


class ShotClaim(Struct, frozen=True, tag="shot", tag_field="kind", gc=False):
    """A client says: I fired.

    sequence : counts the connection's claims from 1
    origin, direction : where the ray starts and its unit vector, world frame, metres
    view : what the client's screen was drawing; a client that can't say sends `command_time` instead
    victim, part, damage : what it believes happened: compared, never used
    command_time : what the client's own clock showed, in seconds; used only without a view
    """

    sequence: int
    actor: int
    weapon: str
    origin: Triple
    direction: Triple
    view: View | None = None
    victim: int | None = None
    part: str | None = None
    damage: float | None = None
    command_time: float | None = None


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
    """A hitbox that the ruling counts as hit, with the server's damage."""

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


class Step(Struct, frozen=True, gc=False):
    """One step of a ruling: what was measured, against which limit, and what came of it."""

    name: str
    observed: float | str | None
    limit: float | str | None = None
    unit: str = ""
    verdict: StepVerdict = "ok"


class Receipt(Struct, frozen=True, omit_defaults=True, gc=False):
    """What a client is told of its claim. Never why a check objected, nor by how much."""

    sequence: int
    outcome: Outcome
    victim: int | None = None
    part: str | None = None
    damage: float = 0.0
    lethal: bool = False


class Ruling(Struct, frozen=True, gc=False):
    """The referee's decision on one claim.

    `rewound_s` is how far before `received_at` it was ruled; `reached_m` how far the ray went and `stopped_by` what
    ended it. `first` is the ruling that stands when this one is about a repeated sequence number.
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
    first: Ruling | None = None
    steps: tuple[Step, ...] = ()

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
            return self.first.receipt()
        if self.hits:
            first = self.hits[0]
            return Receipt(self.sequence, self.outcome, first.victim, first.part, self.damage, first.lethal)
        return Receipt(self.sequence, self.outcome)


class ViewBounds(NamedTuple):
    """How old a connection's views may be on arrival, in seconds.

    newest_s : younger ones can't have reached the client; oldest_s : older ones are noted; cap_s : none is ruled older
    """

    newest_s: float
    oldest_s: float
    cap_s: float


class Event(Struct, frozen=True, gc=False):
    """A published change, numbered without gaps. Every client may see it."""

    number: int
    kind: Literal["spawn", "health", "death", "left"]
    server_time: float
    entity: int
    health: float | None = None
    before: float | None = None
    actor: int | None = None
    weapon: str | None = None
    part: str | None = None
