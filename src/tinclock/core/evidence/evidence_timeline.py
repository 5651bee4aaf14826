"""Taking what was seen of a match to evidence, stretch by stretch, and keeping its timeline over time."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

from tinclock.core.evidence.calibration_table import line_class
from tinclock.core.evidence.eprocess import DECIBAN, combined
from tinclock.core.evidence.live import ENOUGH_ACCOUNTS, EvidenceChange, LiveEvidence, with_match

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Mapping

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.eprocess import KindEvidence
    from tinclock.core.evidence.measured import MeasuredLine
    from tinclock.core.evidence.observe import GazeSamples, ShotTable
    from tinclock.core.evidence.scene import Party
    from tinclock.core.findings import Finding
    from tinclock.core.rules.ruleset import Rules


SHOWN = 3.0 * DECIBAN
"""From so much on (ln) an account shows a kind: a likelihood ratio of two."""
MIN_STRETCH_S = 2.0
"""Claims are counted over no less: a stall delivers a second's worth at once."""


class Observations(NamedTuple):
    """One stretch of a match.

    findings : with the number of the ruling that each belongs to
    claims : how many each account made
    connections : what was known of each connection at its end; parties : who had joined, by entity
    """

    from_s: float
    until_s: float
    shots: ShotTable
    gazes: GazeSamples
    findings: list[tuple[int, Finding]]
    claims: dict[str, int]
    connections: dict[str, MeasuredLine]
    parties: dict[int, Party]

    def accounts(self) -> dict[int, str]:
        """Accounts by entity; the server's own entities are left out."""
        return {entity: party.account for entity, party in self.parties.items() if party.account}

    def quality_of(self) -> dict[str, str]:
        """The class of each account's line, of those who sent anything."""
        return {
            party.account: line_class(self.connections.get(party.connection))
            for party in self.parties.values()
            if party.account and party.account in self.claims
        }


class Common(NamedTuple):
    """A kind of evidence that most accounts of a match showed: so many of so many. It counts against nobody."""

    kind: str
    accounts: int
    of: int


class EvidenceTimeline(NamedTuple):
    """The evidence of one match.

    stages : by account, (server time, ln of the match's product by kind) after each stretch
    gains : everything that moved it, in order
    minutes : of play; connections : by account, (server time, line) after each stretch
    common : what most accounts showed, and what was left out for that; see `without_common`
    muted : what differs between these rules and those of the table, so that not everything counts
    """

    stages: dict[str, list[tuple[float, dict[str, float]]]]
    gains: list[EvidenceChange]
    connections: dict[str, list[tuple[float, MeasuredLine]]]
    minutes: dict[str, float]
    common: tuple[Common, ...] = ()
    muted: tuple[str, ...] = ()

    def without_common(self) -> EvidenceTimeline:
        """The same without what more than half of the accounts show: that is the game's or the integration's doing."""
        ended = [self.now(account) for account in self.stages]
        if len(ended) < ENOUGH_ACCOUNTS:
            return self
        showing = Counter(kind for now in ended for kind, log_e in now.items() if log_e >= SHOWN)
        common = tuple(Common(kind, n, len(ended)) for kind, n in sorted(showing.items()) if 2 * n > len(ended))
        left = {one.kind for one in common}
        if not left:
            return self
        stages = {
            account: [(at, {k: min(v, 0.0) if k in left else v for k, v in now.items()}) for at, now in steps]
            for account, steps in self.stages.items()
        }
        return self._replace(stages=stages, gains=[g for g in self.gains if g.kind not in left], common=common)

    def now(self, account: str) -> dict[str, float]:
        """Ln of the match's product by kind, as it ended; empty for one who wasn't there."""
        stages = self.stages.get(account)
        return stages[-1][1] if stages else {}

    def points(
        self, account: str, shares: Mapping[str, float], earlier: Mapping[str, KindEvidence] | None = None
    ) -> list[tuple[float, float]]:
        """(server time, decibans) after each window, with earlier matches. shares : `Calibration.kinds`"""
        return [(at, combined(with_match(earlier or {}, now), shares)) for at, now in self.stages.get(account, ())]


class MatchEvaluator:
    """Follows one match."""

    def __init__(self, calibration: Calibration, rules: Rules, mute: Collection[str] = ()) -> None:
        self.watch = LiveEvidence(calibration, rules, mute)
        self.timeline = EvidenceTimeline({}, [], {}, {}, muted=self.watch.muted)
        """As it stands; what most accounts show is still in it."""

    def finished(self) -> EvidenceTimeline:
        """The evidence of the match, once it is over: without what most of its accounts show."""
        return self.timeline.without_common()

    def add(self, seen: Observations) -> list[EvidenceChange]:
        """One stretch; returns what moved."""
        watch, timeline, accounts = self.watch, self.timeline, seen.accounts()
        qualities, seconds = seen.quality_of(), seen.until_s - seen.from_s
        for account, line in qualities.items():
            watch.present(account, line, seen.from_s)
        gains = [gain for number, finding in seen.findings for gain in watch.finding(finding, number)]
        for account, line in qualities.items():
            watch.present(account, line, seen.until_s)
            timeline.minutes[account] = timeline.minutes.get(account, 0.0) + seconds / 60.0
        gains += watch.shots(seen.shots, accounts, seen.until_s)
        gains += watch.gazes(seen.gazes, seen.shots, accounts, seen.until_s)
        if seconds > MIN_STRETCH_S:
            gains += watch.claims(seen.claims, seconds, seen.until_s)
        for party in seen.parties.values():
            if party.account in qualities and party.connection in seen.connections:
                timeline.connections.setdefault(party.account, []).append(
                    (seen.until_s, seen.connections[party.connection])
                )
        for account in qualities:
            timeline.stages.setdefault(account, []).append((seen.until_s, watch.now(account)))
        timeline.gains.extend(gains)
        return gains


def weigh(stretches: Iterable[Observations], calibration: Calibration, rules: Rules) -> EvidenceTimeline:
    """The evidence of a whole match."""
    weighing = MatchEvaluator(calibration, rules)
    for seen in stretches:
        weighing.add(seen)
    return weighing.finished()


def peak(points: Iterable[tuple[float, float]]) -> float:
    """The most decibans that there ever were, 0 for none."""
    return max((value for _, value in points), default=0.0)


def threshold_reached(points: Iterable[tuple[float, float]], limit: float) -> float | None:
    """Server time at which they first reached a limit."""
    return next((at for at, value in points if value >= limit), None)
