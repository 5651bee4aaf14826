"""Detectors: one statistic each, with its null hypothesis and its source.

Each turns what was seen of an account into trials, on which `bets` bets. The null hypothesis of a share is always "at
most the ceiling", and the ceiling is what the best of honest accounts reach (see `calibration`),
not what the average one
does.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final, Literal, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.evidence.observe import GazeSamples, ShotTable

EXACT_M, NEAR_M, HIDDEN_S, QUICK_S = 0.0015, 0.3, 0.42, 0.3
OLD_S, YOUNG_S, BEYOND_M, TURN_RAD, TURN_WITHIN_S, SNAP_RAD_S = 0.04, -0.02, 0.3, 0.3, 0.4, 12.0
FROM_M, ASIDE_M = 2.0, 0.3
PROMPT_S, LONGEST_PAUSE_S = 0.03, 3.0


class Detector(NamedTuple):
    """One way of looking at an account.

    title : what it finds, for a reviewer; null : what an honest account does; benign : what else explains it
    family : "share" of trials that are 1, "hits" with their own chances, "rate" in time
    per_line : whether the ceiling depends on the connection
    source : where the statistic is from
    """

    name: str
    title: str
    null: str
    benign: str
    family: Literal["share", "hits", "rate"]
    per_line: bool
    source: str


CLOPPER: Final = "Clopper and Pearson, Biometrika 26 (1934); overdispersion: Skellam, J. R. Stat. Soc. B 10 (1948)"
DETECTORS: Final = {
    detector.name: detector
    for detector in (
        Detector(
            "exact_aim", "aims at bones to the millimetre",
            "a hand's aim scatters over centimetres, so few shots pass a bone's origin within 1.5 mm",
            "luck: one shot in some hundreds does", "share", False, CLOPPER,
        ),
        Detector(
            "snapped_turn", "turns at once and is on target",
            "between two shots of one burst a hand doesn't turn by more than 12 rad/s and end on a body",
            "a flick that went well; shots of two targets side by side", "share", False, CLOPPER,
        ),
        Detector(
            "quick_reaction", "fires at once when a target comes in sight",
            "few first shots come within 0.3 s of the target's being on screen",
            "it was expected there: a known corner, a team-mate's call, a sound", "share", True,
            CLOPPER + "; human reaction: Luce, Response Times (1986)",
        ),
        Detector(
            "blind_shots", "shoots at what it can't see",
            "few shots pass within 0.3 m of an enemy who has been out of sight for 0.4 s",
            "suppressing fire at a known place; a target that was seen a moment ago", "share", True, CLOPPER,
        ),
        Detector(
            "blind_launches", "throws at what it can't see",
            "few launches go towards an enemy who has been out of sight for 0.4 s",
            "throwing where somebody went; lobbing over a wall at a known place", "share", True, CLOPPER,
        ),
        Detector(
            "tracks_hidden", "keeps its eyes on enemies behind cover",
            "eyes rest on enemies who are out of sight no more often than on chance places",
            "watching the place where somebody went; a level with few ways", "share", False, CLOPPER,
        ),
        Detector(
            "hit_fraction", "hits more than the top 0.1% of honest players at the same distances",
            "the odds of a hit are at most so many times the population's at the same distance, speed and weapon",
            "a very good player, or one who mostly meets targets that stand still", "hits", False, CLOPPER,
        ),
        Detector(
            "head_fraction", "hits heads more than the top 0.1% of honest players",
            "of hits, at most so many are on the head", "a very good player; a level where only heads show",
            "share", False, CLOPPER,
        ),
        Detector(
            "old_views", "its views are older than its pings explain",
            "few views are older than round trip, interpolation delay and jitter add up to",
            "a stalled or congested upload, which also holds claims back: not told from it by this alone",
            "share", True, CLOPPER,
        ),
        Detector(
            "young_views", "its views are younger than its reported interpolation allows",
            "few views are younger than round trip and interpolation delay allow",
            "a client that draws with less delay than it announced", "share", True, CLOPPER,
        ),
        Detector(
            "aside_muzzle", "fires from beside its own path",
            "few shots begin further than 0.3 m from where their shooter's eye has been in the last moments",
            "a prediction that drifted in a stall, or a push that the server made", "share", True, CLOPPER,
        ),
        Detector(
            "far_melee", "attacks bodies out of melee reach",
            "few melee attacks target a body farther than 0.3 m beyond the weapon's reach",
            "swinging while running up; a target that jumped away", "share", True, CLOPPER,
        ),
        Detector(
            "prompt_trigger", "fires as soon as its weapon is ready",
            "a finger seldom pulls within 30 ms of the moment at which a single-shot weapon is ready again",
            "a game that queues an early trigger pull; a connection that delivers in bursts", "share", True,
            CLOPPER + "; timing of fingers: Wing and Kristofferson, Percept. Psychophys. 14 (1973)",
        ),
        Detector(
            "damage_in_sight", "does more damage than the top 0.1% of honest players while enemies are in sight",
            "at most a limited fraction of quarter seconds with an enemy in sight bring damage",
            "a very good player; crowds", "share", False, CLOPPER,
        ),
        Detector(
            "claim_rate", "sends more claims than a player can make",
            "claims come at most as fast as the fastest 0.1% of honest clients send them",
            "a connection that stalled and delivers all at once; a faulty client build", "rate", False,
            "Poisson's upper tail; Przyborowski and Wilenski, Biometrika 31 (1940)",
        ),
    )
}  # fmt: skip
"""By name, in the order in which they are shown."""


class Chances(NamedTuple):
    """The population's chance of a hit by weapon, distance and speed across, for `hit_fraction`.

    table : by weapon, (distances, speeds); distances_m, speeds_m_s : the upper edges, the last open
    """

    distances_m: tuple[float, ...]
    speeds_m_s: tuple[float, ...]
    table: dict[str, list[list[float]]]

    def of(self, weapon: str, distance_m: float, cross_m_s: float) -> float:
        """One chance, nan for a weapon that isn't known."""
        rows = self.table.get(weapon)
        if rows is None or not (math.isfinite(distance_m) and math.isfinite(cross_m_s)):
            return math.nan
        row, column = np.searchsorted(self.distances_m, distance_m), np.searchsorted(self.speeds_m_s, cross_m_s)
        return rows[min(int(row), len(rows) - 1)][min(int(column), len(rows[0]) - 1)]


