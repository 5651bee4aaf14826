"""An opponent that chooses its views: it has read the source, knows every body's future, and pulls every dial.

Poses, shots and lines are those of a garden match. Each policy replays them: the same aim at the same moments, but
other messages, stamps, pongs and views. A shot names the best view that the server would use without a finding.
"""

from __future__ import annotations

import bisect
import heapq
import itertools
import math
from collections import Counter
from functools import cached_property
from typing import Any, NamedTuple

import msgspec
import numpy as np

import tinclock
from tinclock.evidence import LiveEvidence, load_calibration
from tinclock.garden.network import Path
from tinclock.garden.scenario import load_garden
from tinclock.garden.screen import Playout, SentSnapshot
from tinclock.sample import simulate_match

TICK_S = 1.0 / 64
STEP_S = 0.005
"""Distance of the views that are looked through."""
OLDEST_S, FIGHT_S, OFFSET_S = 0.5, 1.5, 50.0
WEAPON = "grit_rifle"


class Policy(NamedTuple):
    """How an opponent chooses. Seconds.

    tells : its reports hold views; stamps : its shots hold stamps; every_s : between two reports
    extra_s : its told lag is so much longer; breathes_s : in fights where that pays, by so much, at rate_per_s
    late_pongs : fraction of pongs that come late_s late; in_fights : only while its lag is longer
    free_numbers : it leaves sequence numbers for shots that it sends later; holds_s : for how long it keeps shots back
    uneven_s : it holds each report back at random, by at most so much
    held_views : fraction of shots that name a screen without newer snapshots
    dither_s : its reports are stamped so much too early, at random, views included
    steps_s, steps_every_s : its clock leaps to and fro; silent_s : of every four seconds; reconnects_s : so often
    second : it then opens another connection beside the one before, and plays over the new one

    Honest clients have some of these too:

    gathers_s : it sends what it has so often; early_s : it stamps a frame's start, so long before it sends
    waits_for_tick : the server reads its socket once per tick; drift : of its clock, seconds per second
    loses : fraction of its packets that are lost, each for itself
    """

    tells: bool = True
    stamps: bool = True
    every_s: float = 1.0 / 64
    extra_s: float = 0.0
    breathes_s: float = 0.0
    rate_per_s: float = math.inf
    late_pongs: float = 0.0
    late_s: float = 0.0
    in_fights: bool = False
    free_numbers: bool = False
    holds_s: float = 0.0
    uneven_s: float = 0.0
    held_views: float = 0.0
    dither_s: float = 0.0
    steps_s: float = 0.0
    steps_every_s: float = 1.5
    silent_s: float = 0.0
    reconnects_s: float = math.inf
    second: bool = False
    gathers_s: float = 0.0
    early_s: float = 0.0
    waits_for_tick: bool = False
    drift: float = 0.0
    loses: float = 0.0


ODD: dict[str, Policy] = {
    "usual": Policy(),
    "sends every 50 ms": Policy(every_s=0.05, gathers_s=0.05),
    "clock set back every 25 s": Policy(steps_s=0.06, steps_every_s=25.0),
    "sends batches of 33 ms": Policy(gathers_s=1.0 / 30),
    "stamps a frame's start, sends 20 ms later": Policy(early_s=0.02),
    "server reads sockets once per tick": Policy(waits_for_tick=True),
    "clock runs 200 ppm fast": Policy(drift=2e-4),
    "15% of packets lost": Policy(loses=0.15),
}
"""Honest clients of other games."""
BLURS_ALL = Policy(
    every_s=1.0 / 32, breathes_s=0.03, rate_per_s=0.003, late_pongs=0.75, late_s=0.11, free_numbers=True, holds_s=0.05,
    held_views=0.04, dither_s=0.2, steps_s=0.13, steps_every_s=0.4, silent_s=1.0, reconnects_s=10.0,
)  # fmt: skip
UNEVEN = Policy(tells=False, extra_s=0.08, late_pongs=0.75, late_s=0.11, uneven_s=0.03, steps_s=0.13)
"""The best policies of the first search and of the second."""
DIALS: dict[str, tuple[Any, ...]] = {
    "tells": (True, False),
    "stamps": (True, False),
    "every_s": (1.0 / 64, 1.0 / 32, 0.05, 0.1, 0.25),
    "extra_s": (0.0, 0.02, 0.04, 0.08, 0.15, 0.3),
    "breathes_s": (0.0, 0.01, 0.03, 0.06, 0.12, 0.25),
    "rate_per_s": (math.inf, 0.05, 0.003),
    "late_pongs": (0.0, 0.25, 0.5, 0.75, 0.9, 1.0),
    "late_s": (0.0, 0.02, 0.05, 0.11, 0.2),
    "in_fights": (False, True),
    "free_numbers": (False, True),
    "holds_s": (0.0, 0.02, 0.05, 0.1, 0.2),
    "uneven_s": (0.0, 0.03, 0.1, 0.2),
    "held_views": (0.0, 0.04, 0.2, 1.0),
    "dither_s": (0.0, 0.02, 0.05, 0.1, 0.2),
    "steps_s": (0.0, 0.008, 0.03, 0.13),
    "steps_every_s": (1.5, 0.4, 10.0, 25.0),
    "silent_s": (0.0, 1.0, 2.1, 3.0),
    "reconnects_s": (math.inf, 2.5, 10.0),
    "second": (False, True),
}


