"""Comparison of a server's own results with rulings: for trying Tin Clock out beside a live game."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, Literal

if TYPE_CHECKING:
    from collections.abc import Iterable

    from tinclock.core.ruling.records import Ruling

Agreement = Literal["same", "other damage", "other victims", "only the server's", "only the ruling's"]
AGREEMENTS: Final[tuple[Agreement, ...]] = (
    "same", "other damage", "other victims", "only the server's", "only the ruling's",
)  # fmt: skip
SAME_DAMAGE: Final = 0.01
"""Points of damage that are taken for the same."""


def agreement(ruling: Ruling, own: Iterable[tuple[int, float]]) -> Agreement:
    """Compare a ruling with the server's own hits, (victim, points of damage). Hits without damage don't count."""
    ours, theirs = dict[int, float](), dict[int, float]()
    for hit in ruling.hits:
        ours[hit.victim] = ours.get(hit.victim, 0.0) + hit.damage
    for victim, damage in own:
        theirs[victim] = theirs.get(victim, 0.0) + damage
    ours, theirs = ({who: points for who, points in side.items() if points > 0.0} for side in (ours, theirs))
    if not ours or not theirs:
        return "same" if not ours and not theirs else "only the server's" if theirs else "only the ruling's"
    if ours.keys() != theirs.keys():
        return "other victims"
    same = all(abs(ours[who] - theirs[who]) <= SAME_DAMAGE for who in ours)
    return "same" if same else "other damage"
