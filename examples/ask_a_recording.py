"""A match in a file: record it, lose the process, rule it again, ask why a shot did nothing, try another rule."""

from __future__ import annotations

import tempfile
from pathlib import Path

import tinclock
from tinclock.recordings import HistorySlice, diff_rulings, explain_miss, history_around, with_setting, without_deaths
from tinclock.sample import data_file


def record(folder: Path) -> None:
    """A server with a recorder in front of its referee: the same calls, and nothing else changes."""
    rules = tinclock.load_rules(data_file("garden.toml"))
    referee = tinclock.Referee(rules, level=tinclock.load_level(data_file("garden_level.toml")), seed=7)
    with tinclock.recordings.Recorder(folder, referee) as recorder:
        mary = recorder.admit(connection="c-17", account="mary", team="copper", rig="gardener")
        rig = referee.history.rigs["gardener"]
        for tick in range(64):
            recorder.record(tick, tick / 64, [mary], tinclock.rooted_bones(rig, [[-9, 3, 0, 0, 0, 0, 1]]))
            if tick % 2 == 0:
                recorder.snapshot_sent(tick)
        received = b'{"kind": "status", "sequence": 1, "actor": 1, "health": 250.0}'  # as it came from the socket
        recorder.rule("c-17", received, received_at=1.0)


def main() -> None:
    """Record, rule again, and ask the recording that ships with the package."""
    with tempfile.TemporaryDirectory() as folder:
        record(Path(folder) / "mine")
        mine = tinclock.recordings.Recording(Path(folder) / "mine")
        print(f"mine: {mine.ticks} ticks, {mine.rows('claims')} claim, whole: {mine.verify() == []}")
        print(f"ruled again, the same bit for bit: {tinclock.recordings.replay(mine).as_recorded}\n")

    sample = tinclock.recordings.Recording(data_file("sample"))
    again = tinclock.recordings.replay(sample)
    print(f"sample: {len(again.rulings)} rulings of {again.seconds:.0f} s, the same: {again.as_recorded}")

    missed = next(r for r in again.rulings if r.kind == "shot" and r.account and not r.hits and r.view is not None)
    past: HistorySlice = history_around(sample, missed)
    print(missed.explain().splitlines()[0])
    for line in explain_miss(past, missed).describe():
        print(f"  -> {line}")

    # who dies otherwise can't go on as it did; among the undying each claim is judged by itself
    rules = without_deaths(sample.require_header().rules)
    usual = tinclock.recordings.replay(sample, rules=rules)
    tight = tinclock.recordings.replay(sample, rules=with_setting(rules, "view.max_rewind_s", 0.1))
    change = diff_rulings(usual.rulings, usual.call_numbers, tight.rulings, tight.call_numbers)
    print(f"\nwith max_rewind_s = 0.1, {len(change.flips)} rulings change:")
    for (before, after), count in change.outcomes.items():
        print(f"  {count:>4}  {before} -> {after}")


if __name__ == "__main__":
    main()
