"""The evidence log, the case store, reviewing, telling others, the commands and the page, as their users use them."""

from __future__ import annotations

import csv
import io
import json
import math
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import closing
from pathlib import Path

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from conftest import INSIDE, asked_of, complaints, needs, open_browser, until
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import tinclock
from tinclock.cases.checking import problems_of
from tinclock.cases.evidence_log import EvidenceLog, LogTip, read_log, verify_log
from tinclock.cases.figures import exported, labels_of, summed_up
from tinclock.cases.kinds import chance_of, evidence_text, reason_of, strength
from tinclock.cases.pseudonyms import Pseudonyms
from tinclock.cases.records import Case
from tinclock.cases.review import CaseReview
from tinclock.cases.store import CaseStore
from tinclock.cli.main import main
from tinclock.core.evidence.eprocess import DECIBAN, KindEvidence
from tinclock.core.evidence.evidence_timeline import Common, EvidenceTimeline
from tinclock.core.evidence.live import EvidenceChange
from tinclock.core.evidence.measured import MeasuredLine
from tinclock.core.findings import Finding
from tinclock.errors import AlreadyImportedError, EvidenceError, MissingExtraError, UnknownNameError
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import data_file
from tinclock.report.case_page import case_page
from tinclock.report.case_view import facts_of
from tinclock.serve.notices import CloudEvent, Notices, syslog_line
from tinclock.serve.stand_in import StandInReceiver

SERVER = os.environ.get("TINCLOCK_TEST_POSTGRESQL", "")
KINDS = ["sqlite", pytest.param("postgresql", marks=needs("postgresql"))]
MARKUP = "<img src=x onerror=alert(1)></script>"


def run(*arguments: object, fails: int = 0) -> str:
    done = CliRunner().invoke(main, [str(argument) for argument in arguments], catch_exceptions=False)
    assert done.exit_code == fails, done.output
    return done.output


# -- the log --------------------------------------------------------------------------------------------------------


def written_log(folder, records: int = 12, **settings):
    with EvidenceLog(folder, **settings) as log:
        for k in range(records):
            log.append("finding", [{"k": k, "code": "fires_too_fast"}], at=1000.0 + k)
        return log.head


def test_what_is_appended_is_read_back_in_order_over_files_that_rotate(tmp_path):
    """What is appended is read back in order over files that rotate."""
    head = written_log(tmp_path, 40, file_bytes=600)
    assert len(list(tmp_path.glob("evidence-*.jsonl"))) > 5
    assert [msgspec.json.decode(entry.body)["k"] for entry in read_log(tmp_path)] == list(range(40))
    assert verify_log(tmp_path, head) is None


@given(st.data())
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=60)
def test_the_first_record_that_was_touched_is_named(tmp_path, data):
    """Any byte of any record but the last changed, a record removed, two swapped."""
    folder = tmp_path / f"{time.monotonic_ns()}"
    written_log(folder)
    file = folder / "evidence-000001.jsonl"
    lines = file.read_bytes().splitlines(keepends=True)
    victim = data.draw(st.integers(0, len(lines) - 2))
    how = data.draw(st.sampled_from(["edit", "remove", "swap"]))
    if how == "edit":
        place = data.draw(st.integers(0, len(lines[victim]) - 2))
        line = bytearray(lines[victim])
        line[place] = line[place] % 96 + 32 if (line[place] % 96 + 32) != line[place] else 33
        lines[victim] = bytes(line)
    elif how == "remove":
        del lines[victim]
    else:
        lines[victim], lines[victim + 1] = lines[victim + 1], lines[victim]
    file.write_bytes(b"".join(lines))
    found = verify_log(folder)
    assert found is not None
    assert re.search(rf"record {victim + 1}\b|record {victim + 2}\b|line {victim + 1}\b", found), (how, victim, found)
    shutil.rmtree(folder)


def test_a_torn_end_is_set_aside_and_a_cut_end_is_missed_by_who_noted_it(tmp_path):
    """A torn end is set aside and a cut end is missed by who noted it."""
    head = written_log(tmp_path)
    file = tmp_path / "evidence-000001.jsonl"
    whole = file.read_bytes()
    file.write_bytes(whole + b'{"number":13,"prev')
    assert "torn" in (verify_log(tmp_path) or "")
    with EvidenceLog(tmp_path) as log:
        assert log.set_aside is not None
        assert log.set_aside.read_bytes() == b'{"number":13,"prev'
        assert log.append("finding", [{}]) == 13
    assert verify_log(tmp_path, head) is None
    file.write_bytes(b"".join(whole.splitlines(keepends=True)[:9]))
    assert verify_log(tmp_path) is None, "a chain alone can't know what came after"
    assert "record 12, which was noted, is gone" in (verify_log(tmp_path, head) or "")


def test_one_writer_at_a_time_and_a_folder_without_a_log_is_said(tmp_path):
    """One writer at a time and a folder without a log is said."""
    with EvidenceLog(tmp_path / "log"), pytest.raises(EvidenceError, match="another process"):
        EvidenceLog(tmp_path / "log")
    with pytest.raises(EvidenceError, match="holds no evidence log"):
        list(read_log(tmp_path))


def test_a_disk_that_is_full_for_a_moment_leaves_no_half_record(tmp_path):
    """What a failed write left is taken back, even where that fails at first, and the log goes on whole."""
    log = EvidenceLog(tmp_path, sync="never")
    log.append("finding", [{"k": 1}])
    whole, truncate = log._file, os.ftruncate

    class Full:
        closed = False

        def write(self, data):
            whole.write(bytes(data[:7]))
            raise OSError(28, "No space left on device")

        def fileno(self):
            return whole.fileno()

    for stuck in (False, True):
        log._file = Full()
        os.ftruncate = (lambda *_: (_ for _ in ()).throw(OSError(5, "Input/output error"))) if stuck else truncate
        try:
            with pytest.raises(EvidenceError, match=r"No space left.*" + ("takes it back" if stuck else "")):
                log.append("finding", [{"k": 2}])
        finally:
            os.ftruncate = truncate
        log._file = whole
        assert log.append("finding", [{"k": 3}]) == 2 + stuck
        assert verify_log(tmp_path, log.head) is None
    log.close()
    assert [msgspec.json.decode(entry.body)["k"] for entry in read_log(tmp_path)] == [1, 3, 3]


