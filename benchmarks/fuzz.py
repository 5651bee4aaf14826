"""Mutated and random messages through the gateway: decode, rule, answer; nothing may raise: fuzz.py [HOW MANY]

A million by default. Prints how many were taken, how they were ruled, and the time of each.
"""

from __future__ import annotations

import re
import sys
import time
from collections import Counter
from pathlib import Path

import msgspec
import numpy as np

import tinclock
from tinclock.sample import data_file
from tinclock.wire import FloodLimits, Gateway, Join

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
from test_border import almost, mutated

PAGE = Path(__file__).resolve().parent.parent / "docs" / "messages.md"


def main() -> None:
    """Take them all."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    texts = re.findall(r"```json from_client\n(.*?)\n```", PAGE.read_text(encoding="utf-8"), re.S)
    whole = [text.encode() for text in texts]
    whole += [msgspec.msgpack.encode(msgspec.json.decode(text)) for text in whole]
    rules = tinclock.load_rules(data_file("garden.toml"))
    referee = tinclock.Referee(rules, level=tinclock.load_level(data_file("garden_level.toml")), seed=1)
    ids = [referee.admit(connection=f"c{k}", account=f"a{k}", rig="gardener") for k in range(2)]
    rig = referee.history.rigs["gardener"]
    for entity, place in zip(ids, ((-9.0, 3.0, 0.0), (0.0, 3.0, 0.0)), strict=True):
        referee.set_position(entity, place, 0.0)
    gateway = Gateway(referee, "c0", flood=FloodLimits(1e12, 1e15))
    gateway.receive(msgspec.msgpack.encode(Join((2,))), 0.0)
    rng, outcomes, found, start = np.random.default_rng(3), Counter(), Counter(), time.perf_counter()
    for k in range(count):
        if k % 50 == 0:
            tick = k // 50
            roots = [[-9.0, 3.0, 0, 0, 0, 0, 1], [0.0, 3.0, 0, 0, 0, 0, 1]]
            referee.record(tick, tick / 64, ids, tinclock.rooted_bones(rig, roots))
            referee.snapshot_sent(tick)
            referee.advance(tick / 64)
            for entity in ids:
                if not referee.ledger.alive(entity):
                    referee.spawn(entity, tick / 64)
            referee.events()
        if k % 2:
            wild = mutated(whole[k % len(whole)], rng, whole)
        else:
            wild = almost(texts[(k // 2) % len(texts)], rng, 1 + k // 2, referee.history.newest_tick)
        gateway.receive(wild, referee.history.newest_time)
        ruling = gateway.last_ruling
        outcomes["no claim" if ruling is None else ruling.outcome] += 1
        found.update([finding.code for finding in ruling.findings] if ruling is not None else [])
    took = time.perf_counter() - start
    print(f"{count:,} messages, none raised, {1e6 * took / count:.0f} us each, mutating included: {dict(outcomes)}")
    print(f"found: {dict(found.most_common(12))}")


if __name__ == "__main__":
    main()
