"""What evidence costs: live, over recordings, and in a large case store. evidence.py [--store URL]

Yardsticks, in the same run: encoding a ruling as JSON (msgspec) for the live cost, one core's second for detectors.
"""

from __future__ import annotations

import argparse
import multiprocessing
import random
import shutil
import tempfile
import time
from pathlib import Path

import msgspec

from tinclock import Finding
from tinclock.core.evidence.evidence_timeline import EvidenceTimeline
from tinclock.core.evidence.measured import MeasuredLine
from tinclock.evidence import (
    CaseReview,
    CaseStore,
    EvidenceChange,
    EvidenceLog,
    LiveEvidence,
    MatchEvaluator,
    load_calibration,
    observed_in,
)
from tinclock.recordings import Recording
from tinclock.report.case_page import case_page
from tinclock.sample import simulate_match

ACCOUNTS, FINDINGS_EACH, SECONDS, PLAYERS = 10_000, 100, 60.0, 16
CODES = ("fires_too_fast", "view_late", "dead_actor", "part_differs", "muzzle_far")


def main() -> None:
    """Measure and print."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--store", help="A PostgreSQL URL, to measure many writers at once.")
    url = asked.parse_args().store
    with tempfile.TemporaryDirectory() as folder:
        live_and_detectors(Path(folder))
        large_store(Path(folder))
    many_writers(url)


def live_and_detectors(folder: Path) -> None:
    """The cost per claim of weighing and logging findings, and of the detectors over a recording."""
    cheating = {"clover": {"inflate_damage": 1.0}, "elder": {"fast_trigger": 0.8}}
    played = simulate_match(seed=7, seconds=SECONDS, players=PLAYERS, cheats=cheating, record_to=folder / "match")
    calibration, rules = load_calibration(), played.garden.rules
    rulings, best = [r for r in played.rulings if r.account], []
    for _ in range(5):
        watch = LiveEvidence(calibration, rules)
        with EvidenceLog(folder / f"log{len(best)}", sync="soon") as log:
            begin = time.perf_counter()
            for ruling in rulings:
                if ruling.findings:
                    for finding in ruling.findings:
                        watch.finding(finding, ruling.number)
                    log.append("finding", ruling.findings)
            best.append((time.perf_counter() - begin) / len(rulings))
    encode = msgspec.json.Encoder().encode
    begin = time.perf_counter()
    for ruling in rulings:
        encode(ruling)
    yardstick = (time.perf_counter() - begin) / len(rulings)
    share = sum(bool(r.findings) for r in rulings) / len(rulings)
    print(
        f"live: {1e6 * min(best):.2f} us a claim for weighing and logging findings ({100 * share:.1f} % of "
        f"{len(rulings):,} claims have one), {min(best) / yardstick:.2f} x encoding its ruling"
    )
    recording, minutes = Recording(folder / "match"), PLAYERS * SECONDS / 60.0
    warm = MatchEvaluator(calibration, rules)
    for seen in observed_in(recording):  # SciPy and the kernels load once
        warm.add(seen)
    begin = time.process_time()
    stretches = list(observed_in(recording))
    reading = time.process_time() - begin
    begin = time.process_time()
    weighing = MatchEvaluator(calibration, rules)
    for seen in stretches:
        weighing.add(seen)
    testing = time.process_time() - begin
    print(
        f"detectors: {minutes / testing:.0f} player-minutes a core's second; reading and observing besides: "
        f"{minutes / reading:.0f}"
    )


def large_store(folder: Path) -> None:
    """A million findings of ten thousand accounts: the queue and a case page."""
    store, calibration, rng = CaseStore(folder / "cases.db"), load_calibration(), random.Random(7)
    begin = time.perf_counter()
    for match in range(ACCOUNTS // 50):
        fill(store, calibration, f"match-{match}", [f"account-{50 * match + k}" for k in range(50)], rng, FINDINGS_EACH)
    took = time.perf_counter() - begin
    desk = CaseReview(store)
    desk.queue()
    begin = time.perf_counter()
    queue, counts = desk.queue(), desk.counts()
    listed = time.perf_counter() - begin
    begin = time.perf_counter()
    page = case_page(desk.dossier(queue[0].account), calibration, limit=store.limit)
    drawn = time.perf_counter() - begin
    print(
        f"store: {ACCOUNTS * FINDINGS_EACH:,} findings of {counts['accounts']:,} accounts taken in {took:.0f} s; queue "
        f"{1000 * listed:.0f} ms, case page without replays {1000 * drawn:.0f} ms ({len(page) / 1e6:.1f} MB)"
    )
    store.close()


def fill(store: CaseStore, calibration, match: str, accounts: list[str], rng: random.Random, findings: int) -> None:
    """A made-up match: every twentieth account has much against it."""
    stages, gains, lines = {}, [], {}
    for account in accounts:
        much = 90.0 if rng.random() < 0.05 else -1.0
        stages[account] = [(15.0 * k, {"fires_too_fast": much * k / 20.0}) for k in range(1, 21)]
        gains += [
            EvidenceChange(15.0 * k, account, "fires_too_fast", 4.0, line="steady", rulings=(k,)) for k in range(1, 6)
        ]
        lines[account] = [(15.0 * k, MeasuredLine(0.04, 0.001)) for k in range(1, 21)]
    timeline = EvidenceTimeline(stages, gains, lines, dict.fromkeys(accounts, 5.0))
    found = [
        (k, Finding(rng.choice(CODES), "c", account, 1, k, 3.0 * k, 0.1, 0.05, 0.05, "s"))
        for account in accounts
        for k in range(findings)
    ]
    store.import_match(match, timeline, calibration, found)


def many_writers(url: str | None) -> None:
    """Servers that write at once: about accounts of their own, and about the same ones."""
    folder = Path(tempfile.mkdtemp())
    address, each = url or str(folder / "shared.db"), 25
    CaseStore(address).close()
    kind = "PostgreSQL" if url else "SQLite"
    for writers in (1, 2, 4):
        for shared in (False, True):
            mark = f"{time.time():.3f}"
            with multiprocessing.get_context("spawn").Pool(writers) as pool:
                jobs = [(address, mark, k, each, shared) for k in range(writers)]
                spans = pool.starmap(_writer, jobs)
            took = max(end for _, end in spans) - min(begin for begin, _ in spans)
            store = CaseStore(address)
            seen = sum(CaseReview(store).dossier(f"{mark}-0-{k}").account.matches for k in range(16))
            store.close()
            assert seen == 16 * each * (writers if shared else 1), "a match was lost"
            whose = "all about the same 16" if shared else "each about others"
            rate = writers * each / took
            print(
                f"{kind}, {writers} writers, {whose}: {rate:.0f} matches of 16 accounts a second, "
                f"{16 * 40 * rate:,.0f} findings a second"
            )
    shutil.rmtree(folder)


def _writer(address: str, mark: str, number: int, each: int, shared: bool) -> tuple[float, float]:
    """When it began and ended, its start not counted."""
    store, calibration, rng = CaseStore(address), load_calibration(), random.Random(number)
    group = 0 if shared else number
    fill(store, calibration, f"{mark}-{number}-warm", [f"{mark}-{number}-warm"], rng, 1)
    begin = time.time()
    for match in range(each):
        fill(store, calibration, f"{mark}-{number}-{match}", [f"{mark}-{group}-{k}" for k in range(16)], rng, 40)
    end = time.time()
    store.close()
    return begin, end


if __name__ == "__main__":
    main()