def test_each_append_and_each_new_file_is_on_the_disk_when_it_is_acknowledged(tmp_path, monkeypatch):
    """With "each" a record is synced before `append` returns, and so is the folder that names a new file."""
    synced = []
    monkeypatch.setattr(os, "fsync", lambda handle: synced.append(os.readlink(f"/proc/self/fd/{handle}")))
    with EvidenceLog(tmp_path, sync="each", file_bytes=300) as log:
        for k in range(4):
            synced.clear()
            log.append("finding", [{"k": k, "pad": "x" * 120}])
            newest = sorted(tmp_path.glob("evidence-*.jsonl"))[-1]
            assert str(newest) in synced
            assert (str(tmp_path) in synced) is (k > 0 and newest.stat().st_size < 300)


def test_many_noted_heads_are_checked_in_one_reading(tmp_path, monkeypatch):
    """A log with a thousand decisions is not read a thousand times."""
    log, heads = EvidenceLog(tmp_path, sync="never"), []
    for k in range(30):
        log.append("decision", [{"k": k}])
        heads.append(log.head)
    log.close()
    read = []
    original = type(tmp_path).read_bytes
    monkeypatch.setattr(type(tmp_path), "read_bytes", lambda path: read.append(path) or original(path))
    assert verify_log(tmp_path, heads) is None
    assert len(read) == 1
    assert "is not the noted one" in verify_log(tmp_path, [*heads[:-1], LogTip(30, "0" * 64)])
    assert "record 31, which was noted, is gone" in verify_log(tmp_path, [*heads, LogTip(31, "0" * 64)])


def test_nothing_that_was_acknowledged_is_lost_to_kills(tmp_path):
    """A dozen kill -9s; `benchmarks/log_kills.py` does five hundred."""
    child = (
        "import sys; from tinclock.cases.evidence_log import EvidenceLog\n"
        "log = EvidenceLog(sys.argv[1], sync='never', file_bytes=5000)\n"
        "while True: print(log.append('finding', [{'k': 1}] * 3), flush=True)"
    )
    noted = LogTip(0, "")
    for k in range(12):
        process = subprocess.Popen([sys.executable, "-c", child, str(tmp_path)], stdout=subprocess.PIPE, text=True)
        process.stdout.readline()
        time.sleep(0.002 * k)
        process.send_signal(signal.SIGKILL)
        said = [int(line) for line in process.communicate()[0].split("\n")[:-1] if line]
        with EvidenceLog(tmp_path) as log:
            assert log.head.number >= max([noted.number, *said])
            noted = log.head
    assert verify_log(tmp_path, noted) is None


# -- the store ------------------------------------------------------------------------------------------------------


@pytest.fixture(params=KINDS)
def address(request, tmp_path):
    """A case store's address: a file, and where there is a server an own schema on it."""
    if request.param == "sqlite":
        yield str(tmp_path / "cases.db")
        return
    import psycopg

    plain = SERVER.replace("postgresql+psycopg://", "postgresql://")
    name = f"t{time.monotonic_ns()}"
    with psycopg.connect(plain, autocommit=True) as connection:
        connection.execute(f"create schema {name}")
    yield f"{SERVER}?options=-csearch_path%3D{name}"
    with psycopg.connect(plain, autocommit=True) as connection:
        connection.execute(f"drop schema {name} cascade")


@pytest.fixture
def review(address, tmp_path):
    store = CaseStore(address)
    with EvidenceLog(tmp_path / "log", sync="each") as log:
        yield CaseReview(store, log)
    store.close()


def course(decibans: dict[str, float]) -> EvidenceTimeline:
    """A match of five minutes in which accounts gain evidence evenly, by one code."""
    times = [60.0 * k for k in range(1, 6)]
    stages = {a: [(t, {"fires_too_fast": DECIBAN * v * t / 300.0}) for t in times] for a, v in decibans.items()}
    gains = [EvidenceChange(60.0, a, "fires_too_fast", v, connection_quality="steady") for a, v in decibans.items()]
    lines = {a: [(t, MeasuredLine(0.05, 0.001)) for t in times] for a in decibans}
    return EvidenceTimeline(stages, gains, lines, dict.fromkeys(decibans, 5.0))


def take(store: CaseStore, match: str, decibans: dict[str, float], **more):
    found = [(7, Finding("fires_too_fast", "c", account, 1, 1, 3.0, 0.2, 0.1, 0.1, "s")) for account in decibans]
    return store.import_match(match, course(decibans), tinclock.evidence.load_calibration(), found, **more)


def test_a_page_says_what_was_left_out_and_what_doesnt_count(review):
    """Findings of most accounts of a match, and rules that differ from the calibration's, stand on the page."""
    seen = course({"ada": 90.0})._replace(common=(Common("teleport", 5, 6),), muted=("spread",))
    review.store.import_match("m1", seen, tinclock.evidence.load_calibration(), [])
    page = case_page(review.dossier("ada"), tinclock.evidence.load_calibration(), limit=30.0)
    assert "Ignored in m1: teleports. Most players showed it" in page
    assert "m1 used other rules (spread) than the calibration." in page


