"""Decisions: one order of store and log, one of two that come at once, and whom they reach."""

from __future__ import annotations

import json
import subprocess
import sys
import threading

import msgspec
import pytest
from click.testing import CliRunner
from test_cases import address, take  # noqa: F401 - a fixture
from test_review import SAMPLE, Desk

from tinclock.cases import entering
from tinclock.cases.checking import problems_of
from tinclock.cases.evidence_log import EvidenceLog, read_log
from tinclock.cases.review import CaseReview
from tinclock.cases.store import CaseStore
from tinclock.cli.main import main
from tinclock.errors import DecisionConflictError, EvidenceError
from tinclock.garden.scenario import data_file
from tinclock.review.access import Reviewer


def logged(folder) -> list[dict]:
    return [msgspec.json.decode(one.body) for one in read_log(folder) if one.kind == "decision"]


@pytest.fixture
def case(tmp_path):
    """A store with one open case, and a log."""
    store = CaseStore(tmp_path / "cases.db")
    take(store, "m1", {"ada": 90.0})
    with EvidenceLog(tmp_path / "log", sync="each") as log:
        yield CaseReview(store, log)
    store.close()


def test_a_decision_that_the_store_refuses_leaves_no_record(case, tmp_path):
    """Refused three times, then taken: one decision, one record, and nothing that was "deleted"."""
    with case.store.write() as connection:
        connection.exec_driver_sql(
            "CREATE TRIGGER full BEFORE INSERT ON decisions BEGIN SELECT RAISE(ABORT, 'disk full'); END"
        )
    for _ in range(3):
        with pytest.raises(EvidenceError, match="disk full"):
            case.decide("ada", "confirmed", reviewer="eve", note="x")
    assert case.dossier("ada").case.state == "open"
    with case.store.write() as connection:
        connection.exec_driver_sql("DROP TRIGGER full")
    case.decide("ada", "confirmed", reviewer="eve", note="x")
    assert [one["verdict"] for one in logged(tmp_path / "log")] == ["confirmed"]
    assert problems_of(case, tmp_path / "log") == []


def test_what_was_stopped_before_its_record_is_entered_by_the_next(case, tmp_path, monkeypatch):
    """The log's disk is full: the decision stands, who asks is told so, and the next one enters it, marked as late."""
    with monkeypatch.context() as patch:

        def full(*given, **named):
            raise EvidenceError(tmp_path, "no space left")

        patch.setattr(EvidenceLog, "append", full)
        with pytest.raises(EvidenceError, match="is kept, but not in the log yet: no space left"):
            case.decide("ada", "confirmed", reviewer="eve", note="x")
    assert case.dossier("ada").case.state == "confirmed"
    assert "isn't in the log yet" in problems_of(case, tmp_path / "log")[0]
    case.note("ada", reviewer="rob", note="y")
    assert [(one["verdict"], one.get("late")) for one in logged(tmp_path / "log")] == [
        ("confirmed", True), ("noted", None)
    ]  # fmt: skip
    assert problems_of(case, tmp_path / "log") == []


def test_what_was_stopped_behind_its_record_is_not_entered_twice(case, tmp_path, monkeypatch):
    """A process that ends between the record and its number in the store: the record is found and taken for it."""
    case.note("ada", reviewer="rob", note="before")
    with monkeypatch.context() as patch:

        def killed(*given):
            raise KeyboardInterrupt

        patch.setattr(entering, "_entered", killed)
        with pytest.raises(KeyboardInterrupt):
            case.decide("ada", "cleared", reviewer="eve", note="x")
    assert case.decisions()[-1].log_number is None
    case.reopen("ada", reviewer="eve", note="z")
    assert [one["verdict"] for one in logged(tmp_path / "log")] == ["noted", "cleared", "reopened"]
    assert problems_of(case, tmp_path / "log") == []


def test_of_two_opposite_verdicts_at_once_one_counts(address, tmp_path):  # noqa: F811
    """Each saw the same case; whoever comes second is told that it was overtaken, eight times of eight."""
    first, second = CaseStore(address), CaseStore(address)
    take(first, "m1", {f"a{k}": 90.0 for k in range(8)})
    with EvidenceLog(tmp_path / "one") as one, EvidenceLog(tmp_path / "two") as two:
        desks = [(CaseReview(first, one), "cleared"), (CaseReview(second, two), "confirmed")]
        for k in range(8):
            met, told = threading.Barrier(2), []

            def decide(review: CaseReview, verdict: str, met=met, told=told, account=f"a{k}") -> None:
                met.wait()
                try:
                    review.decide(account, verdict, reviewer=verdict, note="x", after=0)
                    told.append(verdict)
                except DecisionConflictError as error:
                    told.append(str(error))

            threads = [threading.Thread(target=decide, args=desk) for desk in desks]
            [thread.start() for thread in threads]
            [thread.join() for thread in threads]
            (won,) = [one for one in told if one in ("cleared", "confirmed")]
            assert f"{won} has already set this case to {won}" in "".join(told)
            assert [d.verdict for d in first_decisions(first, f"a{k}")] == [won]
    first.close(), second.close()


def first_decisions(store: CaseStore, account: str) -> list:
    return CaseReview(store).dossier(account).decisions


