"""A full match on one core, 100 players at 64 Hz with 1,500 shots and 1,500 moves a second.

busy_match.py [--together] [--json]; --together : what came in a tick is ruled by one call, in its order

Prints what share of one core each stage takes, and how many bytes of events each client is sent. Traces of bodies and
claims are prepared beforehand; everything that a server asks of Tin Clock is timed, on the server's own schedule.
"""

from __future__ import annotations

import gc
import json
import math
import sys
import time
from collections import defaultdict

import msgspec
import numpy as np
from rich.console import Console
from rich.table import Table
from standard_load import RATE_HZ, Crowd, yard

import tinclock
from tinclock.garden.gait import Gait
from tinclock.sample import data_file

PLAYERS = 100
SECONDS = 10
SHOTS_A_SECOND = MOVES_A_SECOND = 1500
TEAMS = ("copper", "pewter")
TICKS = int(SECONDS * RATE_HZ)
TURN = TICKS // 2
"""The first half warms up: kernels load, clocks are known, histories are full."""


class Busy:
    """The match, its bodies, and who sends what when."""

    def __init__(self, seed: int = 5, *, together: bool = False) -> None:
        self.together = together
        rules = tinclock.load_rules(data_file("garden.toml"))
        rifle = msgspec.structs.replace(rules.weapons["grit_rifle"], interval_s=0.06)  # else most are refused at once
        rules = msgspec.structs.replace(rules, weapons={**rules.weapons, "grit_rifle": rifle})
        self.rng = np.random.default_rng(seed)
        self.referee = tinclock.Referee(rules, level=yard(6.0 * math.sqrt(PLAYERS)), seed=seed)
        rig = self.referee.history.rigs["gardener"]
        self.crowd = Crowd(PLAYERS, Gait(rig.bones, rig.rest), self.rng)
        self.entities = [
            self.referee.admit(
                connection=f"c{k}",
                account=f"a{k}",
                team=TEAMS[k % 2],
                rig="gardener",
                weapon="grit_rifle",
            )
            for k in range(PLAYERS)
        ]
        self.sent = [0] * PLAYERS
        self.spent: dict[str, float] = defaultdict(float)
        self.counts: dict[str, int] = defaultdict(int)
        self.outcomes: dict[str, int] = defaultdict(int)
        self.decode = msgspec.msgpack.Decoder(tinclock.claims.ShotClaim | tinclock.claims.MoveClaim).decode
        self.encode = msgspec.msgpack.Encoder().encode

    def timed(self, stage: str, work: object, *arguments: object, **named: object) -> object:
        """Call something and book its time."""
        start = time.perf_counter()
        out = work(*arguments, **named)
        self.spent[stage] += time.perf_counter() - start
        self.counts[stage] += 1
        return out

    def play(self) -> None:
        """All ticks; figures count from the middle on."""
        for k, entity in enumerate(self.entities):
            self.referee.set_position(entity, self.place(k, 0.0), 0.0)
        gc.collect()
        gc.freeze()
        for tick in range(TICKS):
            if tick == TURN:
                self.spent.clear(), self.counts.clear(), self.outcomes.clear()
            self.step(tick, tick / RATE_HZ)

    def place(self, k: int, t: float) -> tuple[float, float, float]:
        """A body's foot at a time."""
        crowd = self.crowd
        angle = crowd.start[k] + crowd.speed[k] / crowd.radius[k] * t
        x, y = crowd.x[k] + crowd.radius[k] * math.cos(angle), crowd.y[k] + crowd.radius[k] * math.sin(angle)
        return float(x), float(y), 0.05

    def step(self, tick: int, now: float) -> None:
        """One tick of the server."""
        referee, timed = self.referee, self.timed
        poses = self.crowd.bones(now)
        timed("record a tick", referee.record, tick, now, self.entities, poses)
        if tick % 2 == 0:
            timed("publish", referee.snapshot_sent, tick)
        timed("advance", referee.advance, now)
        self.take(self.mail(tick, now), now)
        if tick % 2 == 0:
            events = timed("events", referee.events)
            self.counts["event bytes"] += len(timed("encode events, once for all", self.encode, events))
            self.counts["events told"] += len(events)
        for entity in [e for e in self.entities if not referee.ledger.alive(e)]:
            referee.spawn(entity, now)

    def take(self, mail: list[tuple[str, str, bytes]], now: float) -> None:
        """Rule on what came in a tick, one by one or together."""
        timed, rule, kept = self.timed, self.referee.rule, []
        for stage, connection, message in mail:
            claim = timed("decode a claim", self.decode, message)
            if self.together:
                kept.append((connection, claim, now))
                continue
            kept.append(timed(stage, rule, connection, claim, received_at=now))
            timed("receipt, encoded", lambda r=kept[-1]: self.encode(r.receipt()))
        if self.together:
            kept = timed("rule what came in a tick", self.referee.rule_many, kept)
            timed("receipts of a tick, encoded", lambda: [self.encode(ruling.receipt()) for ruling in kept])
        for (stage, *_), ruling in zip(mail, kept, strict=True):
            self.outcomes[f"{stage}: {ruling.outcome}"] += 1

    def mail(self, tick: int, now: float) -> list[tuple[str, str, bytes]]:
        """What arrives in a tick: shots at a view some 150 ms old, and where bodies say they are."""
        if tick < 32:
            return []
        out = []
        share = SHOTS_A_SECOND / RATE_HZ
        for k in self.rng.choice(PLAYERS, int(share) + (self.rng.random() < share % 1), replace=False).tolist():
            claim = self.shot(k, tick)
            if claim is not None:
                out.append(("rule a shot", f"c{k}", self.encode(claim)))
        share = MOVES_A_SECOND / RATE_HZ
        for k in self.rng.choice(PLAYERS, int(share) + (self.rng.random() < share % 1), replace=False).tolist():
            self.sent[k] += 1
            move = tinclock.claims.MoveClaim(self.sent[k], self.entities[k], self.place(k, now), now)
            out.append(("rule a move", f"c{k}", self.encode(move)))
        return out

    def shot(self, k: int, tick: int) -> tinclock.claims.ShotClaim | None:
        """One aimed at the chest of one of the nearest twenty, where it was on the screen."""
        history, newest = self.referee.history, tick - tick % 2
        view = tinclock.View(newest - 10, newest - 8, float(self.rng.random()))
        eye = history.eye_now(self.entities[k])
        other = self.near(k)
        bones = None if eye is None else history.bones_at(self.entities[other], view)
        if bones is None or eye is None:
            return None
        to = bones[2, :3] + self.rng.normal(scale=0.1, size=3) - eye
        along = tuple((to / np.linalg.norm(to)).tolist())
        self.sent[k] += 1
        return tinclock.claims.ShotClaim(self.sent[k], self.entities[k], "grit_rifle", eye, along, view)

    def near(self, k: int) -> int:
        """A neighbour."""
        apart = np.hypot(self.crowd.x - self.crowd.x[k], self.crowd.y - self.crowd.y[k])
        return int(np.argsort(apart)[1 + self.rng.integers(20)])


