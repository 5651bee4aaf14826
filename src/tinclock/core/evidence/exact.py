"""Exact tests: what the server knows by itself, so that no population has to be calibrated first.

Each is an e-process: it starts at 1, it is multiplied by a number that is at most 1 on average for every honest player,
whatever the game, its rates or its people, and so the chance that it ever reaches 1/alpha is at most alpha, however
often one looks (Ville, Etude critique de la notion de collectif, 1939). What each takes for granted of an honest
player is its `null`; `why` says why the average is at most 1 then. tests/test_exact.py simulates both.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final, NamedTuple

import numpy as np

from tinclock.core.evidence.eprocess import add_logs
from tinclock.core.evidence.spread import strays

if TYPE_CHECKING:
    from collections.abc import Iterator

    from numpy.typing import NDArray

    from tinclock.core.evidence.observe import ShotTable
    from tinclock.core.findings import Finding


class ExactTest(NamedTuple):
    """One exact test.

    title : what it finds, for a reviewer; null : what an honest player does; why : why the e-value is at most 1 on
    average
    benign : honest behaviour that comes near it; source : where the statistic is from
    """

    name: str
    title: str
    null: str
    why: str
    benign: str
    source: str


_TURNED: Final = (
    "given the aim, the true draw is one of its turned copies, each equally likely: the e-value is that one's share of "
    "the sum over all of them, times their number, which is exactly 1 on average"
)
_BLOCKS: Final = "bets of a fixed share on an event that has at most a given chance whatever came before"
_SHAFER: Final = "Shafer, Testing by betting, J. R. Stat. Soc. A 184 (2021)"
EXACT: Final = {
    test.name: test
    for test in (
        ExactTest(
            "foreseen_spread", "aims against a spread that only chance should know",
            "the aim of a shot knows nothing of where chance will send that shot", _TURNED,
            "none is known: a person sees where a shot went only after it was fired",
            "Cranley and Patterson, SIAM J. Numer. Anal. 13 (1976); " + _SHAFER,
        ),
        ExactTest(
            "spread_number_picking", "skips the shot numbers whose spread would miss",
            "the skipped numbers are independent of where their spread goes", _TURNED,
            "lost packets skip numbers, but don't select them",
            "Cranley and Patterson, SIAM J. Numer. Anal. 13 (1976); " + _SHAFER,
        ),
        ExactTest(
            "lucky_views", "its view differs when the difference makes the shot a hit",
            "a shot whose view differs from the estimated display delay is no likelier to hit at its claimed view than "
            "the same player's other shots are at theirs",
            "in each block of one differing shot and the others before it, the ratio of two chances of a hit to their "
            "mean is at most 1 on average for every chance that all of the block share, and for every lower one of the "
            "differing shot",
            "a connection that stalls in fights: it makes aiming harder, not easier",
            "Turner and Gruenwald, Generic E-variables for exact sequential k-sample tests, Stat. Methods Med. Res. "
            "33 (2024)",
        ),
        ExactTest(
            "inconsistent_stamps", "uses different clocks in its pongs and its claims",
            "in the second half of half a minute the minimum uplink delays by pongs and by claims differ by more than "
            "the limit with a chance of at most 1 in 10, whatever they did before", _BLOCKS,
            "pings that are always answered late, or from a thread with another clock", _SHAFER,
        ),
        ExactTest(
            "impossible_impacts", "claims hits away from where any projectile of its own flew",
            "in half a minute an honest client claims an impact that is off its own projectile's path, or of a "
            "projectile that isn't its own, with a chance of at most 1 in 1,000", _BLOCKS,
            "a faulty client build, which sets most of its players off", _SHAFER,
        ),
        ExactTest(
            "impossible_claims", "claims what no honest build claims",
            "in half a minute an honest client claims in another's name, or more damage than its weapon can do, with a "
            "chance of at most 1 in 1,000", _BLOCKS,
            "a build with other rules or another match's numbers, which the gateway refuses", _SHAFER,
        ),
        ExactTest(
            "lost_health", "reports health that its own view shows as lost",
            "in half a minute an honest client repeats a health that it lost long before the snapshot on its "
            "screen was sent with a chance of at most 1 in 1,000", _BLOCKS,
            "a server that sends events over a channel that may lose them for good", _SHAFER,
        ),
    )
}  # fmt: skip
"""By name, in the order in which they are shown: before everything that had to be calibrated."""

# -- a draw among its turned copies ------------------------------------------------------------------------------

COPIES: Final = 89
_STEP: Final = 55  # 89 and 55 are neighbours in Fibonacci's series: their lattice fills the square evenly
LATTICE: Final = np.stack([np.arange(COPIES) / COPIES, np.arange(COPIES) * _STEP % COPIES / COPIES], 1)
"""(89, 2): what a draw is moved by, around the unit square; the first by nothing."""
UNDONE: Final = (1.0, 0.5)
"""Fraction of the spread that a client is assumed to cancel."""
WIDTHS: Final = (0.15, 0.3, 0.6, 1.2)
"""Remaining spread of its aim, in half angles of the spread."""
TAILS: Final = 3.0
"""Degrees of freedom of that scatter: heavy tails, so that one wild shot doesn't undo the others."""
REMEMBERED_M: Final = 0.25
"""Fraction of a shot's own place on the body at which the next one is expected."""