@pytest.mark.parametrize("between", [False, True])
def test_a_match_that_is_weighed_again_replaces_what_was(review, tmp_path, between):
    """Weighed while it went on, then whole, by another name: the account stands as if it was weighed once."""
    known = {"identity": "f00d", "recording": "here"}
    take(review.store, "before", {"ada": 3.0, "bob": -1.0})
    take(review.store, "m1", {"ada": 80.0}, **known, rulings=100)
    if between:
        take(review.store, "other", {"ada": -2.0})
    with pytest.raises(AlreadyImportedError, match="taken before"):
        take(review.store, "copy", {"ada": 80.0}, **known, rulings=100)
    assert review.store.has_match("copy", "f00d", 100)
    assert not review.store.has_match("copy", "f00d", 101)
    take(review.store, "copy", {"ada": 219.9, "bob": 2.0}, **known, rulings=300)
    with pytest.raises(AlreadyImportedError):
        take(review.store, "m1", {"ada": 80.0}, **known, rulings=200)
    found = review.dossier("ada")
    with closing(CaseStore(tmp_path / "once.db")) as once:
        for match, decibans in (("before", 3.0), *([("other", -2.0)] if between else []), ("m1", 219.9)):
            take(once, match, {"ada": decibans})
        expected = CaseReview(once).dossier("ada")
    assert found.account.decibans == pytest.approx(expected.account.decibans, abs=1e-6)
    assert found.account.peak == pytest.approx(expected.account.peak, abs=1e-6)
    assert (found.account.matches, found.account.minutes) == (expected.account.matches, expected.account.minutes)
    assert [(p.match, p.number) for p in found.plays] == [(p.match, p.number) for p in expected.plays]
    assert found.counts == expected.counts
    assert found.case.decibans == pytest.approx(expected.case.decibans, abs=1e-6)
    assert review.dossier("bob").account.matches == 2


def test_a_case_keeps_the_table_that_it_was_weighed_with(review):
    """Its page says the figures of that table, whatever ships; another table can still be named."""
    shipped = tinclock.evidence.load_calibration()
    usual = msgspec.structs.replace(shipped.ceilings["claim_rate"]["all"], typical=77.0, share=99.0)
    mine = msgspec.structs.replace(shipped, ceilings={**shipped.ceilings, "claim_rate": {"all": usual}})
    seen = course({"ada": 90.0})
    stages = [(at, {"claim_rate": now["fires_too_fast"]}) for at, now in seen.stages["ada"]]
    review.store.import_match("m1", seen._replace(stages={"ada": stages}), mine, [])
    dossier = review.dossier("ada")
    assert dossier.calibration == mine
    assert "honest accounts send 77 a second, the busiest 99" in case_page(dossier, limit=30.0).lower()
    assert "the busiest 99" not in case_page(dossier, shipped, limit=30.0).lower()


def test_one_reason_and_one_strength_are_said_everywhere(review):
    """Where an exact test and a stronger calibrated kind speak, list, page and case name the same one."""
    seen = course({"ada": 95.0})
    both = [(at, {"fires_too_fast": now["fires_too_fast"], "foreseen_spread": 0.4 * now["fires_too_fast"]})
            for at, now in seen.stages["ada"]]  # fmt: skip
    review.store.import_match("m1", seen._replace(stages={"ada": both}), tinclock.evidence.load_calibration(), [])
    dossier = review.dossier("ada")
    title = evidence_text("foreseen_spread").title
    assert reason_of(dossier.case.kinds) == "foreseen_spread"
    assert dossier.case.why.startswith(f"{title}; reached the case threshold in m1")
    facts = facts_of(dossier, tinclock.evidence.load_calibration(), 30.0)
    assert facts["opening"] == f"ada {title}: {strength(dossier.case.peak)} evidence."
    page = case_page(dossier, limit=30.0)
    assert f"False-positive bound: {chance_of(dossier.case.peak)}" in page
    assert "of that alone" not in page


