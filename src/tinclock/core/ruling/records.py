"""What comes out of the referee: hits and rulings."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, NamedTuple

from msgspec import Struct

from tinclock.core.combat.receipts import ActorState, Outcome, Receipt, ReceiptHit
from tinclock.core.findings import Finding
from tinclock.core.ruling.answers import answer_of, called
from tinclock.core.ruling.steps import Step
from tinclock.core.text import printable
from tinclock.core.timeline.views import View
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from collections.abc import Mapping


class Hit(Struct, frozen=True, gc=False):
    """A hitbox that the ruling counts as hit, with the server's damage; `times` is how many pellets met it.

    `impulse` is what a splash pushes with, in newton seconds, for the game to use.
    """

    victim: int
    part: str
    zone: str
    side: str
    distance_m: float
    position: Triple
    damage: float
    health_before: float
    health_after: float
    lethal: bool
    times: int = 1
    impulse: Triple | None = None

    def explain(self, names: Mapping[int, str] | None = None) -> str:
        """Whom it hit, where, and what that did, in one line. names : what to call entities"""
        return (
            f"hit {called(self.victim, names)} in the {self.part} at {self.distance_m:.2f} m: {self.damage:g} damage, "
            f"health {self.health_before:g} -> {self.health_after:g}{', killed' if self.lethal else ''}"
            f"{f' ({self.times} pellets)' if self.times > 1 else ''}"
        )


class Stop(Struct, frozen=True, omit_defaults=True, gc=False):
    """What ended the way of a shot or a flight.

    kind : a hitbox ("body"), something that only stands in the way ("cover": a door), the level ("level"), or nothing
        but time, distance or its fuse ("air")
    name : the level's surface, the cover's rig, or why it ended in the air; entity : the body or the cover
    """

    kind: Literal["body", "cover", "level", "air"]
    name: str = ""
    entity: int = 0

    def explain(self) -> str:
        """What it was, in a word or two."""
        return f"entity {self.entity}" if self.kind == "body" else self.name


class Ray(Struct, frozen=True, gc=False):
    """One ray as it was ruled: where it went, how far it got, and what stopped it (None: nothing within range)."""

    direction: Triple
    reached_m: float
    stopped_by: Stop | None = None


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
    stopped_by: Stop | None = None
    first: Receipt | None = None
    steps: tuple[Step, ...] = ()
    state: ActorState | None = None
    shot: int | None = None
    aim: Triple | None = None
    rays: tuple[Ray, ...] = ()
    position: Triple | None = None

    @property
    def trace(self) -> tuple[Step, ...]:
        """Every step, in the order taken: what was measured, against which limit, and what came of it."""
        return self.steps

    def explain(self, names: Mapping[int, str] | None = None, because: str = "") -> str:
        """What came of the claim in one sentence, then the ruling, its trace and what it hit: one line a step.

        names : what to call entities; because : why it hit nobody, from `why`, which looks at the poses around it
        """
        who = printable(self.account) or "the server's own"
        head = (
            f"ruling {self.number}: {self.outcome} - {self.kind} {self.sequence} "
            f"of {who} (entity {self.entity}) with {printable(self.weapon) or '-'} "
            f"at {self.received_at:.3f} s"
        )
        lines = [answer_of(self, names, because), head]
        lines += [f"  {step.explain(names)}" for step in self.steps]
        lines += [f"  finding {finding.code}: {finding.explain()}" for finding in self.findings]
        lines += [f"  {hit.explain(names)}" for hit in self.hits]
        if self.kind == "move" and self.position is not None:
            lines.append("  the body is now at ({:.2f}, {:.2f}, {:.2f})".format(*self.position))
        return "\n".join(lines)

    def receipt(self) -> Receipt:
        """What the client may be told. A repeat is told what it was told first."""
        if self.first is not None:
            return self.first
        hits = tuple([ReceiptHit(hit.victim, hit.part, hit.damage, hit.lethal) for hit in self.hits])
        return Receipt(self.sequence, self.outcome, hits, self.state)


class ViewBounds(NamedTuple):
    """How old a connection's views may be on arrival, in seconds.

    newest_s : younger ones can't have reached the client; oldest_s : older ones are noted; cap_s : none is ruled older
    """

    newest_s: float
    oldest_s: float
    cap_s: float