class DrawBet:
    """Bets that aim and draw of an account's shots go together, as they do when the aim cancels the spread.

    hoped : whether the shots' numbers were chosen, so that the draw alone may be what was liked about them
    """

    def __init__(self, hoped: bool = False) -> None:
        self._hoped = hoped
        places = 2 + hoped
        self._logs = np.zeros((places, len(UNDONE), len(WIDTHS)))
        self._usual = np.zeros((len(UNDONE), 2))
        self.log_e = 0.0
        self.shots = 0

    def take(
        self, draw: NDArray[np.float64], error: NDArray[np.float64], widest_rad: float, flat: bool, distance_m: float
    ) -> float:
        """One shot; returns by how much the logarithm of the e-value moved.

        draw : (2,) float64, of its own number; error : (2,) float64, the aim less the way to its target, to the left
        and upwards, tangents; widest_rad : half angle of its spread; distance_m : to the target
        """
        turned = (draw[None] + LATTICE) % 1.0
        sent = strays(turned, widest_rad, flat)  # (copies, 2), the first is the true one
        # (undone, copies, 2): where on the target each copy would have sent the shot
        reached = error[None, None] + np.array(UNDONE)[:, None, None] * sent[None]
        centres = [np.zeros_like(self._usual), self._usual / max(distance_m, 1.0)]
        off2 = [((reached - centre[:, None]) ** 2).sum(-1) for centre in centres]
        if self._hoped:
            off2.append(np.broadcast_to((sent**2).sum(-1), off2[0].shape))
        width2 = (widest_rad * np.array(WIDTHS)) ** 2
        logs = -0.5 * (TAILS + 2.0) * np.log1p(np.stack(off2)[:, :, None] / (TAILS * width2[None, None, :, None]))
        top = logs.max(-1)
        mean = top + np.log(np.exp(logs - top[..., None]).mean(-1))
        self._logs += logs[..., 0] - mean
        self._usual += REMEMBERED_M * (reached[:, 0] * distance_m - self._usual)
        self.shots += 1
        before, self.log_e = self.log_e, add_logs(self._logs.ravel().tolist()) - math.log(self._logs.size)
        return self.log_e - before


# -- two chances of a hit ----------------------------------------------------------------------------------------

OTHERS: Final = 4
"""A straying shot is compared with at most so many of the others before it."""