class Aim(NamedTuple):
    """One shot of the match: when it was fired, from where, and how far its screen ran behind. Seconds, metres."""

    fired_at: float
    origin: tuple[float, float, float]
    direction: tuple[float, float, float]
    lag_s: float


class Gain(NamedTuple):
    """The outcome of a policy on one line."""

    shots: int = 0
    hits: int = 0
    damage: float = 0.0
    choice_s: float = 0.0
    as_claimed: int = 0
    decibans: float = 0.0

    def plus(self, other: Gain) -> Gain:
        """Both together; the larger evidence."""
        return Gain(*(a + b for a, b in zip(self[:5], other[:5], strict=True)), max(self[5], other[5]))


def plain_rules() -> tinclock.Rules:
    """The garden's rules without spread, magazines, deaths and limits of fire, so that only views count."""
    rules = load_garden().rules
    weapons = dict(rules.weapons)
    weapons[WEAPON] = msgspec.structs.replace(
        weapons[WEAPON], spread=None, recoil=None, magazine=None, reserve=None, interval_s=0.001, draw_s=0.0,
        reload_s=0.0, reload_when_empty=False,
    )  # fmt: skip
    return msgspec.structs.replace(
        rules, weapons=weapons, match=msgspec.structs.replace(rules.match, mode="shadow"),
        fire_rate=msgspec.structs.replace(rules.fire_rate, tolerance_s=1.0),
        muzzle=msgspec.structs.replace(rules.muzzle, reach_m=3.0, steady_m=3.0), movement=None,
    )  # fmt: skip


