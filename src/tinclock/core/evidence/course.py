"""Taking what was seen of a match to evidence, stretch by stretch, and keeping its course over time."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.evidence.eprocess import combined
from tinclock.core.evidence.watch import Gain, MatchWatch, with_match
from tinclock.core.evidence.weights import line_class

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from tinclock.core.evidence.eprocess import Strand
    from tinclock.core.evidence.observe import Line, Looks, Shots
    from tinclock.core.evidence.scene import Party
    from tinclock.core.evidence.weights import Weights
    from tinclock.core.records import Finding
    from tinclock.core.rules import Rules


LEAST_STRETCH_S = 2.0
"""Claims are counted over no less: a stall delivers a second's worth at once."""


class Seen(NamedTuple):
    """One stretch of a match.

    findings : with the number of the ruling that each belongs to
    claims : how many each account made
    lines : what was known of each connection at its end; parties : who had joined, by entity
    """

    from_s: float
    until_s: float
    shots: Shots
    looks: Looks
    findings: list[tuple[int, Finding]]
    claims: dict[str, int]
    lines: dict[str, Line]
    parties: dict[int, Party]

    def accounts(self) -> dict[int, str]:
        """Whose entity is which; the server's own are left out."""
        return {entity: party.account for entity, party in self.parties.items() if party.account}

    def line_of(self) -> dict[str, str]:
        """The class of each account's line, of those who sent anything."""
        return {
            party.account: line_class(self.lines.get(party.connection))
            for party in self.parties.values()
            if party.account and party.account in self.claims
        }


class Course(NamedTuple):
    """The evidence of one match.

    stages : by account, (server time, ln of the match's product by kind) after each stretch
    gains : everything that moved it, in order
    strands : with what earlier matches left, ready for the next one
    minutes : of play; lines : by account, (server time, line) after each stretch
    """

    stages: dict[str, list[tuple[float, dict[str, float]]]]
    gains: list[Gain]
    lines: dict[str, list[tuple[float, Line]]]
    minutes: dict[str, float]

    def now(self, account: str) -> dict[str, float]:
        """Ln of the match's product by kind, as it ended; empty for one who wasn't there."""
        stages = self.stages.get(account)
        return stages[-1][1] if stages else {}

    def points(
        self, account: str, shares: Mapping[str, float], earlier: Mapping[str, Strand] | None = None
    ) -> list[tuple[float, float]]:
        """(server time, decibans) after each stretch, on top of what earlier matches left. shares : `Weights.kinds`."""
        return [(at, combined(with_match(earlier or {}, now), shares)) for at, now in self.stages.get(account, ())]


class Weighing:
    """Follows one match."""

    def __init__(self, weights: Weights, rules: Rules) -> None:
        self.watch = MatchWatch(weights, rules)
        self.course = Course({}, [], {}, {})

    def take(self, seen: Seen) -> list[Gain]:
        """One stretch; returns what moved."""
        watch, course, accounts = self.watch, self.course, seen.accounts()
        lines, seconds = seen.line_of(), seen.until_s - seen.from_s
        for account, line in lines.items():
            watch.present(account, line, seen.from_s)
            watch.present(account, line, seen.until_s)
            course.minutes[account] = course.minutes.get(account, 0.0) + seconds / 60.0
        gains = [gain for number, finding in seen.findings if (gain := watch.finding(finding, number)) is not None]
        gains += watch.shots(seen.shots, accounts, seen.until_s)
        gains += watch.looks(seen.looks, seen.shots, accounts, seen.until_s)
        if seconds > LEAST_STRETCH_S:
            gains += watch.claims(seen.claims, seconds, seen.until_s)
        for party in seen.parties.values():
            if party.account in lines and party.connection in seen.lines:
                course.lines.setdefault(party.account, []).append((seen.until_s, seen.lines[party.connection]))
        for account in lines:
            course.stages.setdefault(account, []).append((seen.until_s, watch.now(account)))
        course.gains.extend(gains)
        return gains


def weigh(stretches: Iterable[Seen], weights: Weights, rules: Rules) -> Course:
    """The evidence of a whole match."""
    weighing = Weighing(weights, rules)
    for seen in stretches:
        weighing.take(seen)
    return weighing.course


def peak(points: Iterable[tuple[float, float]]) -> float:
    """The most decibans that there ever were, 0 for none."""
    return max((value for _, value in points), default=0.0)


def crossed(points: Iterable[tuple[float, float]], limit: float) -> float | None:
    """When they first reached a limit."""
    return next((at for at, value in points if value >= limit), None)
