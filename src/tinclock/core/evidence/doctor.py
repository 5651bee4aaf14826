"""Integration mistakes in a recording: they show on most accounts at once."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tinclock.core.evidence.detectors import DETECTORS, shot_trials
from tinclock.core.evidence.live import ENOUGH_ACCOUNTS
from tinclock.core.findings import FINDINGS

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.evidence_timeline import Observations
    from tinclock.core.rules.ruleset import Rules

MOST = 0.6
"""Fraction of accounts above which a common finding is ignored."""
OLD_S, YOUNG_S, ASIDE_M, TURNED_RAD, ENOUGH_SHOTS = 0.03, -0.02, 0.1, 0.6, 5
OFTEN_PER_MIN = 2.0
RATE_OFF = 0.15
DRIFTED, ENOUGH_TRIALS = 2.0, 200
STAMPED, ENOUGH_ARRIVALS = 0.9, 50
ENOUGH_MIN = 3.0
FAIR_AND_COMMON = frozenset({"dead_actor", "over_rewind_limit", "repeated_sequence", "stale_sequence", "stale_move"})
"""Findings that honest players show in any game."""


class Diagnostic(NamedTuple):
    """Something to mend.

    what : in one sentence, with numbers; cause : what most likely makes it; look : where
    accounts, of : how many show it, of how many that could
    """

    what: str
    cause: str
    look: str
    accounts: int
    of: int


class Doctor:
    """Looks at one or more recordings of a game. Give it every stretch; `complaints` says what is to be mended."""

    def __init__(
        self,
        rules: Rules,
        calibration: Calibration | None = None,
        *,
        expect_pings: bool = True,
        from_logs: bool = False,
    ) -> None:
        """expect_pings : False for logs without pings; from_logs : True for logs, which hold no reports of screens"""
        self._rules, self._weights, self._expect_pings, self._from_logs = rules, calibration, expect_pings, from_logs
        self._stamped = [0, 0]
        """Arrivals that are stamped with the time of a tick, and all of them."""
        self._automatic = frozenset(name for name, weapon in rules.weapons.items() if weapon.automatic)
        self._minutes: dict[str, float] = defaultdict(float)
        self._findings: dict[str, Counter[str]] = defaultdict(Counter)
        self._shots: dict[str, dict[str, list[NDArray[np.float64]]]] = defaultdict(lambda: defaultdict(list))
        self._trials: dict[str, dict[str, list[float]]] = defaultdict(lambda: defaultdict(lambda: [0.0, 0.0]))
        self._pinged: set[str] = set()
        self._ticks: list[float] = []

    def add(self, seen: Observations) -> None:
        """One stretch of a match."""
        accounts = seen.accounts()
        for party in seen.parties.values():
            if party.account in seen.claims:
                self._minutes[party.account] += (seen.until_s - seen.from_s) / 60.0
                if party.connection in seen.connections:
                    self._pinged.add(party.account)
        for _, finding in seen.findings:
            self._findings[finding.account][finding.code] += 1
        for entity in np.unique(seen.shots.entity).tolist():
            account = accounts.get(entity)
            if account:
                mine = seen.shots.rows(seen.shots.entity == entity)
                for name in ("late_s", "held_s", "aside_m", "gaze_rad", "mirrored_rad"):
                    self._shots[account][name].append(getattr(mine, name))
                if self._weights is not None:
                    for name, fresh in shot_trials(mine, self._weights.chances, self._automatic).items():
                        sums = self._trials[account][name]
                        sums[0], sums[1] = sums[0] + float(fresh[:, 0].sum()), sums[1] + len(fresh)

    def ticks(self, times: NDArray[np.float64]) -> None:
        """Server times of ticks that were recorded, in order: (n,) float64, seconds."""
        self._ticks += np.diff(times).tolist()

    def arrivals(self, received_at: NDArray[np.float64], ticks: NDArray[np.float64]) -> None:
        """Server times at which claims and pongs came, and of the ticks of that recording: float64, seconds."""
        self._stamped[0] += int(np.isin(received_at, ticks).sum())
        self._stamped[1] += len(received_at)

    def too_little(self) -> str:
        """Return why nothing can be said of most accounts yet; empty where enough was seen."""
        accounts, minutes = len(self._minutes), sum(self._minutes.values())
        if accounts >= ENOUGH_ACCOUNTS and minutes >= ENOUGH_MIN:
            return ""
        return (
            f"{accounts} accounts over {minutes:.1f} minutes in all; it takes {ENOUGH_ACCOUNTS} accounts and "
            f"{ENOUGH_MIN:g} minutes"
        )

    def complaints(self) -> list[Diagnostic]:
        """Problems to fix, the gravest first."""
        each = self._of_lines, self._of_ticks, self._of_stamps, self._of_aims, self._of_views, self._of_codes
        return [complaint for find in each for complaint in find()]

    def drifts(self) -> list[Diagnostic]:
        """Detectors whose middle account does something else than where the calibration is from."""
        out = []
        for name, lines in (self._weights.ceilings if self._weights is not None else {}).items():
            sums = [self._trials[account][name] for account in self._trials if self._trials[account][name][1] > 0.0]
            typical = float(np.mean([row.typical for row in lines.values() if row.accounts] or [math.nan]))
            trials = sum(n for _, n in sums)
            if DETECTORS[name].family != "share" or trials < ENOUGH_TRIALS or not typical > 0.0:
                continue
            middle = float(np.median([k / n for k, n in sums]))
            here = sum(k for k, _ in sums) / trials
            if here > DRIFTED * typical and middle > typical:
                out.append(
                    Diagnostic(
                        f"{name}: {100.0 * here:.1f} % here, {100.0 * typical:.1f} % where the calibration are from",
                        "a new build, level or weapon changed how people play",
                        "`tinclock calibrate` on play of this build", len(sums), len(sums),
                    )
                )  # fmt: skip
        return out

    # -- one by one ---------------------------------------------------------------------------------------------

    def _middles(self, name: str) -> dict[str, float]:
        """The median of a column, by account, of those with enough shots."""
        out = {}
        for account, columns in self._shots.items():
            values = np.concatenate(columns[name]) if columns[name] else np.zeros(0)
            values = values[~np.isnan(values)]
            if len(values) >= ENOUGH_SHOTS:
                out[account] = float(np.median(values))
        return out

    def _most(self, showing: int, of: int) -> bool:
        return of >= ENOUGH_ACCOUNTS and showing > MOST * of

    def _of_lines(self) -> list[Diagnostic]:
        silent = sorted(set(self._minutes) - self._pinged)
        if not silent or not self._expect_pings:
            return []
        return [
            Diagnostic(
                f"{silent[0]}{' and others' if len(silent) > 1 else ''} never answered a ping",
                "pings aren't sent, or the client doesn't hand the nonce back",
                "`Referee.ping` and `pong`, docs/integration.md", len(silent), len(self._minutes),
            )
        ]  # fmt: skip

    def _of_ticks(self) -> list[Diagnostic]:
        if len(self._ticks) < ENOUGH_TRIALS:
            return []
        rate, said = 1.0 / float(np.median(self._ticks)), self._rules.match.tick_rate_hz
        if abs(rate / said - 1.0) <= RATE_OFF:
            return []
        return [
            Diagnostic(
                f"poses are recorded {rate:.0f} times a second, and the rules say {said:g}",
                "`match.tick_rate_hz` isn't the rate of the server's loop",
                "`[match]` in the rules file",
                0,
                0,
            )
        ]

    def _of_stamps(self) -> list[Diagnostic]:
        stamped, arrivals = self._stamped
        if arrivals < ENOUGH_ARRIVALS or stamped < STAMPED * arrivals:
            return []
        return [
            Diagnostic(
                f"{100.0 * stamped / arrivals:.0f} % of claims and pongs arrived at the very time of a tick",
                "the server reads its sockets once per tick and passes the tick's time as `received_at`",
                "pass the time at which each message came off the socket, docs/integration.md",
                0,
                0,
            )
        ]

    def _of_aims(self) -> list[Diagnostic]:
        out = []
        aside = self._middles("aside_m")
        far = {account: off for account, off in aside.items() if off > ASIDE_M}
        if self._most(len(far), len(aside)):
            out.append(
                Diagnostic(
                    f"shots start {float(np.median(list(far.values()))):.2f} m beside the server's eye",
                    "the eye of the rig isn't where the client's camera is, or poses come in another frame",
                    "`eye` in `[rigs.*]`, and `up` of the gateway", len(far), len(aside),
                )
            )  # fmt: skip
        gaze, mirrored = self._middles("gaze_rad"), self._middles("mirrored_rad")
        turned = {account for account, off in gaze.items() if off > TURNED_RAD}
        if self._most(len(turned), len(gaze)):
            by_mirror = sum(min(mirrored[a], math.pi - mirrored[a]) < TURNED_RAD / 2.0 for a in turned)
            if by_mirror > MOST * len(turned):
                cause = "mirrored axes, y and z exchanged without changing sides, or quaternions in the other order"
            else:
                cause = "degrees are taken for radians, quaternions in the other order, or bodies don't follow the aim"
            middle = math.degrees(float(np.median([gaze[account] for account in turned])))
            out.append(
                Diagnostic(
                    f"aims lie {middle:.0f} degrees off where bodies look", cause,
                    "how poses and directions are made, docs/conventions.md", len(turned), len(gaze),
                )
            )  # fmt: skip
        return out

    def _of_views(self) -> list[Diagnostic]:
        late, held = self._middles("late_s"), self._middles("held_s")
        old = {a: off - held.get(a, 0.0) for a, off in late.items() if off - held.get(a, 0.0) > OLD_S}
        young = {account: off for account, off in late.items() if off < YOUNG_S}
        out = []
        for which, side, cause in (
            (old, "older", "clients draw further behind than the `interpolation` that they were admitted with "
             "says, or wait "
             "before they send"),
            (young, "younger",
            "clients draw less far behind than the `interpolation` that they were admitted with "
             "says, or "
             "pings are answered late"),
        ):  # fmt: skip
            if self._most(len(which), len(late)):
                by = 1000.0 * abs(float(np.median(list(which.values()))))
                out.append(
                    Diagnostic(
                        f"views are {by:.0f} ms {side} than round trip and interpolation delay explain", cause,
                        "`interpolation_delay_s` in `admit`, and where the client takes its view", len(which),
                        len(late),
                    )
                )  # fmt: skip
        return out

    def _of_codes(self) -> list[Diagnostic]:
        out = []
        codes = {code for found in self._findings.values() for code in found} - FAIR_AND_COMMON
        if self._from_logs:
            codes -= {"display_delay_unreported"}
        for code in sorted(codes):
            showing = [
                account
                for account, minutes in self._minutes.items()
                if self._findings[account][code] / max(minutes, 1e-9) > OFTEN_PER_MIN
            ]
            kind = FINDINGS.get(code)
            if kind is not None and self._most(len(showing), len(self._minutes)):
                each = np.median([self._findings[account][code] / self._minutes[account] for account in showing])
                out.append(
                    Diagnostic(
                        f"{code}: {kind.saw}, {each:.0f} times a minute", kind.otherwise,
                        "`tinclock explain` on one of them, and docs/findings.md", len(showing), len(self._minutes),
                    )
                )  # fmt: skip
        return out
