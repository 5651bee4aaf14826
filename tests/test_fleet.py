"""The same question to many recordings: in processes here, on a cluster, across deaths and restarts."""

from __future__ import annotations

import contextlib
import json
import multiprocessing
import os
import shutil
import signal
import subprocess
import sys

import pytest
from click.testing import CliRunner
from pyarrow import parquet

import tinclock
from tinclock.batch.jobs import Task
from tinclock.batch.journal import LINES, BatchJournal
from tinclock.batch.pools import ClusterPool, LocalPool
from tinclock.batch.run import run_batch
from tinclock.cli.main import main
from tinclock.errors import BatchError
from tinclock.garden.match import simulate_match
from tinclock.garden.truth import write_truth
from tinclock.recordings.listing import recordings_in

COPIES = 12


@pytest.fixture(scope="module")
def matches(tmp_path_factory):
    """A dozen recordings of one short match, a torn one, and what is no recording at all."""
    folder = tmp_path_factory.mktemp("matches")
    played = simulate_match(seed=7, seconds=4.0, players=4, record_to=folder / "m00")
    write_truth(played, folder / "m00-truth")
    for number in range(1, COPIES):
        shutil.copytree(folder / "m00", folder / f"m{number:02}")
        shutil.copytree(folder / "m00-truth", folder / f"m{number:02}-truth")
    shutil.copytree(folder / "m00", folder / "torn")
    piece = next((folder / "torn" / "rulings").glob("*.parquet"))
    piece.write_bytes(piece.read_bytes()[:-40])
    return folder


def table(folder, name):
    return parquet.read_table(folder / f"{name}.parquet").to_pylist()


def bare(recording, folder):
    """A copy without anything beside it."""
    shutil.copytree(recording, folder / "bare")
    return folder / "bare"


def batch(*arguments):
    return CliRunner().invoke(main, ["batch", *map(str, arguments)])


def test_every_recording_is_done_once_and_the_broken_one_is_reported(matches, tmp_path):
    """And the same command again has nothing left to do but the broken one."""
    told = batch("replay", matches, "--out", tmp_path / "out", "--jobs", 2, "--json")
    assert told.exit_code == 3, told.output
    report = json.loads(told.stdout)
    assert (report["done"], report["done_before"], len(report["broken"])) == (COPIES + 1, 0, 1)
    assert "torn" in report["broken"][0]["recording"]
    rows = table(tmp_path / "out", "replay")
    assert [os.path.basename(row["recording"]) for row in rows] == [f"m{k:02}" for k in range(COPIES)]
    assert all(row["as_recorded"] and row["flipped"] == 0 for row in rows)
    assert len({row["rulings_sha256"] for row in rows}) == 1
    shutil.copytree(matches / "m00", tmp_path / "more")
    again = json.loads(batch("replay", matches, tmp_path / "more", "--out", tmp_path / "out", "--json").stdout)
    assert (again["done"], again["done_before"]) == (2, COPIES)
    assert again["result"]["recordings"] == COPIES + 1


def test_other_rules_list_every_ruling_that_flips(matches, tmp_path):
    """The flips of a sweep are those of `again` on each recording by itself."""
    setting = ("--set", "view.max_rewind_s=0.1", "--no-deaths")
    assert batch("replay", matches / "m00", matches / "m01", "--out", tmp_path, *setting, "--jobs", 1).exit_code == 0
    alone = json.loads(CliRunner().invoke(main, ["replay", str(matches / "m00"), *setting, "--json"]).stdout)
    flips = table(tmp_path, "flips")
    assert alone["flipped"] > 0
    assert [f["call_number"] for f in flips] == 2 * [flip["call_number"] for flip in alone["flips"]]
    refused = batch("replay", matches / "m00", "--out", tmp_path)
    assert refused.exit_code == 1
    assert "holds a batch of another kind, or with other options" in refused.output


def test_a_range_over_many_is_the_sum_of_the_range_over_each(matches, tmp_path):
    """Each value's outcomes and flips are those of `rerule --sweep` on each recording, added up."""
    over = ("--sweep", "view.max_rewind_s=0:0.2:0.1", "--no-deaths")
    told = batch("replay", matches / "m00", matches / "m01", "--out", tmp_path, *over, "--jobs", 1, "--json")
    assert told.exit_code == 0, told.output
    alone = json.loads(CliRunner().invoke(main, ["replay", str(matches / "m00"), *over, "--json"]).stdout)["rows"]
    rows = json.loads(told.stdout)["result"]["rows"]
    assert [row["value"] for row in rows] == [0.0, 0.1, 0.2]
    for name in ("accepted", "adjusted", "rejected", "damage", "flipped"):
        assert [row[name] for row in rows] == [2 * row[name] for row in alone], name
    assert rows[0]["flipped"] > rows[2]["flipped"]
    assert len(table(tmp_path, "sweep")) == 6
    said = batch("replay", matches / "m00", matches / "m01", "--out", tmp_path, *over).output
    assert "view.max_rewind_s over 2 recordings" in said