def test_several_that_weigh_one_recording_at_once_all_end_well(tmp_path):
    """One takes it in; the others wait for the log, find it taken, and that is no fault."""
    command = [sys.executable, "-m", "tinclock", "weigh", data_file("sample"), "--store", tmp_path / "cases"]
    running = [subprocess.Popen([*map(str, command)], stdout=subprocess.PIPE, text=True) for _ in range(4)]
    told = [one.communicate(timeout=120)[0] for one in running]
    assert [one.returncode for one in running] == [0] * 4
    assert sum("case opened: clover" in text for text in told) == 1
    review = CaseReview(CaseStore(tmp_path / "cases" / "cases.db"))
    assert review.dossier("clover").account.matches == 1
    assert problems_of(review, tmp_path / "cases" / "log") == []


def test_one_decides_while_matches_are_followed(tmp_path):
    """`watch` has the log open only while it takes a match in: a reviewer doesn't wait for days."""
    tinclock_ = [sys.executable, "-m", "tinclock"]
    kept = ["--store", str(tmp_path / "cases")]
    subprocess.run([*tinclock_, "weigh", str(data_file("sample")), *kept], check=True, capture_output=True, timeout=120)
    (tmp_path / "matches").mkdir()
    command = [*tinclock_, "watch", "matches", *kept, "--interval", "0.1"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, cwd=tmp_path) as following:
        try:
            assert following.stdout is not None
            assert "holds no recording yet" in following.stdout.readline()
            decide = [*tinclock_, "cases", "decide", "clover", "confirmed", "--note", "x", "--reviewer", "eve", *kept]
            done = subprocess.run(decide, capture_output=True, text=True, check=False, timeout=40)
            assert (done.returncode, following.poll()) == (0, None), done.stderr
        finally:
            following.terminate()
    assert [one["verdict"] for one in logged(tmp_path / "cases" / "log")] == ["confirmed"]


def test_decisions_at_a_desk_that_tells_nobody_are_kept_for_who_does(tmp_path):
    """A later command with a receiver tells them, each once."""
    store = CaseStore(tmp_path / "cases.db", keep_notices=True)
    with EvidenceLog(tmp_path / "log") as log:
        take(store, "m1", {"ada": 90.0})
        CaseReview(store, log).decide("ada", "confirmed", reviewer="eve", note="x")
    store.close()
    told: list[str] = []
    later = CaseStore(tmp_path / "cases.db", on_case=lambda event, case: told.append(f"{event} {case.account}"))
    assert (later.send_pending(), told, later.send_pending()) == (2, ["opened ada", "decided ada"], 0)
    later.close()


def test_the_store_knows_who_looked_and_who_decided(tmp_path):
    """Every page about an account or a match is noted with its reviewer; `cases audit` lists that beside decisions, and
    after the account was forgotten its name stands nowhere in it.
    """
    main(["weigh", str(SAMPLE), "--store", str(tmp_path)], standalone_mode=False)
    desk = Desk(tmp_path, Reviewer("eve", "decide"), Reviewer("rob", "read"))
    eve, rob = desk.let_in("eve"), desk.let_in("rob")
    assert rob.get("/match/sample").status_code == 200
    assert rob.get("/case", params={"account": "clover"}).status_code == 200
    assert rob.get("/case", params={"account": "nobody"}).status_code == 404
    assert eve.get("/compare", params={"a": "clover", "b": "anvil"}).status_code == 200
    assert eve.get("/export", params={"what": "findings", "account": "clover"}).status_code == 200
    assert desk.change(eve, "clover", do="cleared", note="a train's hotspot").status_code == 303

    def audit(*options: str) -> list[tuple[str, str, str]]:
        told = CliRunner().invoke(main, ["cases", "audit", *options, "--store", str(tmp_path), "--json"])
        return [(row["reviewer"], row["page"], row["account"] or row["match"]) for row in json.loads(told.output)]

    assert audit() == [
        ("eve", "decided", "clover"), ("eve", "case", "clover"), ("eve", "export findings", "clover"),
        ("eve", "compare", "anvil"), ("eve", "compare", "clover"), ("rob", "case", "clover"),
        ("rob", "match", "sample"),
    ]  # fmt: skip
    assert audit("clover", "--reviewer", "rob") == [("rob", "case", "clover")]
    assert len(audit("--limit", "2")) == 2
    assert desk.change(eve, "clover", do="forget", note="asked", really="clover").status_code == 303
    assert "clover" not in str(audit())
    assert ("rob", "case", "") in audit()
    shown = CliRunner().invoke(main, ["cases", "audit", "--store", str(tmp_path)], env={"COLUMNS": "80"}).output
    assert "reviewer" in shown
    assert max(map(len, shown.splitlines())) <= 80


def test_a_page_that_cannot_be_noted_is_not_shown(tmp_path, monkeypatch):
    """Where the store refuses the entry, nobody sees the case."""
    main(["weigh", str(SAMPLE), "--store", str(tmp_path)], standalone_mode=False)
    desk = Desk(tmp_path)
    eve = desk.let_in()

    def full(*_: object, **__: object) -> None:
        raise EvidenceError("cases.db", "database or disk is full")

    monkeypatch.setattr("tinclock.review.desk.note_look", full)
    page = eve.get("/case", params={"account": "clover"})
    assert page.status_code == 422
    assert "disk is full" in page.text
    assert "decibans" not in page.text