def test_a_recording_that_goes_on_or_is_renamed_is_one_match(tmp_path, monkeypatch):
    """The command weighs a match that has not ended and says so; whole, renamed or copied it still counts once."""
    monkeypatch.chdir(tmp_path)
    cheats = {"anvil": {"inflate_damage": 1.0}}
    simulate_match(seed=3, seconds=24.0, players=4, cheats=cheats, record_to="whole")
    shutil.copytree("whole", "part")
    lines = Path("part/flushes.jsonl").read_bytes().splitlines(keepends=True)
    Path("part/flushes.jsonl").write_bytes(b"".join(lines[: len(lines) // 2]))
    assert len(lines) > 1
    assert "has not ended: weighed up to" in run("weigh", "part")
    weighed = json.loads(run("weigh", "whole", "--json"))[0]
    os.rename("whole", "evening")
    assert "was weighed before; nothing changed" in run("weigh", "evening")
    once = json.loads(run("weigh", "evening", "--store", "other", "--json"))[0]
    with closing(CaseStore("cases/cases.db")) as store, closing(CaseStore("other/cases.db")) as other:
        both = [CaseReview(each).dossier("anvil") for each in (store, other)]
    assert both[0].account.decibans == pytest.approx(both[1].account.decibans, abs=1e-6)
    assert [len(one.plays) for one in both] == [1, 1]
    assert (weighed["ended"], weighed["accounts"]) == (True, once["accounts"])
    kinds = [entry.kind for entry in read_log("cases/log")]
    assert kinds.count("weighed_again") == 1
    assert kinds[kinds.index("weighed_again") + 1 :] == [entry.kind for entry in read_log("other/log")]


def test_a_case_opens_when_the_evidence_of_all_matches_crosses_the_line(review):
    """Neither match alone would do; a match counts once; honest accounts get none."""
    assert take(review.store, "m1", {"ada": 40.0, "bob": -3.0}) == []
    with pytest.raises(EvidenceError, match="taken before"):
        take(review.store, "m1", {"ada": 40.0, "bob": -3.0})
    (case,) = take(review.store, "m2", {"ada": 40.0, "bob": -3.0})
    assert (case.account, case.state, case.opened_in) == ("ada", "open", "m2")
    assert case.peak >= case.limit == pytest.approx(30.0)
    assert review.dossier("bob").case is None
    dossier = review.dossier("ada")
    assert (dossier.account.matches, dossier.counts) == (2, {"fires_too_fast": 2})
    assert [play.number for play in dossier.plays] == [1, 2]
    with pytest.raises(UnknownNameError, match="'ada'"):
        review.dossier("nobody")


def test_servers_that_write_at_once_lose_nothing(address):
    """Four at once, all about the same accounts: every match is counted, and the evidence is that of all of them."""
    CaseStore(address).close()

    def serve(number: int) -> None:
        store = CaseStore(address)
        for k in range(6):
            take(store, f"m{number}-{k}", {"ada": 2.0, "bob": -1.0})
        store.close()

    threads = [threading.Thread(target=serve, args=(number,)) for number in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    store = CaseStore(address)
    many = CaseReview(store).dossier("ada")
    assert (many.account.matches, many.counts) == (24, {"fires_too_fast": 24})
    assert sorted(play.number for play in many.plays) == list(range(1, 25))
    one = KindEvidence()
    for _ in range(23):
        one = one.add(2.0 * DECIBAN).next_match()
    share = tinclock.evidence.load_calibration().kinds()["fires_too_fast"]
    expected = 10.0 * math.log10(share * math.exp(one.add(2.0 * DECIBAN).log_e) + 1.0 - share)
    assert many.account.decibans == pytest.approx(expected, abs=0.01)
    store.close()


def test_matches_that_arrive_late_and_out_of_order_are_weighed_as_they_arrive(address):
    """Three servers at once, each with matches of long ago among new ones: the account holds what the plain formula
    gives for the order of arrival, whatever that order was, and every match once.
    """
    rng = np.random.default_rng(11)
    played = rng.uniform(-6.0, 9.0, 15)
    CaseStore(address).close()

    def serve(matches) -> None:
        store = CaseStore(address)
        for k in matches:
            take(store, f"m{k}", {"ada": float(played[k])}, at=1000.0 * k)
        store.close()

    servers = [threading.Thread(target=serve, args=(part,)) for part in np.array_split(rng.permutation(15), 3)]
    for server in servers:
        server.start()
    for server in servers:
        server.join()
    store = CaseStore(address)
    dossier = CaseReview(store).dossier("ada")
    arrived = sorted(dossier.plays, key=lambda play: play.number)
    assert sorted(play.match for play in arrived) == sorted(f"m{k}" for k in range(15))
    assert dossier.account.last_seen == 14000.0
    e = np.array([10.0 ** (played[int(play.match[1:])] / 10.0) for play in arrived])
    share, peak = tinclock.evidence.load_calibration().kinds()["fires_too_fast"], 0.0
    for n in range(1, 16):
        begun = sum(e[j - 1 : n].prod() / (j * (j + 1)) for j in range(1, n + 1)) + 1.0 / (n + 1)
        value = 10.0 * math.log10(share * begun + 1.0 - share)
        assert arrived[n - 1].decibans == pytest.approx(value, abs=1e-6)
        peak = max(peak, value)
    assert dossier.account.peak >= peak - 1e-6
    store.close()


def test_who_reads_waits_for_no_writer_and_the_course_of_a_match_goes_on_from_earlier_ones(review):
    """Who reads waits for no writer and the course of a match goes on from earlier ones."""
    take(review.store, "m1", {"ada": 40.0})
    calibration, now = tinclock.evidence.load_calibration(), course({"ada": 40.0})
    live = now.points("ada", calibration.kinds(), review.store.earlier("ada"))
    with review.store.write() as writing:
        writing.exec_driver_sql("update accounts set last_seen = 1.0")
        assert review.counts()["accounts"] == 1
        assert review.dossier("ada").account.last_seen != 1.0
    take(review.store, "m2", {"ada": 40.0})
    assert [value for _, value in review.dossier("ada").plays[1].course.points] == pytest.approx(
        [v for _, v in live], abs=1e-3
    )


def test_decisions_are_a_persons_and_are_in_the_chain(review, tmp_path):
    """Decisions are a person's and are in the chain."""
    take(review.store, "m1", {"ada": 90.0})
    told = []
    review._on_decision = lambda decision, case: told.append((decision.verdict, case.state))
    for missing in ({"reviewer": "", "note": "x"}, {"reviewer": "eve", "note": " "}):
        with pytest.raises(EvidenceError, match="note that says why"):
            review.decide("ada", "cleared", **missing)
    with pytest.raises(UnknownNameError, match="verdict"):
        review.decide("ada", "banned", reviewer="eve", note="x")
    decided = review.decide("ada", "waiting", reviewer="eve", note="a bad line?")
    assert decided.log_digest is not None
    assert [case.state for case in review.queue(("waiting",))] == ["waiting"]
    take(review.store, "m2", {"ada": 95.0})
    assert [case.state for case in review.queue()] == ["open"], "much more evidence brings a watched case back"
    review.decide("ada", "confirmed", reviewer="eve", note="no doubt")
    review.reopen("ada", reviewer="bo", note="appeal")
    assert told == [("waiting", "waiting"), ("confirmed", "confirmed"), ("reopened", "open")]
    records = [msgspec.json.decode(e.body) for e in read_log(tmp_path / "log") if e.kind == "decision"]
    assert [(r["verdict"], r["reviewer"]) for r in records] == [
        ("waiting", "eve"),
        ("confirmed", "eve"),
        ("reopened", "bo"),
    ]
    assert verify_log(tmp_path / "log", LogTip(decided.log_number, decided.log_digest)) is None
    review.decide("ada", "cleared", reviewer="bo", note="a sibling's account")
    assert labels_of(review) == {"ada": False}
    assert summed_up(review)["kinds"][0] | {"share": 0.0} == {
        "kind": "fires_too_fast", "confirmed": 0, "cleared": 1, "waiting": 0, "share": 0.0,
    }  # fmt: skip


EDITS = {
    "its verdict is 'confirmed'": "UPDATE decisions SET verdict = 'confirmed'",
    "its note is 'sure'": "UPDATE decisions SET note = 'sure'",
    "its reviewer is 'mal'": "UPDATE decisions SET reviewer = 'mal'",
    "its at is": "UPDATE decisions SET at = at + 3600",
    "it was deleted": "DELETE FROM decisions",
    "its state was edited": "UPDATE cases SET state = 'confirmed'",
    "it was made up": "INSERT INTO decisions SELECT 99, 1, at, 'mal', 'confirmed', note, decibans, kinds, NULL, "
    "NULL FROM decisions",
}


@pytest.mark.parametrize("told", EDITS)
def test_a_decision_that_was_edited_in_the_store_is_named(review, tmp_path, told):
    """Store and log are compared both ways: a verdict, note, reviewer or time edited, a decision deleted or made up."""
    take(review.store, "m1", {"ada": 90.0})
    review.decide("ada", "cleared", reviewer="eve", note="a shared line")
    assert problems_of(review, tmp_path / "log") == []
    with review.store.write() as connection:
        connection.exec_driver_sql(EDITS[told])
    assert any(told in problem for problem in problems_of(review, tmp_path / "log"))


@pytest.mark.parametrize("verdict", ["cleared", "confirmed"])
def test_a_decided_case_comes_back_with_enough_evidence_that_is_new(review, verdict):
    """A decision is about what was known; the same evidence again keeps it decided, as much again reopens it."""
    take(review.store, "m1", {"ada": 90.0})
    review.decide("ada", verdict, reviewer="eve", note="seen")
    take(review.store, "m2", {"ada": 12.0})
    assert [case.state for case in review.queue((verdict,))] == [verdict]
    take(review.store, "m3", {"ada": 60.0})
    assert [case.account for case in review.queue()] == ["ada"]


def test_the_queue_goes_by_evidence_and_waiting(review):
    """The queue goes by evidence and waiting."""
    day = 86400.0
    take(review.store, "m1", {"old": 60.0}, at=0.0)
    take(review.store, "m2", {"new": 63.0, "newer": 68.0}, at=10.0 * day)
    assert [case.account for case in review.queue()] == ["old", "newer", "new"]


def test_forgetting_leaves_no_trace_of_the_name_but_that_it_happened(review, tmp_path):
    """Forgetting leaves no trace of the name in store or log, and the log's chain and decisions are whole."""
    from sqlalchemy import select

    from tinclock.cases.tables import FORGOTTEN, METADATA

    # no hexadecimal digits can spell this name: keys and digests in the log are random ones
    take(review.store, "m1", {"olive": 90.0, "bob": 0.0})
    review.decide("olive", "cleared", reviewer="eve", note="fine")
    review.forget("olive", reviewer="eve", reason="asked to")
    with review.store.write() as connection:
        for table in METADATA.sorted_tables:
            assert not any("olive" in map(str, row) for row in connection.execute(select(table))), table.name
        (row,) = connection.execute(select(FORGOTTEN))
    assert (row.findings, row.matches, row.had_case, row.reason) == (1, 1, True, "asked to")
    review._log.append("finding", [Finding("fires_too_fast", "c-olive", "bob", 1, 1, 1.0)])
    review._log.flush()
    log = tmp_path / "log"
    assert [path.name for path in log.iterdir() if path.is_file() and b"olive" in path.read_bytes()] == []
    assert Pseudonyms(log).known("olive") is None
    assert Pseudonyms(log).known("bob") is not None
    assert (log / "keys.jsonl").stat().st_mode & 0o77 == 0
    assert problems_of(review, log) == []
    assert review.retain(1.0, reviewer="eve", at=time.time() + 1e6) == 1
    assert review.counts()["accounts"] == 0


def test_the_schema_is_the_migrations_and_a_newer_one_is_refused(address):
    """The schema is the migrations and a newer one is refused."""
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from tinclock.cases.tables import METADATA

    store = CaseStore(address)
    with store.write() as connection:
        assert compare_metadata(MigrationContext.configure(connection), METADATA) == []
        connection.exec_driver_sql("update alembic_version set version_num = '9999'")
    store.close()
    with pytest.raises(EvidenceError, match="newer version"):
        CaseStore(address)


@pytest.mark.parametrize("bad", ["mysql://x/y", "nothing://at all"])
def test_an_address_that_cant_be_used_is_said(bad):
    """An address that can't be used is said."""
    with pytest.raises((EvidenceError, MissingExtraError), match=r"supported|no address|needs"):
        CaseStore(bad)


def test_exports_are_whole_and_harmless_in_a_spreadsheet(review):
    """Exports are whole and harmless in a spreadsheet."""
    import pyarrow.parquet as parquet

    take(review.store, "m1", {"=cmd()": 90.0, "ada": 80.0})
    rows = json.loads(exported(review, "cases", "json"))
    assert {row["account"] for row in rows} == {"=cmd()", "ada"}
    assert {row["account"] for row in csv.DictReader(io.StringIO(exported(review, "cases", "csv").decode()))} == {
        "'=cmd()", "ada",
    }  # fmt: skip
    take(review.store, "m2", {"\n=cmd()": 90.0, " +cmd()": 90.0, "\x1b[2Jclean": 90.0})
    named = {row["account"] for row in csv.DictReader(io.StringIO(exported(review, "cases", "csv").decode()))}
    assert {"'\\n=cmd()", "' +cmd()", "\\x1b[2Jclean"} <= named
    table = parquet.read_table(io.BytesIO(exported(review, "findings", "parquet", "ada")))
    assert table["code"].to_pylist() == ["fires_too_fast"]


# -- telling others -------------------------------------------------------------------------------------------------


def some_case(account: str = "ada") -> Case:
    return Case(1, account, "open", 1.0, "m1", 1.0, 33.0, 33.5, 30.0, {}, "fires too fast")


def test_a_webhook_gets_a_cloud_event_once_it_answers(tmp_path):
    """It refuses twice, and is away for a while: what was spooled comes later, in order, each once."""
    with StandInReceiver(refuse=2) as receiver:
        notices = Notices(tmp_path / "spool", webhooks=(receiver.url,))
        notices.tell("opened", some_case())
        assert notices.deliver() == []
        assert receiver.refused == 2
    (event,) = receiver.received
    assert (event["specversion"], event["type"], event["subject"]) == ("1.0", "tinclock.case.opened", "ada")
    assert event["data"]["decibans"] == 33.0
    notices.tell("changed", some_case("bob"))
    (problem,) = notices.deliver()
    assert "it stays in" in problem
    assert notices.waiting == 1
    with pytest.raises(EvidenceError, match="no webhook"):
        Notices(tmp_path, webhooks=("chat.example",))


def test_a_notice_outlives_a_spool_that_cant_be_written(address, tmp_path):
    """The case is in the store and its notice too: the next command tells it, once."""
    told: list[str] = []

    def broken(event: str, case: Case) -> None:
        raise EvidenceError(tmp_path, "can't be written: No space left on device")

    store = CaseStore(address, on_case=broken)
    with pytest.raises(EvidenceError, match="No space left"):
        take(store, "m1", {"ada": 90.0, "bob": 95.0})
    assert store.has_match("m1")
    store.on_case = lambda event, case: told.append(f"{event} {case.account}")
    assert store.send_pending() == 2
    assert (told, store.send_pending()) == (["opened ada", "opened bob"], 0)
    store.close()
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(EvidenceError, match="can't be written"):
        Notices(tmp_path / "file" / "spool", webhooks=("http://127.0.0.1:9/x",))


def test_many_deliverers_send_each_notice_once(tmp_path):
    """Four that deliver from one spool at once: sixty notices, sixty requests."""
    with StandInReceiver() as receiver:
        for k in range(60):
            Notices(tmp_path / "spool", webhooks=(receiver.url,)).tell("opened", some_case(f"a{k}"))
        go = "import sys; from tinclock.serve.notices import Notices\nprint(Notices(sys.argv[1]).deliver())"
        runs = [subprocess.Popen([sys.executable, "-c", go, str(tmp_path / "spool")]) for _ in range(4)]
        assert [run.wait(60) for run in runs] == [0] * 4
    assert len(receiver.received) == 60
    assert len({event["id"] for event in receiver.received}) == 60


def test_a_file_that_is_no_notice_blocks_nothing_behind_it(tmp_path):
    """Rubbish in the spool is set aside and said; what waits behind it is delivered."""
    with StandInReceiver() as receiver:
        notices = Notices(tmp_path / "spool", webhooks=(receiver.url,))
        for k, rubbish in enumerate((b"", b"[]", b"{", b'{"to": 5, "event": {}}', b'{"to": "x"}')):
            (tmp_path / "spool" / f"000000000{k}.json").write_bytes(rubbish)
        (tmp_path / "spool" / "0000000009.json").mkdir()
        notices.tell("opened", some_case())
        problems = notices.deliver()
    assert len(receiver.received) == 1
    assert len(problems) == 6
    assert len(list((tmp_path / "spool").glob("*.unreadable"))) == 5


def test_a_receiver_that_is_gone_is_not_asked_for_ever(tmp_path):
    """410 says that it will never take this: the notice is set aside under another name."""
    with StandInReceiver(answer=410) as receiver:
        notices = Notices(tmp_path / "spool", webhooks=(receiver.url,))
        notices.tell("opened", some_case())
        (problem,) = notices.deliver()
        assert "answered 410" in problem
        assert (notices.waiting, notices.deliver()) == (0, [])
    assert len(list((tmp_path / "spool").glob("*.refused"))) == 1


def test_a_receiver_that_drips_is_hung_up_on_in_time(tmp_path, monkeypatch):
    """The time limit is for the whole answer, not for each of its bytes."""
    monkeypatch.setattr("tinclock.serve.notices.TIMEOUT_S", 0.4)
    monkeypatch.setattr("tinclock.serve.notices.MAX_S", 1.0)
    with StandInReceiver(drip_s=0.1) as receiver:
        notices = Notices(tmp_path / "spool", webhooks=(receiver.url,))
        notices.tell("opened", some_case())
        began = time.monotonic()
        (problem,) = notices.deliver()
        assert time.monotonic() - began < 5.0
    assert "no answer" in problem
    assert notices.waiting == 1


def test_webhooks_are_signed_and_ask_no_proxy(tmp_path, monkeypatch):
    """A receiver that knows the key can tell our notices from anybody's; the environment redirects none of them."""
    for name in ("HTTP_PROXY", "http_proxy", "ALL_PROXY", "all_proxy"):
        monkeypatch.setenv(name, "http://127.0.0.1:9")
    with StandInReceiver(key=b"a key of ours") as receiver:
        for key, taken in ((b"another", 0), (b"", 0), (b"a key of ours", 1)):
            notices = Notices(tmp_path / f"spool{len(key)}", webhooks=(receiver.url,), key=key)
            notices.tell("opened", some_case())
            assert len(notices.deliver()) == 1 - taken
            assert len(receiver.received) == taken


def test_syslog_gets_a_line_as_rfc_5424_has_it(tmp_path):
    """Syslog gets a line as RFC 5424 has it."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as server:
        server.bind(("127.0.0.1", 0))
        server.settimeout(5.0)
        notices = Notices(tmp_path, syslog=(f"127.0.0.1:{server.getsockname()[1]}",))
        notices.tell("opened", some_case('a"]\n<0>b'))
        assert notices.deliver() == []
        line = server.recv(4096)
    head = rb'<108>1 \d{4}-\d\d-\d\dT[\d:.]+Z [!-~]+ tinclock \d+ opened \[case@32473 account="a\\"\\\]\\\\n<0>b" '
    assert re.match(head, line), line
    assert b"\n" not in line
    assert line.endswith(b"fires too fast")
    assert b"\xef\xbb\xbfa" in line


def test_a_database_that_is_silent_is_an_error_within_seconds(monkeypatch):
    """A server that accepts and never answers must not hold a command for half a minute."""
    pytest.importorskip("psycopg")
    monkeypatch.setattr("tinclock.cases.store.ANSWER_S", 2)
    with socket.socket() as mute:
        mute.bind(("127.0.0.1", 0))
        mute.listen(8)
        began = time.monotonic()
        with pytest.raises(EvidenceError, match="can't be opened"):
            CaseStore(f"postgresql+psycopg://u@127.0.0.1:{mute.getsockname()[1]}/x")
        assert time.monotonic() - began < 8.0


# -- the commands and the page --------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def reviewed(tmp_path_factory):
    """The sample that ships, weighed into a store by the command."""
    folder = tmp_path_factory.mktemp("review")
    out = run("weigh", data_file("sample"), "--store", folder / "cases", "--server-name", "here", "--json")
    return folder, json.loads(out)


def test_from_a_recording_to_a_decision_by_commands_alone(reviewed, tmp_path):
    """From a recording to a decision by commands alone."""
    folder, (report,) = reviewed
    store = ("--store", folder / "cases")
    assert [case["account"] for case in report["opened"]] == ["clover"]
    assert json.loads(run("weigh", data_file("sample"), *store, "--json"))[0]["taken_before"]
    listed = json.loads(run("cases", "list", *store, "--json"))
    assert [case["account"] for case in listed["cases"]] == ["clover"]
    shown = run("cases", "show", "clover", *store)
    assert "claims more damage than its weapon does" in shown
    assert "could also be: another version of the rules" in shown
    assert "explain" not in run("cases", "shot", "clover", *store, "--image", tmp_path / "shot.png")
    assert (tmp_path / "shot.png").stat().st_size > 10_000
    assert run("cases", "compare", "clover", "anvil", *store).count("\n") > 5
    with StandInReceiver() as receiver:
        told = ("--webhook", receiver.url, "--notification-queue", tmp_path / "spool")
        out = run("cases", "decide", "clover", "confirmed", *store, "--reviewer", "eve", "--note", "x4", *told)
    assert "confirmed by eve" in out
    assert receiver.received[0]["type"] == "tinclock.case.decided"
    assert "nobody" in run("cases", "decide", "nobody", "cleared", *store, "--note", "x", fails=1)
    assert json.loads(run("cases", "summary", *store, "--json"))["kinds"][0]["confirmed"] == 1
    checked = run("cases", "check-log", *store)
    assert "every record is as it was written; 1 decision agree" in checked
    head = checked.split("head ")[1].strip()
    assert "every record" in run("cases", "check-log", *store, "--expect-tip", head)
    assert "two digests" in run(
        "cases", "check-log", *store, "--expect-tip", head[:-1] + "01"[head[-1] == "0"], fails=1
    )
    log = folder / "cases" / "log" / "evidence-000001.jsonl"
    whole = log.read_bytes()
    log.write_bytes(whole.replace(b"damage_differs", b"damage_differed", 1))
    assert "was edited" in run("cases", "check-log", *store, fails=1)
    log.write_bytes(whole)
    assert "forgotten: " in run("cases", "forget", "dibber", *store, "--yes")


def test_detection_and_calibration_by_commands_alone(tmp_path):
    """Detection and calibration by commands alone."""
    sample = data_file("sample")
    report = json.loads(run("detection", sample, "--honest-histories", 20, "--json"))
    assert [(row["kind"], row["found"]) for row in report["rows"]] == [("inflate_damage", [1.0, 1.0, 1.0, 1.0])]
    assert (report["honest_accounts"], report["honest_with_case"]) == (3, 0)
    # one minute of three accounts, up to forty times over: a minute with three repeats grows, the other two must not
    assert report["false_cases"]["histories"] == 20
    assert report["false_cases"]["cases"] < 10
    made = json.loads(run("calibrate", sample, "--out", tmp_path / "w.json", "--json"))
    assert (made["honest_accounts"], made["cheating_accounts"]) == (3, 1)
    assert tinclock.evidence.load_calibration(tmp_path / "w.json").provenance.recordings == 1
    run("weigh", sample, "--store", tmp_path / "cases")
    waits = ("calibrate", sample, "--store", tmp_path / "cases", "--out", tmp_path / "w.json", "--json")
    assert [json.loads(run(*waits))[key] for key in ("honest_accounts", "cheating_accounts")] == [3, 0]
    run("cases", "decide", "clover", "confirmed", "--store", tmp_path / "cases", "--reviewer", "eve", "--note", "x4")
    assert [json.loads(run(*waits))[key] for key in ("honest_accounts", "cheating_accounts")] == [3, 1]
    assert "labels.json" in run("calibrate", tmp_path, "--out", tmp_path / "x.json", fails=1)


def page_of(reviewed, tmp_path):
    folder, _ = reviewed
    store = CaseStore(folder / "cases" / "cases.db")
    dossier = CaseReview(store).dossier("clover")
    store.close()
    dossier = dossier._replace(account=dossier.account._replace(account=MARKUP))
    page = tmp_path / "page.html"
    page.write_text(case_page(dossier, tinclock.evidence.load_calibration(), limit=30.0), encoding="utf-8")
    return page


WILD = "\x1b[2Jw\x1b]0;title\x07\u202eevil\x00\x9b31m\nnext"
"""Clears a terminal, sets its title, turns writing round, and ends the line."""


def test_no_name_of_a_stranger_reaches_a_terminal_or_a_page_raw(tmp_path, monkeypatch):
    """Commands, exports, pages, explanations and notices write control characters and turned writing out."""
    monkeypatch.setenv("COLUMNS", "300")
    name, store = WILD.replace("\x00", ""), tmp_path / "cases"
    review = CaseReview(CaseStore(store / "cases.db"), EvidenceLog(store / "log"))
    take(review.store, "m1", {name: 90.0, "bob": 90.0})
    review.decide(name, "waiting", reviewer=name, note=name)
    review.store.close(), review._log.close()
    page = tmp_path / "page.html"
    told = [
        run("cases", "list", "--state", "waiting", "--store", store), run("cases", "show", name, "--store", store),
        run("cases", "compare", name, "bob", "--store", store), run("cases", "summary", "--store", store),
        run("cases", "export", "--format", "csv", "--store", store),
        run("cases", "decide", name, "cleared", "--note", name, "--reviewer", name, "--store", store),
        run("cases", "show", "nobody", "--store", store, fails=1), run("cases", "check-log", "--store", store),
    ]  # fmt: skip
    run("cases", "page", name, "--store", store, "--out", page)
    referee = tinclock.Referee(tinclock.load_rules(data_file("garden.toml")))
    referee.admit(connection="c", account=name, name=name, team=name, rig="gardener")
    told.append(referee.rule("c", {"kind": "shot"}, received_at=0.0).explain())
    told += [event.explain({1: name}) for event in referee.events()]
    event = CloudEvent("1.0", "i", "/s", "tinclock.case.opened", name, "t", "j",
                       {"account": name, "state": "open", "peak": 1.0, "why": name})  # fmt: skip
    told.append(syslog_line(event, "host").decode().replace("\ufeff", ""))
    told.append(re.sub(r"<script>.*?</script>", "", page.read_text(encoding="utf-8"), flags=re.S))
    assert sum("\\x1b[2J" in text for text in told) >= 10
    for text in told:
        raw = {c for c in text if not c.isprintable()} - {"\n", "\r"}
        assert raw == set(), (raw, text[:200])


def test_weighing_again_after_a_store_that_failed_appends_nothing_twice(tmp_path, monkeypatch):
    """The log holds each finding and gain of a match once, however often the store refused it before."""
    sample, store = data_file("sample"), tmp_path / "cases"
    lengths = []
    for attempt in range(3):
        if attempt < 2:
            broken = EvidenceError(store, "the database is away")
            monkeypatch.setattr(CaseStore, "import_match", lambda *_, error=broken, **__: (_ for _ in ()).throw(error))
        else:
            monkeypatch.undo()
        run("weigh", sample, "--store", store, fails=int(attempt < 2))
        lengths.append(len(list(read_log(store / "log"))))
    assert lengths[0] > 10
    assert lengths == [lengths[0]] * 3
    assert verify_log(store / "log") is None


def test_a_name_with_markup_is_just_text_on_the_page(reviewed, tmp_path):
    """A name with markup is just text on the page."""
    text = page_of(reviewed, tmp_path).read_text()
    assert MARKUP not in text
    assert "&lt;img src=x onerror=alert(1)&gt;" in text
    assert "Other explanations: another version of the rules" in text
    (policy,) = re.findall(r'http-equiv="Content-Security-Policy" content="([^"]*)"', text)
    rules = dict(rule.split(" ", 1) for rule in policy.split("; "))
    assert (rules["default-src"], rules["connect-src"], rules["img-src"]) == ("'none'", "'none'", "data: blob:")


@needs("chromium")
def test_in_a_browser_the_slider_moves_the_hitboxes_and_nothing_leaves_the_machine(reviewed, tmp_path):
    """In a browser the page's slider moves the hitboxes, its shots show the first reason, and nothing is loaded."""
    page = page_of(reviewed, tmp_path)
    assert page.stat().st_size < 1.5e6
    browser = open_browser(tmp_path)
    try:
        browser.get(f"file://{page}")
        assert until(browser, "document.body.dataset.ready") == "yes"
        assert browser.find_element("css selector", "h1").text == MARKUP
        until(browser, "document.querySelector('.shot').dataset.drawn == 'yes'")
        shot = browser.find_element("css selector", ".shot")
        reason = browser.find_element("css selector", ".kind h3").text
        assert reason.lower().removeprefix("it ") in shot.find_element("css selector", "h3").text
        assert "points against" in shot.find_element("css selector", ".differs").text
        picture = "return document.querySelector('.shot canvas').toDataURL()"
        first, told = browser.execute_script(picture), shot.find_element("css selector", "output").text
        browser.execute_script(
            "const s = document.querySelector('.shot input'); s.value = s.max; s.dispatchEvent(new Event('input'))"
        )
        assert browser.execute_script(picture) != first
        assert "as the shooter saw it" in told
        assert "server now" in shot.find_element("css selector", "output").text
        asked = asked_of(browser)
        assert any(url.startswith("file:") for url in asked)
        assert [url for url in asked if not url.startswith(("file:", *INSIDE))] == []
        assert complaints(browser) == []
    finally:
        browser.quit()
