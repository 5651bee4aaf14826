"""Kinds of evidence in plain words, with what else explains them, for somebody who didn't write the game."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, NamedTuple

from tinclock.core.evidence.detectors import DETECTORS
from tinclock.core.evidence.weights import LINES

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.core.evidence.weights import Weights


class Words(NamedTuple):
    """What a kind of evidence means, and what else explains it."""

    title: str
    benign: str


FINDINGS: Final = {
    "armour_differs": Words("says it has armour that it hasn't", "an effect that its client predicts"),
    "ammunition_differs": Words("says it has rounds that it hasn't", "a reload that the server has not heard of"),
    "damage_differs": Words("claims more damage than its weapon does", "another version of the rules"),
    "fast_cadence": Words("fires faster than its weapon", "packets that a poor line bunched"),
    "fast_clock": Words("moves for more seconds than there were", "packets that a poor line bunched"),
    "flooded": Words("sends more than the border lets through", "a faulty client build"),
    "foreign_actor": Words("claims in another player's name", "a client that kept an id from an earlier match"),
    "health_differs": Words("says it wasn't hurt when it was", "news of its harm that is still under way"),
    "impact_place_differs": Words("claims hits where its projectile wasn't", "another drawing of the flight"),
    "impact_time_differs": Words("claims hits when its projectile wasn't there", "another drawing of the flight"),
    "item_cooling": Words("uses items sooner than it can", "packets that a poor line bunched"),
    "malformed": Words("sends what isn't a claim", "a faulty client build"),
    "muzzle_blocked": Words("fires from behind a surface", "its eye, predicted and recorded on two sides of a corner"),
    "muzzle_far": Words("fires from where it doesn't stand", "a prediction that ran away in a stall"),
    "no_ammunition": Words("fires from an empty magazine", "a reload whose claim was lost"),
    "no_impact": Words("claims hits that the server's own flight doesn't have", "bodies that it predicted otherwise"),
    "not_drawn": Words("fires a weapon before it is drawn", "packets that a poor line bunched"),
    "not_facing": Words("strikes where it doesn't face", "turning faster than its pose arrives"),
    "part_differs": Words("claims another part than it hit", "a view that it evaluates a little differently"),
    "position_differs": Words("says it stands where it never was", "a correction that is still under way"),
    "reloading": Words("fires while it reloads", "packets that a poor line bunched"),
    "repeated_sequence": Words("sends claims again and again", "a network that doubles packets, or asks again"),
    "shots_skipped": Words("leaves out shot numbers, which choose the spread", "lost packets"),
    "stale_move": Words("reports moves out of order", "packets that overtook each other"),
    "stale_sequence": Words("sends claims of long ago", "packets that were under way for very long"),
    "teleport": Words("leaps", "a teleport of the server's that it heard of first"),
    "through_wall": Words("walks through walls", "a level that client and server hold differently"),
    "too_fast": Words("runs faster than it can", "something that pushed it and isn't in the rules"),
    "too_sharp": Words("turns on the spot harder than it can", "something that pushed it and isn't in the rules"),
    "victim_differs": Words("claims another victim than it hit", "a view that it evaluates a little differently"),
    "view_ahead": Words("claims to see what hasn't reached it", "a trip shorter than any ping showed"),
    "view_backwards": Words("its views run backwards", "packets that overtook each other"),
    "view_capped": Words("aims at the distant past", "a slow line: common, and fair"),
    "view_late": Words("aims at a past that its line doesn't explain", "a stall that no ping has shown yet"),
}
"""By code. A code that isn't here is shown by its name."""


def words_of(kind: str) -> Words:
    """What a kind of evidence means."""
    detector = DETECTORS.get(kind)
    if detector is not None:
        return Words(detector.title, detector.benign)
    return FINDINGS.get(kind, Words(kind.replace("_", " "), "not known"))


def benign_share(kind: str, line: str, weights: Weights) -> str:
    """How often fair accounts on such a line show a kind, in words."""
    rows = weights.findings.get(kind, {}).get(line if line in LINES else "rough")
    if rows:
        rate = sum(rate.fair_per_min for rate in rows.values())
        had = 100.0 * max(rate.benign for rate in rows.values())
        return f"on a {line} line {had:.0f} % of fair accounts show any; at most {rate:.2g} a minute are expected"
    ceilings = weights.ceilings.get(kind, {})
    ceiling = ceilings.get(line) or ceilings.get("all")
    if ceiling is None:
        return "no fair account is known to show it"
    if kind == "claim_rate":
        return f"fair accounts send {ceiling.typical:.0f} a second, the busiest {ceiling.share:.0f}"
    return f"fair accounts: {100.0 * ceiling.typical:.2g} % of times, the best of them {100.0 * ceiling.share:.2g} %"


def why_line(kinds: Mapping[str, float], match: str, at: float | None) -> str:
    """Why a case opened, in one line."""
    kind, decibans = next(iter(kinds.items()), ("", 0.0))
    when = "" if at is None else f", {at:.0f} s into it"
    return f"{words_of(kind).title} ({decibans:.0f} decibans of that alone); crossed the line in {match}{when}"