class World:
    """A garden match to replay. poses : for each tick who was there with which bones; aims : by player"""

    def __init__(self, seed: int, seconds: float, players: int = 8) -> None:
        self.poses: list[tuple[list[int], list[Any]]] = []
        self.rig: dict[int, str] = {}
        self.rules, self.seed = plain_rules(), seed
        played = simulate_match(seed=seed, seconds=seconds, players=players, on_ruling=self._look)
        self.level, self.seats, self.names = played.garden.level, played.seats, played.entities
        self.fixtures = [(e, self.rig[e]) for e in sorted(self.names) if self.names[e] not in self._accounts]
        self.aims: list[list[Aim]] = [[] for _ in self.seats]
        for (connection, _), shot in sorted(played.shots.items()):
            claim: Any = shot.claim
            if not isinstance(claim, tinclock.claims.ShotClaim) or claim.view is None:
                continue
            k = next(k for k, seat in enumerate(self.seats) if seat.connection == connection)
            shown = TICK_S * (claim.view.from_tick + claim.view.fraction * (claim.view.to_tick - claim.view.from_tick))
            bisect.insort(self.aims[k], Aim(shot.fired_at, claim.origin, claim.direction, shot.fired_at - shown))
        self.worth = self._worths()

    @cached_property
    def _accounts(self) -> set[str]:
        return {seat.account for seat in self.seats}

    def _look(self, referee: tinclock.Referee, ruling: object, claim: object) -> None:
        """Copy the poses of every new tick."""
        history = referee.history
        while len(self.poses) / 64 <= history.newest_time + 1e-9:
            tick = len(self.poses)
            view = tinclock.View(tick, tick, 0.0)
            there = list(history.present(view)) if history.holds(tick) else []
            self.poses.append((there, [history.bones_at(e, view) for e in there]))
            self.rig |= {e: history.rig_of(e).name for e in there}

    def admit(self, referee: tinclock.Referee, k: int, again: int = 0) -> int:
        """A player comes in."""
        seat = self.seats[k]
        return referee.admit(
            connection=f"{k}/{again}", account=seat.account, team=seat.team, rig="gardener",
            weapons=[WEAPON], interpolation=tinclock.Interpolation(interpolation_delay_s=seat.delay_s),
        )  # fmt: skip

    def referee(self) -> tinclock.Referee:
        """A match with everybody in it."""
        referee = tinclock.Referee(self.rules, level=self.level, seed=self.seed)
        for k in range(len(self.seats)):
            self.admit(referee, k)
        for entity, rig in self.fixtures:
            assert referee.add_entity(rig=rig, name=self.names[entity]) == entity
        return referee

    def _worths(self) -> list[list[np.ndarray]]:
        """For each shot the damage at each of the views before it was fired, `STEP_S` apart."""
        referee, out = self.referee(), [[np.zeros(round(OLDEST_S / STEP_S)) for _ in aims] for aims in self.aims]
        due = sorted((a.fired_at + 0.05, k, j) for k, aims in enumerate(self.aims) for j, a in enumerate(aims))
        for tick, (ids, bones) in enumerate(self.poses):
            referee.record(tick, tick * TICK_S, ids, bones)
            if tick % 2 == 0:
                referee.snapshot_sent(tick)
            while due and due[0][0] <= tick * TICK_S:
                _, k, j = due.pop(0)
                for step in range(len(out[k][j])):
                    out[k][j][step] = self._worth(referee, k, self.aims[k][j], step * STEP_S)
        return out

    def _worth(self, referee: tinclock.Referee, k: int, aim: Aim, age_s: float) -> float:
        history, weapon = referee.history, referee.rules.weapons[WEAPON]
        at = aim.fired_at - age_s
        if at < history.first_snapshot_time:
            return 0.0
        stop = self.level.first(aim.origin, aim.direction, weapon.range_m)
        limit = weapon.range_m if stop is None else stop.distance_m
        hit = history.nearest(aim.origin, aim.direction, history.view_at(at), limit_m=limit, ignore=k + 1)
        if hit is None or history.rig_of(hit.entity).blocks_only or referee.ledger.friends(k + 1, hit.entity):
            return 0.0
        return tinclock.core.combat.weapons.Weapon(WEAPON, weapon).damage_at(hit.distance_m, hit.part.zone)

    def replay(self, policy: Policy, chooses: bool = True) -> dict[str, Gain]:
        """Let every player follow a policy; returns what each line's quality gets of it."""
        return _Replay(self, policy, chooses).run()