def test_fairness_and_evidence_over_many_are_what_they_are_of_each(matches, tmp_path):
    """Shares by line and cap; evidence by account, into a case store too, where each match counts once."""
    few = [matches / f"m{k:02}" for k in range(3)]
    assert batch("fairness", *few, "--out", tmp_path / "fair", "--rewind-limit", 0.1, "--jobs", 2).exit_code == 0
    alone = json.loads(CliRunner().invoke(main, ["fairness", str(few[0]), "--json"]).stdout)["recorded"]["shooters"]
    rows = [r for r in table(tmp_path / "fair", "shooters") if r["max_rewind_s"] != 0.1]
    assert [(r["connection_quality"], r["hits"], r["accepted"]) for r in rows] == 3 * [
        (line, row["hits"], row["accepted"]) for line, row in alone.items()
    ]
    claimed = [row for row in table(tmp_path / "fair", "claimed") if row["connection_quality"] == "all"]
    rulings = [r for r in tinclock.recordings.Recording(few[0]).rulings() if r.kind in ("shot", "melee") and r.account]
    asked = json.loads(CliRunner().invoke(main, ["fairness", str(bare(few[0], tmp_path)), "--json"]).stdout)["claimed"]
    assert {key: claimed[0][key] for key in ("claimed", "counted", "rejected")} == {
        key: asked["all"][key] for key in ("claimed", "counted", "rejected")
    }
    hits = sum(bool(ruling.hits) for ruling in rulings)
    assert 0 < claimed[0]["counted"] <= hits
    assert claimed[0]["claimed"] == sum(
        claimed[0][key] for key in ("counted", "elsewhere", "missed", "rejected")
    ) == sum(row["claimed"] for line, row in asked.items() if line != "all")  # fmt: skip
    store = tmp_path / "cases"
    for _ in range(2):
        done = batch("weigh", *few, "--out", tmp_path / "weigh", "--store", store, "--jobs", 2)
        assert done.exit_code == 0, done.output
    accounts = table(tmp_path / "weigh", "accounts")
    with contextlib.closing(tinclock.evidence.CaseStore(store / "cases.db")) as cases:
        review = tinclock.evidence.CaseReview(cases)
        plays = review.dossier(accounts[0]["account"]).plays
    assert len({row["match"] for row in accounts}) == 3
    assert len(plays) == 1  # the recordings are copies of one match


class Deadly(str):
    """A path at which the process that is handed it dies."""

    def __reduce__(self):
        return os._exit, (1,)


def test_a_recording_that_kills_its_process_twice_is_reported_and_the_others_are_done(matches):
    """And what raises something that no broken recording should is told too, not thrown at whoever sweeps."""
    paths = [str(matches / "m00"), Deadly(matches / "m01"), str(matches / "m02"), 7]
    found = {outcome.recording: outcome for outcome in LocalPool(2).run(Task(job="replay"), paths)}
    assert len(found) == 4
    assert {path for path, outcome in found.items() if outcome.crashed} == {paths[1], 7}
    assert "the process that read it failed: BrokenProcessPool" in found[paths[1]].problem
    assert "the process that read it failed: TypeError" in found[7].problem
    assert found[paths[0]].rows["replay"][0]["as_recorded"]


def test_a_process_that_is_killed_takes_nothing_with_it(matches, tmp_path):
    """One of two is killed after the third recording; every one is done, none twice in the tables."""
    recordings = recordings_in([matches])

    def kill_once(done, of):
        if done == 3:
            os.kill(multiprocessing.active_children()[0].pid, signal.SIGKILL)

    result = run_batch(tmp_path, Task(job="replay"), recordings, LocalPool(2), on_progress=kill_once)
    assert [os.path.basename(path) for path, _ in result.broken] == ["torn"]
    assert len(table(tmp_path, "replay")) == COPIES


