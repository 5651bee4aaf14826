"""Two ways of ruling on the same claims, held against each other."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.ruling.records import brief_of, counted_as
from tinclock.core.ruling.short_way import Counted

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.combat.receipts import Outcome
    from tinclock.core.ruling.records import Ruling


class ChangedRuling(NamedTuple):
    """A claim that is ruled otherwise. before, after : the rulings; None where the server's own shot wasn't fired."""

    call_number: int
    before: Ruling | None
    after: Ruling | None


class RulingDiff(NamedTuple):
    """Changes between two sets of rulings.

    flips : claims whose outcome, victims, parts or damage differ, in order
    outcomes : how often one outcome became another ("-" for no ruling)
    accounts : flips by account, and by how much the damage that it dealt changed
    findings : how much more often (negative: less) each code was found
    """

    before: int
    after: int
    flips: list[ChangedRuling]
    outcomes: dict[tuple[Outcome | str, Outcome | str], int]
    accounts: dict[str, tuple[int, float]]
    findings: dict[str, int]


def diff_rulings(
    before: Sequence[Ruling], before_steps: Sequence[int], after: Sequence[Ruling], after_steps: Sequence[int]
) -> RulingDiff:
    """Hold two lists of rulings against each other. The steps say which belong to the same claim."""
    flips, outcomes = [], Counter[tuple[str, str]]()
    for step, old, new in _paired(before, before_steps, after, after_steps):
        if old is None or new is None or told(old) != told(new):
            flips.append(ChangedRuling(step, old, new))
            outcomes["-" if old is None else old.outcome, "-" if new is None else new.outcome] += 1
    accounts: dict[str, tuple[int, float]] = {}
    for flip in flips:
        one = flip.after or flip.before
        name = "" if one is None else one.account
        times, points = accounts.get(name, (0, 0.0))
        accounts[name] = (times + 1, points + _damage(flip.after) - _damage(flip.before))
    found = Counter(finding.code for ruling in after for finding in ruling.findings)
    found.subtract(Counter(finding.code for ruling in before for finding in ruling.findings))
    return RulingDiff(
        len(before), len(after), flips, dict(sorted(outcomes.items())), dict(sorted(accounts.items())),
        {code: count for code, count in sorted(found.items()) if count},
    )  # fmt: skip


def _damage(ruling: Ruling | None) -> float:
    return 0.0 if ruling is None else ruling.damage


def told(ruling: Ruling) -> Counted:
    """Return the parts that make two rulings equal: the outcome, the hits with their damage, and the end of a move."""
    brief = brief_of(ruling)
    if brief is not None:
        return Counted(counted_as(ruling), *brief.told())
    hits = tuple((hit.victim, hit.part, hit.damage, hit.lethal) for hit in ruling.hits)
    return Counted(counted_as(ruling), hits, ruling.damage, ruling.position)


def _paired(
    before: Sequence[Ruling], before_steps: Sequence[int], after: Sequence[Ruling], after_steps: Sequence[int]
) -> list[tuple[int, Ruling | None, Ruling | None]]:
    """Rulings of the same step side by side; one step can make several (what flew, held triggers), in their order."""
    sides: dict[int, tuple[list[Ruling], list[Ruling]]] = {}
    for side, (rulings, steps) in enumerate(((before, before_steps), (after, after_steps))):
        for ruling, step in zip(rulings, steps, strict=True):
            sides.setdefault(step, ([], []))[side].append(ruling)
    out: list[tuple[int, Ruling | None, Ruling | None]] = []
    for step, (old, new) in sorted(sides.items()):
        for k in range(max(len(old), len(new))):
            out.append((step, old[k] if k < len(old) else None, new[k] if k < len(new) else None))
    return out