class _Replay:
    def __init__(self, world: World, policy: Policy, chooses: bool) -> None:
        self.world, self.policy, self.chooses = world, policy, chooses
        self.referee = world.referee()
        self.dice = np.random.default_rng(5)
        self.mail: list[tuple[float, int, str, int, Any]] = []
        self.number = itertools.count()
        players = range(len(world.seats))
        self.entity = [k + 1 for k in players]
        self.again = [0 for _ in players]
        self.sequence = [0 for _ in players]
        self.free: list[list[int]] = [[] for _ in players]
        self.report_at = [0.4 for _ in players]
        self.level = [0.0 for _ in players]
        self.leaves_at = [0.4 for _ in players]
        self.outbox: list[list[tuple[str, Any]]] = [[] for _ in players]
        self.screens = [Playout(seat.delay_s) for seat in world.seats]
        self.gains: dict[str, Gain] = {}
        self.codes: Counter[str] = Counter()
        self.evidence = LiveEvidence(load_calibration(), load_garden().rules)
        self.decibans = [0.0 for _ in players]
        self.paths = [
            [Path(s.line, trip, np.random.default_rng([world.seed, 9 + way, k]))
             for way, trip in ((0, s.line.up_s), (1, s.line.down_s))]
            for k, s in enumerate(world.seats)
        ]  # fmt: skip
        self.fights = [self._fights(k) for k in players]
        for k, aims in enumerate(world.aims):
            for j, aim in enumerate(aims):
                self._post(aim.fired_at, k, "fire", j)

    def _post(self, at: float, k: int, kind: str, content: Any) -> None:
        heapq.heappush(self.mail, (at, next(self.number), kind, k, content))

    def _send(self, now: float, k: int, kind: str, content: Any) -> None:
        """Send something up; a shot that is lost rides along in the next packet."""
        policy, leaves = self.policy, now
        while True:
            arrivals = self.paths[k][0].send(leaves + policy.early_s, 60)
            if policy.loses and self.dice.random() < policy.loses:
                arrivals = ()
            for at in arrivals:
                self._post(math.ceil(at / TICK_S) * TICK_S if policy.waits_for_tick else at, k, kind, content)
            if arrivals or kind != "shot":
                return
            leaves += policy.gathers_s or TICK_S

    def _fights(self, k: int) -> list[tuple[float, float]]:
        """When a longer lag pays: (from, until) of each fight in which more shots hit with it."""
        groups: list[list[int]] = []
        for j, aim in enumerate(self.world.aims[k]):
            if groups and aim.fired_at - self.world.aims[k][groups[-1][-1]].fired_at < FIGHT_S:
                groups[-1].append(j)
            else:
                groups.append([j])
        out = []
        for group in groups:
            aims = [self.world.aims[k][j] for j in group]
            worth = [
                sum(self.world.worth[k][j][min(99, round((a.lag_s + more) / STEP_S))]
                    for j, a in zip(group, aims, strict=True))
                for more in (0.0, self.policy.breathes_s)
            ]  # fmt: skip
            if worth[1] > worth[0]:
                out.append((aims[0].fired_at - 1.3, aims[-1].fired_at + 0.2))
        return out

    def _name(self, k: int) -> str:
        return f"{k}/{self.again[k]}"

    def run(self) -> dict[str, Gain]:
        referee, policy = self.referee, self.policy
        for tick, (ids, bones) in enumerate(self.world.poses):
            now = tick * TICK_S
            self._deliver(now)
            there = [self.entity[e - 1] if e <= len(self.entity) else e for e in ids]
            referee.record(tick, now, there, bones)
            if tick % 2 == 0:
                referee.snapshot_sent(tick)
            for k in range(len(self.entity)):
                self._live(k, tick, now)
            if policy.reconnects_s < math.inf and tick % round(policy.reconnects_s * 64) == 63:
                for k in range(len(self.entity)):
                    self._reconnect(k, now)
        for k, seat in enumerate(self.world.seats):
            quality = seat.line.name
            self.gains[quality] = self.gains.get(quality, Gain()).plus(Gain(decibans=self.decibans[k]))
        return self.gains

    def _reconnect(self, k: int, now: float) -> None:
        if not self.policy.second:
            self.referee.dismiss(self._name(k), now)
        elif self.again[k]:
            self.referee.dismiss(f"{k}/{self.again[k] - 1}", now)
        self.again[k], self.sequence[k], self.free[k] = self.again[k] + 1, 0, []
        self.entity[k] = self.world.admit(self.referee, k, self.again[k])

    def _live(self, k: int, tick: int, now: float) -> None:
        """A player's tick: snapshots and pings go out to it, and it sends reports."""
        policy, down = self.policy, self.paths[k][1]
        wants = any(a <= now <= b for a, b in self.fights[k]) if policy.breathes_s else False
        aim, step = policy.breathes_s if wants else 0.0, policy.rate_per_s * TICK_S
        self.level[k] += min(max(aim - self.level[k], -step), step)
        if tick % 2 == 0:
            for at in down.send(now, 800):
                self._post(at, k, "snapshot", SentSnapshot(tick, now, {}, {}))
        if tick % 16 == k % 16:
            nonce = self.referee.ping(self._name(k), now)
            for at in down.send(now, 40):
                late = policy.late_s if self.dice.random() < policy.late_pongs else 0.0
                late = 0.0 if policy.in_fights and not wants else late
                self._post(at, k, "ping", (nonce, late))
        while self.report_at[k] <= now:
            self.report_at[k] += policy.every_s
            if now % 4.0 < 4.0 - policy.silent_s:
                self._report(k, now)
        if now >= self.leaves_at[k]:
            self.leaves_at[k] += policy.gathers_s
            for kind, content in self.outbox[k]:
                held = policy.uneven_s * self.dice.random() if policy.uneven_s else 0.0
                self._send(now + held, k, kind, content)
            self.outbox[k] = []

    def _clock(self, k: int, at: float) -> float:
        """What the client's clock shows."""
        policy = self.policy
        drift = self.world.seats[k].drift + policy.drift
        return at * (1.0 + drift) + OFFSET_S - policy.steps_s * (int(at / policy.steps_every_s) % 2)

    def _shown(self, k: int, at: float) -> tuple[float, tinclock.View | None]:
        """What a client's screen shows: the server time, and the view where it is as honest."""
        view = self.screens[k].view(at)
        if view is None:
            return -math.inf, None
        a, b, fraction = view
        shown = a.server_time + fraction * (b.server_time - a.server_time)
        older = self.policy.extra_s + self.level[k]
        return shown - older, tinclock.View(a.tick, b.tick, fraction) if older == 0.0 else None

    def _view(self, shown: float) -> tinclock.View | None:
        history = self.referee.history
        return history.view_at(shown) if shown >= history.first_snapshot_time else None

    def _report(self, k: int, now: float) -> None:
        policy = self.policy
        early = policy.dither_s * self.dice.random()
        shown, view = self._shown(k, now)
        if early or view is None:
            view = self._view(shown - early)
        self.sequence[k] += 2
        self.free[k] = [*self.free[k][-40:], self.sequence[k] - 1]
        stamp = self._clock(k, now) - early
        claim = tinclock.claims.StatusClaim(
            self.sequence[k], self.entity[k], view=view if policy.tells else None, client_time=stamp
        )
        self.outbox[k].append(("report", claim))

    def _deliver(self, now: float) -> None:
        while self.mail and self.mail[0][0] <= now:
            at, _, kind, k, content = heapq.heappop(self.mail)
            if kind == "snapshot":
                self.screens[k].take(content, at)
            elif kind == "ping":
                nonce, late = content
                for back in self.paths[k][0].send(at, 40):
                    back = math.ceil(back / TICK_S) * TICK_S if self.policy.waits_for_tick else back
                    self._post(back + late, k, "pong", (self._name(k), nonce, self._clock(k, at + late)))
            elif kind == "pong":
                if content[0] == self._name(k):
                    self.referee.pong(*content, at)
            elif kind == "fire":
                self.sequence[k] += 1
                shown, view = self._shown(k, at)
                shot = content, self.sequence[k], self._name(k), shown, view
                if self.policy.gathers_s:
                    self.outbox[k].append(("shot", shot))
                else:
                    self._send(at + self.policy.holds_s, k, "shot", shot)
            elif kind == "shot":
                if content[2] == self._name(k):
                    self._shoot(k, content[0], content[1], content[3], content[4], at)
            elif content.actor == self.entity[k]:
                self._rule(k, content, at)

    def _rule(self, k: int, claim: Any, at: float) -> tinclock.Ruling:
        ruling = self.referee.rule(self._name(k), claim, received_at=at)
        for finding in ruling.findings:
            self.decibans[k] += sum(gain.decibans for gain in self.evidence.finding(finding, ruling.number))
            self.codes[finding.code] += 1
        return ruling

    def _best(self, k: int, j: int, number: int, honest: float, at: float) -> tuple[float, int, float]:
        """The best view that the server would use without a finding: (server time, sequence, width of the choice)."""
        world, policy = self.world, self.policy
        aim, worth = world.aims[k][j], world.worth[k][j]
        best, shown, sequence, choice = -1.0, honest, number, 0.0
        for one in [number, *self.free[k][:-1]] if policy.free_numbers else [number]:
            oldest, newest = self.referee.view_window(self._name(k), one, at)
            choice = max(choice, newest - oldest)
            first, last = math.ceil((aim.fired_at - newest) / STEP_S), math.floor((aim.fired_at - oldest) / STEP_S)
            steps = range(max(first, 0), min(last + 1, len(worth)))
            for step in sorted(steps, key=lambda s: abs(s * STEP_S - (aim.fired_at - honest))):
                if worth[step] > best:
                    best, shown, sequence = float(worth[step]), aim.fired_at - step * STEP_S, one
        return shown, sequence, choice

    def _shoot(self, k: int, j: int, number: int, shown: float, view: tinclock.View | None, at: float) -> None:
        """The shot arrives."""
        policy, aim, choice = self.policy, self.world.aims[k][j], 0.0
        stamp: float | None = self._clock(k, aim.fired_at)
        if self.chooses:
            shown, number, choice = self._best(k, j, number, shown, at)
            view, lag = None, self.referee._roster.require_connection(self._name(k)).lag.lag_s
            stamp = shown + lag if lag == lag else None
        if view is None:
            view = self._view(shown)
        if view is not None and policy.held_views and self.dice.random() < policy.held_views:
            view = tinclock.View(view.from_tick, view.from_tick, 0.0)
        claim = tinclock.claims.ShotClaim(
            number, self.entity[k], WEAPON, aim.origin, aim.direction, view,
            client_time=stamp if policy.stamps else None,
        )  # fmt: skip
        ruling = self._rule(k, claim, at)
        damage = sum(h.damage for h in ruling.hits)
        moved = any(f.code in ("view_inconsistent", "view_unexplained") for f in ruling.findings)
        gain = Gain(1, int(damage > 0.0), damage, choice, int(not moved))
        quality = self.world.seats[k].line.name
        self.gains[quality] = self.gains.get(quality, Gain()).plus(gain)