def main() -> None:
    """Play and print."""
    busy = Busy(together="--together" in sys.argv)
    busy.play()
    seconds = (TICKS - TURN) / RATE_HZ
    shares = {stage: spent / seconds for stage, spent in sorted(busy.spent.items(), key=lambda item: -item[1])}
    whole = sum(shares.values())
    bytes_each = busy.counts["event bytes"] / seconds
    figures = {
        "share of one core": whole,
        "stages": shares,
        "calls a second": {stage: busy.counts[stage] / seconds for stage in shares},
        "outcomes": dict(sorted(busy.outcomes.items())),
        "events a second": busy.counts["events told"] / seconds,
        "event bytes per client per second": bytes_each,
    }
    if "--json" in sys.argv:
        print(json.dumps(figures, indent=2))
        return
    console = Console(width=None if sys.stdout.isatty() else 100)
    table = Table(box=None, header_style="bold")
    table.add_column("stage")
    for name in ("calls a second", "us each", "share of a core"):
        table.add_column(name, justify="right")
    for stage, share in shares.items():
        rate = busy.counts[stage] / seconds
        table.add_row(stage, f"{rate:.0f}", f"{share / rate * 1e6:.1f}", f"{share:.2%}")
    table.add_row("all of it", "", "", f"{whole:.1%}", style="bold")
    console.print(f"{PLAYERS} players at {RATE_HZ:g} Hz, {SHOTS_A_SECOND} shots and {MOVES_A_SECOND} moves a second")
    console.print(table)
    console.print(f"goal: at most 6% of one core; outcomes {figures['outcomes']}")
    console.print(
        f"{figures['events a second']:.0f} events a second; {bytes_each / 1000:.1f} kB of them per client per second"
    )


if __name__ == "__main__":
    main()