class TwoChances:
    """Bets that straying shots hit more often than the others.

    A block of one straying shot and k others multiplies by r(p) s(q)^k, each factor the bet's chance of what was seen
    over the one by the mean of all k + 1 bets. For one chance of a hit, shared by the block, the average of r plus k
    times that of s is k + 1, so the product of averages is at most 1 (the geometric mean is at most the arithmetic
    one); a lower chance for the straying shot lowers r alone.

    strayed, strayed_hits, others, other_hits : what was seen so far
    """

    def __init__(self) -> None:
        self.strayed = self.strayed_hits = self.others = self.other_hits = 0
        self._waiting: list[bool] = []
        self._of_strayed, self._of_others = (1.6, 2.0), (0.8, 2.0)  # beliefs to begin with: hits, of shots
        self.log_e = 0.0

    def other(self, hit: bool) -> None:
        """A shot that was ruled at the view that it named."""
        self.others, self.other_hits = self.others + 1, self.other_hits + hit
        self._waiting = [*self._waiting, hit][-OTHERS:]

    def strayed_one(self, hit: bool) -> float:
        """A shot whose view strayed; hit : at the view that it named. Returns by how much ln of the e-value moved."""
        self.strayed, self.strayed_hits = self.strayed + 1, self.strayed_hits + hit
        block, self._waiting = self._waiting, []
        if not block:
            return 0.0
        p, q = (hits / of for hits, of in (self._of_strayed, self._of_others))
        log_e = 0.0
        if p > q:
            both = (p + len(block) * q) / (1 + len(block))
            log_e = _ln_ratio(hit, p, both) + sum(_ln_ratio(other, q, both) for other in block)
        self._of_strayed = (self._of_strayed[0] + hit, self._of_strayed[1] + 1.0)
        self._of_others = (self._of_others[0] + sum(block), self._of_others[1] + len(block))
        self.log_e += log_e
        return log_e


def _ln_ratio(hit: bool, chance: float, other: float) -> float:
    return math.log(chance / other if hit else (1.0 - chance) / (1.0 - other))


# -- events that honest clients hardly ever set off -----------------------------------------------------------------

BLOCK_S: Final = 30.0
STAKES: Final = (0.1, 0.4, 0.8)
"""Shares of what there is that are bet on each block, a third of the beginning on each."""
RARE, APART = 0.001, 0.1


class BlockBet:
    """Bets that something which an honest client shows in at most a given share of half minutes comes more often.

    most : that share; second_half : only what comes in the second half of a block counts, so that what it was measured
        on lies in that block alone
    """

    def __init__(self, most: float, second_half: bool = False) -> None:
        self._most, self._counts_from = most, BLOCK_S / 2.0 if second_half else 0.0
        self._logs = [0.0] * len(STAKES)
        self._began = -math.inf
        self._seen = False
        self.log_e = 0.0
        self.blocks = self.shown = 0

    def goes_on(self, now: float) -> float:
        """The account plays on; returns by how much ln of the e-value moved.

        The stake on a block is taken off when it begins, so that a look before its end shows no more than is due.
        """
        if now < self._began + BLOCK_S:
            return 0.0
        if self._began > -math.inf:
            self._logs = self._next(self._seen)
            self.blocks, self.shown = self.blocks + 1, self.shown + self._seen
        self._began, self._seen = now, False
        return self._stand()

    def event(self, now: float) -> float:
        """It came; returns by how much ln of the e-value moved."""
        moved = self.goes_on(now)
        if now >= self._began + self._counts_from and not self._seen:
            self._seen = True
            return moved + self._stand()
        return moved

    def _stand(self) -> float:
        before, logs = self.log_e, self._next(self._seen)
        self.log_e = add_logs(logs) - math.log(len(logs))
        return self.log_e - before

    def _next(self, seen: bool) -> list[float]:
        return [
            one + math.log1p(stake * (1.0 / self._most - 1.0) if seen else -stake)
            for one, stake in zip(self._logs, STAKES, strict=True)
        ]


# -- all of them for one account -----------------------------------------------------------------------------------