def test_a_sweep_that_was_killed_goes_on_where_it_stopped(matches, tmp_path):
    """The journal may end in the middle of a line; two sweeps at once are refused."""
    recordings = recordings_in([matches])[:4]

    def stop(done, of):
        if done == 2:
            raise KeyboardInterrupt

    first = run_batch(tmp_path, Task(job="replay"), recordings, LocalPool(1), on_progress=stop)
    assert (first.done, first.stopped, len(table(tmp_path, "replay"))) == (2, True, 2)
    with (tmp_path / LINES).open("ab") as file:
        file.write(b'{"recording": "cut off in the mid')
    journal = BatchJournal(tmp_path, Task(job="replay"))
    with pytest.raises(BatchError, match="another batch is writing"):
        BatchJournal(tmp_path, Task(job="replay"))
    journal.close()
    second = run_batch(tmp_path, Task(job="replay"), recordings, LocalPool(1))
    assert (second.done, second.before, len(table(tmp_path, "replay"))) == (2, 2, 4)
    lines = (tmp_path / LINES).read_bytes().splitlines(keepends=True)
    (tmp_path / LINES).write_bytes(b"".join([lines[0], b"?" + lines[1], *lines[2:]]))
    with pytest.raises(BatchError, match=r"journal.jsonl: line 2 can't be read"):
        run_batch(tmp_path, Task(job="replay"), recordings, LocalPool(1))


@contextlib.contextmanager
def cluster(folder, workers):
    """A scheduler and workers as processes of their own, as somebody would start them on several machines."""
    environment = {**os.environ, "DASK_DISTRIBUTED__SCHEDULER__WORKER_SATURATION": "1.0"}
    file = folder / "scheduler.json"
    common = ("--scheduler-file", str(file))
    started = []

    def start(module, *arguments):
        command = [sys.executable, "-m", f"distributed.cli.{module}", *arguments]
        started.append(subprocess.Popen(command, env=environment, cwd=folder, stderr=subprocess.DEVNULL))

    try:
        start("dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", *common)
        while not file.exists() or not file.read_text().strip():
            assert started[0].poll() is None
        for _ in range(workers):
            start("dask_worker", "--no-nanny", "--nthreads", "1", "--no-dashboard", *common)
        yield json.loads(file.read_text())["address"], started[1:]
    finally:
        for process in started:
            process.kill()
            process.wait()


def test_a_cluster_loses_a_worker_half_way_and_nothing_else(matches, tmp_path, monkeypatch):
    """Two workers; one is killed when half is done. All recordings are done, as on one machine."""
    recordings = recordings_in([matches])
    with cluster(tmp_path, 2) as (address, workers):
        pool = ClusterPool(address)
        pool._client.wait_for_workers(2, timeout=60)

        def kill_once(done, of):
            if done == of // 2:
                workers[0].kill()

        result = run_batch(tmp_path / "out", Task(job="replay"), recordings, pool, on_progress=kill_once)
        left = pool.workers
        (raised,) = pool.run(Task(job="replay"), [7])
        assert (raised.crashed, "failed: TypeError" in raised.problem) == (True, True)
        pool.close()
        assert [os.path.basename(path) for path, _ in result.broken] == ["torn"]
        assert (left, len(table(tmp_path / "out", "replay"))) == (1, COPIES)
        with monkeypatch.context() as other:
            other.setattr("tinclock.batch.pools.version", lambda _: "9.9")
            with pytest.raises(BatchError, match=r"workers have tinclock .*; here it is 9.9"):
                ClusterPool(address)
        told = batch("replay", matches / "m00", "--out", tmp_path / "cli", "--scheduler", address)
        assert told.exit_code == 0, told.output
    here = table(tmp_path / "cli", "replay")[0]
    assert {row["rulings_sha256"] for row in table(tmp_path / "out", "replay")} == {here["rulings_sha256"]}


def test_what_keeps_a_sweep_from_beginning_is_told(matches, tmp_path, monkeypatch):
    """What keeps a batch from beginning is told."""
    monkeypatch.setattr("tinclock.batch.pools.WORKER_WAIT_S", 1.0)
    gone = batch("replay", matches / "m00", "--out", tmp_path / "a", "--scheduler", "tcp://127.0.0.1:9")
    assert (gone.exit_code, "no scheduler answers there" in gone.output) == (1, True)
    nothing = batch("replay", tmp_path / "nothing", "--out", tmp_path / "a")
    assert (nothing.exit_code, "is not there; give recordings" in nothing.output) == (1, True)
    file = tmp_path / "file"
    file.write_text("")
    taken = batch("replay", matches / "m00", "--out", file)
    assert (taken.exit_code, "can't be written" in taken.output) == (1, True)
