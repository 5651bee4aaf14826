"""Weighing matches while they are recorded: cases open before the match is over, and the match is taken in once."""

import json
import shutil
import signal
import subprocess
import sys
import threading
import time

import pytest
from click.testing import CliRunner

from tinclock.cli.main import main
from tinclock.core.evidence.evidence_timeline import weigh
from tinclock.evidence import CaseReview, CaseStore, load_calibration
from tinclock.recordings import Recording
from tinclock.recordings.observed import observed_in
from tinclock.recordings.recording_watcher import RecordingWatcher
from tinclock.sample import simulate_match

UNFAIR = {"clover": {"inflate_damage": 1.0}}


def copy_while_written(path, to):
    """Copy the list before the files that it names: every file lies there before the list names it.

    Parts under way are left out: the recorder renames them while they would be copied.
    """
    to.mkdir()
    shutil.copy(path / "flushes.jsonl", to)
    shutil.copytree(path, to, ignore=shutil.ignore_patterns("flushes.jsonl", "*.part"), dirs_exist_ok=True)


def test_what_is_weighed_on_the_way_is_what_is_weighed_afterwards(tmp_path):
    """Looked at after every few seconds while the match is played, the evidence is the finished recording's."""
    path, stood = tmp_path / "match", {}
    following = RecordingWatcher(path, load_calibration())
    assert following.look() == []
    assert following.timeline is None

    def look(share: float) -> None:
        following.look()
        for account, stages in following.timeline.stages.items() if following.timeline else ():
            for at, now in stages:
                stood[account, at] = now
        if share > 0.9 and not (tmp_path / "copy").exists():
            copy_while_written(path, tmp_path / "copy")

    simulate_match(seed=31, seconds=24.0, players=5, cheats=UNFAIR, record_to=path, on_progress=look)
    following.look()
    assert following.closed
    source = Recording(tmp_path / "copy")
    after = weigh(observed_in(source), load_calibration(), source.require_header().rules)
    both = [((account, at), now) for account, stages in after.stages.items() for at, now in stages[:-1]]
    assert len(both) >= 10
    for place, now in both:
        assert stood[place] == pytest.approx(now, abs=1e-9)


def test_a_case_opens_while_its_match_goes_on_and_the_match_is_taken_in_when_it_is_over(tmp_path):
    """A folder is followed by its own process: the case is there before the match ends, and no match counts twice."""
    matches, store = tmp_path / "matches", tmp_path / "cases"
    matches.mkdir()
    child = subprocess.Popen(
        [sys.executable, "-m", "tinclock", "watch", str(matches), "--store", str(store), "--interval", "0.2"],
        stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    opened_at: list[float] = []
    over = threading.Event()

    def watch() -> None:
        cases = CaseStore(store / "cases.db")
        while not over.is_set() and not CaseReview(cases).queue():
            time.sleep(0.1)
        opened_at.append(time.monotonic())

    watching = threading.Thread(target=watch)
    try:
        deadline = time.monotonic() + 60.0
        while not (store / "cases.db").exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        watching.start()
        began = time.monotonic()

        def pace(share: float) -> None:  # as a match goes: 40 s of it in at least 12
            time.sleep(max(0.0, began + 12.0 * share - time.monotonic()))

        simulate_match(seed=32, seconds=40.0, players=4, cheats=UNFAIR, record_to=matches / "one", on_progress=pace)
        ended = time.monotonic()
        review = CaseReview(CaseStore(store / "cases.db"))
        while review.counts()["accounts"] < 4 and time.monotonic() < ended + 60.0:
            time.sleep(0.2)
    finally:
        over.set()
        child.send_signal(signal.SIGTERM)
        told = child.communicate(timeout=60)[0]
        watching.join()
    assert opened_at[0] < ended
    assert child.returncode == 0
    assert told.count("case opened: clover") == 1
    assert "one: taken in" in told
    assert [case.account for case in review.queue()] == ["clover"]
    assert review.dossier("clover").account.matches == 1
    again = CliRunner().invoke(main, ["weigh", str(matches / "one"), "--store", str(store), "--json"])
    assert json.loads(again.stdout)[0]["taken_before"]


def test_serve_refuses_to_weigh_what_it_doesnt_record():
    """Cases come from what is recorded; without a place for recordings `serve --store` says so."""
    done = CliRunner().invoke(main, ["serve", "--store", "cases"])
    assert (done.exit_code, "say where with --record" in done.output) == (2, True)
