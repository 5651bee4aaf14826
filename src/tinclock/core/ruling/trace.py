"""From a row of numbers to words: the steps of the compiled checks; `found` does the same for findings.

Steps are made when somebody reads them. What their words need besides the row (names, mostly) is kept with it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.kernels.dtypes import (
    FOUND,
    LIMIT,
    OBSERVED,
    STEP,
    STEP_FIELDS,
    STEPS_FROM,
    VERDICT,
)
from tinclock.core.kernels.facts import MEASURE
from tinclock.core.ruling.check_results import CheckResult, Measure, MeasureKind
from tinclock.core.text import excerpt_name

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.plain import Fields
    from tinclock.core.ruling.check_results import StepVerdict

    Said = float | str | None
    Words = Callable[["Context", float, float], tuple[Said, Said]]

VERDICTS: Final[tuple[StepVerdict, ...]] = ("ok", "flag", "adjust", "reject")
SHOOTS: Final = {
    "shot": (("hitscan", "pellets"), "a shot"),
    "launch": (("projectile",), "a launch"),
    "trigger": (("hitscan", "pellets", "projectile"), "a trigger"),
    "melee": (("melee",), "a melee attack"),
}
"""By the kind of a claim: the kinds of weapon that do it, and what to call it."""


class Context:
    """Data for the words of a claim's steps, beside its numbers.

    kind : of the claim; claim : itself; own : the entity of its connection; wielded : the weapon in hand, and its kind
    """

    __slots__ = ("claim", "kind", "own", "weapon_kind", "wielded")

    def __init__(self, kind: str, claim: Any, own: int, wielded: str, weapon_kind: str) -> None:
        self.kind, self.claim, self.own, self.wielded, self.weapon_kind = kind, claim, own, wielded, weapon_kind

    @property
    def view(self) -> str:
        """The view that the claim names."""
        view = self.claim.view
        return f"{view.from_tick}..{view.to_tick} at {view.fraction:g}"

    @property
    def named(self) -> str:
        """The weapon that the claim names, as short as a line has room for."""
        name: str = self.claim.weapon
        return self.wielded if name == self.wielded else excerpt_name(name)


def _both(_: Context, observed: float, limit: float) -> tuple[Said, Said]:
    return observed, limit


def _whole(_: Context, observed: float, limit: float) -> tuple[Said, Said]:
    return int(observed), int(limit)


def _text(observed: str, limit: str | None = None) -> Words:
    return lambda context, a, b: (observed, limit)


_WORDS: Final[dict[str, tuple[MeasureKind, Words]]] = {
    "sequence": (Measure.SEQUENCE, _whole),
    "fields": (Measure.FIELDS, _text("well formed")),
    "sender": (Measure.SENDER, lambda context, a, b: (int(a), context.own)),
    "actor_alive": (Measure.ACTOR, _text("alive")),
    "actor_dead": (Measure.ACTOR, _text("dead", "alive")),
    "actor_absent": (Measure.ACTOR, _text("absent", "present")),
    "weapon": (Measure.WEAPON, lambda context, a, b: (context.named, context.wielded)),
    "kind_of_weapon": (
        Measure.KIND_OF_WEAPON,
        lambda context, a, b: (context.weapon_kind, " or ".join(sorted(SHOOTS[context.kind][0]))),
    ),
    "age_of_view": (Measure.VIEW, _both),
    "view_undrawn": (Measure.VIEW, lambda context, a, b: (context.view, "what the client can draw")),
    "view_unsent": (Measure.VIEW, lambda context, a, b: (context.view, "two published ticks")),
    "view_underived": (
        Measure.VIEW,
        lambda context, a, b: (f"client time {context.claim.client_time}", "an answered ping and a published snapshot"),
    ),
    "newest_snapshot": (Measure.NEWEST_SNAPSHOT, _whole),
    "move": (Measure.MOVE, _text("not reported by clients here")),
    "accepted_way": (Measure.ACCEPTED_WAY, lambda context, a, b: (a, None)),
    "number_of_the_shot": (Measure.NUMBER_OF_THE_SHOT, _whole),
}
"""The measures whose words aren't just their two numbers."""
_STEPS: Final = tuple(_WORDS.get(name) or (getattr(Measure, name.upper()), _both) for name in MEASURE._fields)


class Late:
    """The steps of a claim's compiled checks, as numbers until they are read; `more` holds those that came after."""

    __slots__ = ("_context", "_numbers", "more")

    def __init__(self, numbers: bytes, context: Context, more: list[CheckResult]) -> None:
        self._numbers, self._context, self.more = numbers, context, more

    def fields(self) -> Fields:
        """The steps, as a ruling has them."""
        numbers = np.frombuffer(self._numbers).tolist()
        return {"checks": (*steps_in(numbers, len(numbers) // STEP_FIELDS, self._context), *self.more)}


def steps_in(numbers: list[float], count: int, context: Context) -> list[CheckResult]:
    """The first steps of rows of `STEP_FIELDS` numbers."""
    out = []
    for at in range(0, count * STEP_FIELDS, STEP_FIELDS):
        kind, words = _STEPS[int(numbers[at + STEP])]
        observed, limit = words(context, numbers[at + OBSERVED], numbers[at + LIMIT])
        out.append(CheckResult(kind.name, observed, limit, kind.unit, VERDICTS[int(numbers[at + VERDICT])]))
    return out


def steps_found(found: Any, context: Context) -> list[CheckResult]:
    """The steps in the row of what was found."""
    count = int(found[FOUND.steps])
    return steps_in(found[STEPS_FROM : STEPS_FROM + count * STEP_FIELDS].tolist(), count, context)