def shot_trials(shots: ShotTable, chances: Chances, automatic: frozenset[str]) -> dict[str, NDArray[np.float64]]:
    """The trials in some shots of one account, by detector, a row each.

    "share" : one or zero, and the ruling's number; "hits" : besides, the population's chance

    automatic : weapons that fire on while the trigger is held: their rate is no finger's

    Arrays are (n, 2) or (n, 3) float64; none has a unit.
    """
    shot = np.array([kind == "shot" for kind in shots.kind], bool)
    launch = np.array([kind == "launch" for kind in shots.kind], bool) & (shots.target > 0)
    aimed = shot & (shots.target > 0) & ~np.isnan(shots.off_m)
    near = aimed & (shots.off_m < NEAR_M)
    blow = np.array([kind == "melee" for kind in shots.kind], bool) & ~np.isnan(shots.beyond_m)
    turned = aimed & (shots.since_s < TURN_WITHIN_S) & (shots.turn_rad > TURN_RAD)
    fast = shots.turn_rad > SNAP_RAD_S * shots.since_s
    late = shot & ~np.isnan(shots.late_s)
    honest = aimed & shots.visible
    expected = np.array(
        [
            chances.of(weapon, distance, cross)
            for weapon, distance, cross in zip(
                shots.weapon, shots.distance_m.tolist(), shots.cross_m_s.tolist(), strict=True
            )
        ],
        float,
    )
    counted = honest & ~np.isnan(expected)
    number = shots.number.astype(float)
    return {
        "exact_aim": _ones(shots.off_m < EXACT_M, honest & (shots.distance_m > FROM_M), number),
        "snapped_turn": _ones(fast & (shots.off_m < NEAR_M), turned, number),
        "quick_reaction": _ones(shots.run_s < QUICK_S, shots.first & near, number),
        "blind_launches": _ones(~shots.visible & (shots.run_s >= HIDDEN_S), launch, number),
        "blind_shots": _ones(~shots.visible & (shots.run_s >= HIDDEN_S), near, number),
        "hit_fraction": np.stack([shots.hit[counted], number[counted], expected[counted]], 1),
        "head_fraction": _ones(shots.head, shots.hit & shot, number),
        "old_views": _ones(shots.late_s - shots.held_s > OLD_S, late, number),
        "young_views": _ones(shots.late_s < YOUNG_S, late, number),
        "aside_muzzle": _ones(shots.aside_m > ASIDE_M, shot & ~np.isnan(shots.aside_m), number),
        "far_melee": _ones(shots.beyond_m > BEYOND_M, blow, number),
        "prompt_trigger": _prompt(shots, automatic),
    }


def gaze_trials(gazes: GazeSamples, damaged_at: NDArray[np.float64]) -> dict[str, NDArray[np.float64]]:
    """The trials in some looks of one account. damaged_at : when it did damage.

    damaged_at : (n,) float64, seconds. Returns (m, 2) float64, one or zero and a number.
    """
    slots = np.floor(gazes.time / 0.25)
    done, nobody = np.isin(slots, np.floor(damaged_at / 0.25)), np.zeros(len(gazes.time))
    return {
        # one look in four: eyes stay where they are for about a second
        "tracks_hidden": _ones(gazes.through, gazes.hidden, nobody)[::4],
        "damage_in_sight": _ones(done, gazes.exposed, nobody),
    }


def _prompt(shots: ShotTable, automatic: frozenset[str]) -> NDArray[np.float64]:
    """(n, 2): whether a single-shot weapon fired the moment it was ready, and the ruling's number, shot after shot."""
    single = np.array(
        [kind != "melee" and weapon not in automatic for kind, weapon in zip(shots.kind, shots.weapon, strict=True)],
        bool,
    )
    again = single & (shots.ready_s < LONGEST_PAUSE_S)
    return _ones(np.abs(shots.ready_s) < PROMPT_S, again, shots.number.astype(float))


def _ones(which: NDArray[np.bool_], among: NDArray[np.bool_], number: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.stack([which[among].astype(float), number[among]], 1)


def raised(chances: NDArray[np.float64], odds: float) -> NDArray[np.float64]:
    """Chances with their odds multiplied.

    chances : (n,) float64, probabilities; returns the same shape.
    """
    return odds * chances / (1.0 - chances + odds * chances)


def rate_p(count: float, seconds: float, max_per_s: float) -> float:
    """P(at least so many in so much time) at the ceiling's rate: the Poisson's upper tail."""
    from scipy.special import pdtrc  # `scipy.stats` takes four times as long to import

    return float(pdtrc(math.floor(count - 1.0), max_per_s * seconds)) if count >= 1.0 else 1.0
