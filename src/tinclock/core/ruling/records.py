"""Results of the referee: hits and rulings."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from tinclock.core.combat.receipts import ActorState, Outcome, Receipt, ReceiptHit
from tinclock.core.findings import Finding
from tinclock.core.plain import Fields
from tinclock.core.ruling.answers import answer_of
from tinclock.core.ruling.check_results import CheckResult
from tinclock.core.ruling.hits import Hit as Hit
from tinclock.core.ruling.hits import Ray as Ray
from tinclock.core.ruling.hits import Stop as Stop
from tinclock.core.text import printable
from tinclock.core.timeline.views import View
from tinclock.core.vectors import Triple

if TYPE_CHECKING:
    from collections.abc import Mapping


def _nothing() -> Any:
    return None


# defaults come from factories: a value on the class would answer for steps that nobody has made yet
@dataclass(frozen=True)
class Ruling:
    """The referee's decision on one claim.

    `rewound_s` is how far before `received_at` it was ruled; `reached_m` how far the (first) ray went and `stopped_by`
    what ended it; `rays` holds all rays of a shot with several pellets. `aim` is what the player aimed at, `direction`
    where the first ray went, or the input of a body that the server moves. `position` is where a move ended. `first` is
    the receipt that stands when this one is about a repeated sequence number.
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
    hits: tuple[Hit, ...] = field(default_factory=tuple)
    damage: float = field(default_factory=float)
    findings: tuple[Finding, ...] = field(default_factory=tuple)
    view: View | None = field(default_factory=_nothing)
    view_time: float | None = field(default_factory=_nothing)
    rewound_s: float | None = field(default_factory=_nothing)
    origin: Triple | None = field(default_factory=_nothing)
    direction: Triple | None = field(default_factory=_nothing)
    reached_m: float | None = field(default_factory=_nothing)
    stopped_by: Stop | None = field(default_factory=_nothing)
    first: Receipt | None = field(default_factory=_nothing)
    checks: tuple[CheckResult, ...] = field(default_factory=tuple)
    state: ActorState | None = field(default_factory=_nothing)
    shot: int | None = field(default_factory=_nothing)
    aim: Triple | None = field(default_factory=_nothing)
    rays: tuple[Ray, ...] = field(default_factory=tuple)
    position: Triple | None = field(default_factory=_nothing)

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            """A field that nobody has read yet. Threads that read at once make the same fields, each for itself."""
            mine = self.__dict__
            late = mine.get("late") if name in _FIELDS else None
            if late is not None:
                mine.update(late.fields())
                mine.pop("late", None)
            if name not in mine:
                raise AttributeError(f"a ruling has no {name!r}")
            return mine[name]

    def __reduce__(self) -> tuple[Any, ...]:
        return Ruling, tuple(getattr(self, name) for name in _FIELDS)

    @property
    def missed(self) -> bool:
        """True if the claim was ruled on and hit nobody: a miss can be accepted."""
        return self.kind in ("shot", "melee", "projectile") and self.outcome != "rejected" and not self.hits

    def answer(self, names: Mapping[int, str] | None = None, because: str = "") -> str:
        """Return the claim's result and its reason in one sentence. See `explain`."""
        return answer_of(
            self.kind, self.outcome, self.findings, self.hits, self.checks, self.stopped_by, self.reached_m, names,
            because, repeated=self.first is not None,
        )  # fmt: skip

    def explain(self, names: Mapping[int, str] | None = None, because: str = "") -> str:
        """Return the claim's result in one sentence, then the ruling, its trace and its hits: one line per step.

        names : what to call entities; because : why it hit nobody, from `why`, which looks at the poses around it
        """
        who = printable(self.account) or "the server's own"
        head = (
            f"ruling {self.number}: {self.outcome}{' (a miss)' if self.missed else ''} - {self.kind} {self.sequence} "
            f"of {who} (entity {self.entity}) with {printable(self.weapon) or '-'} "
            f"at {self.received_at:.3f} s"
        )
        lines = [self.answer(names, because), head]
        lines += [f"  {step.explain(names)}" for step in self.checks]
        lines += [f"  finding {finding.code}: {finding.explain()}" for finding in self.findings]
        lines += [f"  {hit.explain(names)}" for hit in self.hits]
        if self.kind == "move" and self.position is not None:
            lines.append("  the body is now at ({:.2f}, {:.2f}, {:.2f})".format(*self.position))
        return "\n".join(lines)

    def receipt(self) -> Receipt:
        """Return the part that the client may see. A repeat gets the first receipt."""
        kept = self.__dict__.get("kept")
        if kept is not None:
            made: Receipt = kept.receipt()
            return made
        if self.first is not None:
            return self.first
        hits = tuple([ReceiptHit(hit.victim, hit.part, hit.damage, hit.lethal) for hit in self.hits])
        return Receipt(self.sequence, self.outcome, hits, self.state)


REPEATED: Final = "repeated"
"""Outcome of a repeat in counts: it was not ruled on, and its first ruling stands."""


def counted_as(ruling: Any) -> str:
    """Return what a ruling, or a row of one, is counted as: its outcome, or that it was a repeat."""
    return REPEATED if any(f.code == "repeated_sequence" for f in ruling.findings) else str(ruling.outcome)


def ruling_of(fields: Fields) -> Ruling:
    """A ruling with these fields, all of them; but where there is `late`, its `fields` are made when somebody reads."""
    ruling = Ruling.__new__(Ruling)
    ruling.__dict__.update(fields)
    return ruling


def brief_of(ruling: Ruling) -> Any:
    """Return the data of a ruling that nobody has read yet, see `ruling.brief`; None for a complete one."""
    return ruling.__dict__.get("late") if "kept" in ruling.__dict__ else None


_FIELDS: Final = tuple(one.name for one in fields(Ruling))


class ViewBounds(NamedTuple):
    """Ages that a connection's views may have on arrival, in seconds.

    newest_s : younger ones can't have reached the client; oldest_s : older ones are flagged; rewind_limit_s : none is
    ruled older
    """

    newest_s: float
    oldest_s: float
    rewind_limit_s: float


class DisplayDelays(NamedTuple):
    """Age of the view of a connection's fastest message on arrival, in seconds; nan where it isn't known.

    told : by the client's messages of the last second
    explained : by round trip and interpolation delay
    tracked : the age that its shots are ruled at
    """

    reported_s: float
    explained_s: float
    estimated_s: float