class ExactTests:
    """The exact tests of one account in one match."""

    def __init__(self) -> None:
        self._draws = {"foreseen_spread": DrawBet(), "spread_number_picking": DrawBet(hoped=True)}
        self._views = TwoChances()
        self._blocks = {
            "inconsistent_stamps": BlockBet(APART, second_half=True),
            "impossible_impacts": BlockBet(RARE),
            "impossible_claims": BlockBet(RARE),
            "lost_health": BlockBet(RARE),
        }

    def goes_on(self, now: float) -> None:
        """The account plays on."""
        for bet in self._blocks.values():
            bet.goes_on(now)

    def finding(self, finding: Finding) -> Moved | None:
        """Take in a finding; what moved, None for nothing."""
        kind = _BLOCK_OF.get(finding.code)
        if kind is None or (finding.code in _ONLY_BEYOND and not _beyond(finding)):
            return None
        by = self._blocks[kind].event(finding.server_time)
        return Moved(kind, by, 1, 1.0) if by > 0.0 else None

    def shots(self, shots: ShotTable) -> list[Moved]:
        """Take in shots of the account, in the order in which they were ruled; what moved."""
        return [moved for moved in (*self._drawn(shots), self._named(shots)) if moved.trials]

    def _drawn(self, shots: ShotTable) -> Iterator[Moved]:
        known = (shots.target > 0) & ~np.isnan(shots.draw[:, 0]) & ~np.isnan(shots.error[:, 0])
        known &= np.array([kind == "shot" for kind in shots.kind], bool)
        for name, bet in self._draws.items():
            rows = np.flatnonzero(known & (shots.skipped == (name == "spread_number_picking")))
            moved = [
                bet.take(
                    shots.draw[k], shots.error[k], float(shots.widest_rad[k]), bool(shots.flat[k]),
                    float(shots.distance_m[k]),
                )
                for k in rows.tolist()
            ]  # fmt: skip
            best = np.argsort(moved)[::-1][:KEY_SHOTS]
            yield Moved(name, sum(moved), len(moved), float(np.sum(np.array(moved) > 0.0)), _numbers(shots, rows[best]))

    def _named(self, shots: ShotTable) -> Moved:
        by, told = 0.0, []
        for k in np.flatnonzero([kind == "shot" for kind in shots.kind]).tolist():
            hit = bool(shots.named_hit[k])
            if shots.restless[k]:
                by += self._views.strayed_one(hit)
                told.append(k)
            else:
                self._views.other(hit)
        hits = [k for k in told if shots.named_hit[k]]
        return Moved("lucky_views", by, len(told), float(len(hits)), _numbers(shots, hits[:KEY_SHOTS]))

    def now(self) -> dict[str, float]:
        """Ln of each e-process, as it stands."""
        every: dict[str, DrawBet | TwoChances | BlockBet] = {
            **self._draws, "lucky_views": self._views, **self._blocks
        }  # fmt: skip
        return {name: every[name].log_e for name in EXACT}


class Moved(NamedTuple):
    """By how much ln of a test's e-value moved, on how many trials, how many of which spoke for it, and which show it.

    rulings : numbers
    """

    name: str
    log_e: float
    trials: int
    successes: float
    rulings: tuple[int, ...] = ()


KEY_SHOTS: Final = 6
_BLOCK_OF: Final = {
    "clock_mismatch": "inconsistent_stamps",
    "no_impact": "impossible_impacts",
    "wrong_projectile": "impossible_impacts",
    "unknown_projectile": "impossible_impacts",
    "wrong_actor": "impossible_claims",
    "damage_differs": "impossible_claims",
    "stale_health": "lost_health",
}
_ONLY_BEYOND: Final = frozenset({"no_impact", "unknown_projectile"})
"""Of these only what lies beyond what was measured can't be: off the way, or a number that was never issued."""


def _beyond(finding: Finding) -> bool:
    return finding.observed is not None and finding.limit is not None and finding.observed > finding.limit


def _numbers(shots: ShotTable, rows: NDArray[np.int64] | list[int]) -> tuple[int, ...]:
    return tuple(int(shots.number[row]) for row in rows)
