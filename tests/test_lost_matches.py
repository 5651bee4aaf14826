"""Matches that a kill, a second service, a huge number, deep TOML or a refusing disk used to lose."""

from __future__ import annotations

import errno
import gc
import json
import os
import signal
import subprocess
import sys
import time
import warnings
from pathlib import Path

import msgspec
import numpy as np
import pytest
from test_serving import POSE, RULES

import tinclock
from tinclock.errors import RecordingError, RulesError
from tinclock.intake.toml_tables import DEEPEST, parse_toml
from tinclock.recordings import Recorder, Recording
from tinclock.recordings.disk import write_all
from tinclock.serve.hub import Hub
from tinclock.serve.owning import Owner
from tinclock.wire.codec import decode_message

JOIN = {"kind": "join", "versions": [2]}
LEFT: list[object] = []
"""What killed processes held open, which nobody closes."""
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")


@pytest.fixture(scope="module", autouse=True)
def cleared_away():
    """At the end files that killed processes had open are closed without a word."""
    yield
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", ResourceWarning)
        LEFT.clear()
        gc.collect()


class Asker:
    """Asks a hub in this process; a kill is a new hub on the same folder."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.hub, self.number = folder, Hub(folder, checkpoint_s=0.5), 0
        LEFT.append(self.hub)

    def ask(self, **fields: object) -> dict:
        self.number += 1
        frame = msgspec.msgpack.encode({"request": self.number, "match": "m", **fields})
        return msgspec.msgpack.decode(self.hub.handle(frame))

    def open(self, **fields: object) -> None:
        assert self.ask(do="open", rules=RULES, **fields).get("ok", True)

    def tick(self, tick: int, players: int) -> None:
        each = [POSE + np.array([3 * k, 0, 0, 0, 0, 0, 0], "<f4") for k in range(players)]
        bones = np.concatenate([np.zeros((0, 7)), *each]).astype("<f4")
        ids = np.arange(1, players + 1, dtype="<i8").tobytes()
        done = self.ask(
            do="tick", tick=tick, server_time=tick / 64, entities=ids, bones=bones.tobytes(), published=True
        )
        assert done.get("ok", True), done

    def admit(self, name: str) -> None:
        arguments = {"connection": name, "account": name, "rig": "sprinkler", "weapon": "grit_rifle"}
        assert self.ask(do="call", call="admit", arguments=arguments).get("ok", True)

    def kill(self) -> list[tuple[str, str]]:
        for match in self.hub.matches.values():  # its thread would go on writing, which a killed one's doesn't
            while isinstance(match.server, Recorder) and match.server.written < match.server.first_unqueued_call:
                time.sleep(0.01)
        self.hub = Hub(self.folder, checkpoint_s=0.5)
        LEFT.append(self.hub)
        return list(self.hub.go_on())


@pytest.mark.parametrize("before_kill", [3, 70, 300])
@pytest.mark.parametrize("as_json", [False, True])
def test_a_kill_in_border_mode_loses_no_match(tmp_path, before_kill, as_json):
    """Whoever joined is pinged after a kill as before it, also those who have sent nothing since."""
    asker = Asker(tmp_path)
    asker.open()
    join = json.dumps(JOIN).encode() if as_json else msgspec.msgpack.encode(JOIN)
    for k in range(4):
        asker.admit(f"c{k}")
    asker.admit("silent")  # admitted, and never joined
    joined = asker.ask(do="messages", messages=[(f"c{k}", 0.0, join) for k in range(4)])
    assert len(joined["outgoing"]) == 4
    for tick in range(before_kill):
        asker.tick(tick, 5)
        if tick % 30 == 2:
            assert len(asker.ask(do="outgoing", server_time=tick / 64, ping=True)["outgoing"]) >= 4
    for tick in range(before_kill, before_kill + 3):
        asker.tick(tick, 5)
    assert asker.kill() == [("m", "")]
    sent = asker.ask(do="outgoing", server_time=(before_kill + 3) / 64, ping=True)["outgoing"]
    pings = [
        name for name, data in sent if (json.loads(data) if as_json else msgspec.msgpack.decode(data))["kind"] == "ping"
    ]
    assert sorted(pings) == ["c0", "c1", "c2", "c3"]
    asker.tick(before_kill + 3, 5)
    assert asker.kill() == [("m", "")]


def test_a_second_service_on_one_folder_is_refused_at_its_start(tmp_path):
    """It says that the folder has an owner, and touches nothing; after a SIGKILL of the owner the folder is free."""
    run = [sys.executable, "-m", "tinclock", "serve", "--record", str(tmp_path), "--port", "0"]
    first = subprocess.Popen(run, stdout=subprocess.PIPE, text=True)
    try:
        assert any("listening" in line for line in first.stdout)
        with pytest.raises(RecordingError, match="another service records here"):
            Owner(tmp_path, patience_s=0.2)
        second = subprocess.run(run, capture_output=True, text=True, check=False, timeout=90)
        assert second.returncode == 1
        assert "another service records here" in second.stderr
    finally:
        first.send_signal(signal.SIGKILL)
        first.wait()
    Owner(tmp_path, patience_s=5.0).close()


def test_workers_end_with_their_front_and_own_the_folder_until_then(tmp_path):
    """A front that is killed leaves no worker behind that writes beside the next one's."""
    run = [sys.executable, "-m", "tinclock", "serve", "--record", str(tmp_path), "--port", "0", "--workers", "2"]
    front = subprocess.Popen(run, stdout=subprocess.PIPE, text=True)
    try:
        assert any("listening" in line and "workers" in line for line in front.stdout)
        children = subprocess.run(
            ["ps", "-o", "pid=", "--ppid", str(front.pid)], capture_output=True, text=True, check=True
        )
        workers = [int(one) for one in children.stdout.split()]
        assert len(workers) == 2
    finally:
        front.send_signal(signal.SIGKILL)
        front.wait()
    Owner(tmp_path).close()  # waits until the last of them has ended
    assert [pid for pid in workers if Path(f"/proc/{pid}/cmdline").exists()
            and b"tinclock" in Path(f"/proc/{pid}/cmdline").read_bytes()] == []  # fmt: skip


@pytest.mark.parametrize("number", [2**64, -1, 10**30, 2**53 + 1])
def test_a_request_number_beyond_bounds_is_refused_before_anything_is_done(tmp_path, number):
    """The request isn't done, its reply can be written, and the next kill loses nothing."""
    asker = Asker(tmp_path)
    asker.open()
    frame = json.dumps(
        {"do": "call", "match": "m", "request": number, "call": "add_entity", "arguments": {"rig": "sprinkler"}}
    )
    reply = json.loads(asker.hub.handle(frame))
    assert (reply["ok"], "unreadable request" in reply["error"]) == (False, True)
    assert asker.ask(do="state")["state"]["entities"] == []
    asker.tick(0, 0)
    assert asker.kill() == [("m", "")]


@pytest.mark.parametrize("depth", [DEEPEST + 1, 400, 20_000])
def test_deep_toml_is_refused_and_the_match_goes_on(tmp_path, depth):
    """change_rules with tables within tables is a mistake of its asker, and nothing worse."""
    deep = "a = " + "[" * depth + "]" * depth
    with pytest.raises(RulesError, match="nested deeper"):
        parse_toml(deep, "rules")
    asker = Asker(tmp_path)
    asker.open()
    reply = asker.ask(do="call", call="change_rules", arguments={"rules": deep})
    assert (reply["ok"], reply.get("match_failed", False)) == (False, False)
    asker.tick(0, 0)


def test_rules_are_parsed_beside_the_loop(tmp_path):
    """A huge change of rules yields a call to be made elsewhere, so that other matches have their turn."""
    asker = Asker(tmp_path)
    asker.open()
    frame = msgspec.msgpack.encode(
        {"do": "call", "match": "m", "request": 9, "call": "change_rules", "arguments": {"rules": RULES}}
    )
    work = asker.hub.work(frame)
    assert callable(next(work))


class Sips:
    """A file that takes seven bytes at a time, and at some point nothing more."""

    def __init__(self, room: int = 10**9) -> None:
        self.data, self.room = b"", room

    def write(self, view: memoryview) -> int:
        some = bytes(view[: min(7, self.room - len(self.data))])
        self.data += some
        return len(some)


def test_short_writes_are_written_on_or_said():
    """What a file doesn't take at once is written by and by; what it never takes is an error."""
    file = Sips()
    write_all(file, bytes(range(256)))
    assert file.data == bytes(range(256))
    with pytest.raises(OSError, match="nothing more is taken") as refused:
        write_all(Sips(room=20), bytes(100))
    assert refused.value.errno == errno.EIO


@pytest.mark.parametrize("damage", [b"", b"{", b'{"match": 3}', None])
def test_a_match_whose_journal_header_is_damaged_is_told(tmp_path, damage):
    """It doesn't vanish in silence: the next start names it, and what is wrong."""
    asker = Asker(tmp_path)
    asker.open()
    asker.tick(0, 0)
    header = tmp_path / "m" / "journal" / "match.json"
    header.unlink() if damage is None else header.write_bytes(damage)
    ((name, problem),) = asker.kill()
    assert name == "m"
    assert "match.json" in problem


def test_a_match_that_a_full_disk_left_without_a_journal_is_told_after_a_kill(tmp_path, monkeypatch):
    """It goes on while the process lives; the next start says why it can't be brought back."""
    asker = Asker(tmp_path)
    asker.open()
    asker.tick(0, 0)

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr("tinclock.serve.journal.write_all", full)
    asker.tick(1, 0)
    monkeypatch.undo()
    asker.tick(2, 0)
    assert asker.kill() == [("m", "can't go on after a kill: No space left on device")]


def test_going_on_deletes_nothing_behind_a_symbolic_link(tmp_path):
    """Files that no flush lists are taken away in the recording's own folders, and never in somebody else's."""
    referee = tinclock.Referee(tinclock.parse_rules(parse_toml(RULES, "rules")))
    recorder = Recorder(tmp_path / "match", referee, flush_s=0.1)
    for tick in range(64):
        recorder.record(tick, tick / 64, [], np.zeros((0, 2, 7)))
    while not Recording(tmp_path / "match").flushes:
        time.sleep(0.01)
    others = tmp_path / "others"
    others.mkdir()
    (others / "precious.txt").write_text("mine")
    (tmp_path / "match" / "poses").rename(tmp_path / "poses")
    (tmp_path / "match" / "poses").symlink_to(others)
    for file in (tmp_path / "poses").iterdir():
        (others / file.name).write_bytes(file.read_bytes())
    Recorder.resume(tmp_path / "match").close(compact=False)
    assert (others / "precious.txt").read_text() == "mine"


def test_a_match_without_a_seed_gets_a_secret_one_that_its_recording_keeps(tmp_path):
    """Nobody can work out another player's spread from the default; a seed that is given is used."""
    seeds = set()
    for k in range(3):
        asker = Asker(tmp_path / str(k))
        asker.open()
        asker.tick(0, 0)
        seeds.add(Recording(tmp_path / str(k) / "m").header.seed)
    asker = Asker(tmp_path / "given")
    asker.open(seed=5)
    assert len(seeds) == 3
    assert 0 not in seeds
    assert Recording(tmp_path / "given" / "m").header.seed == 5
    assert decode_message(b"{}") is not None
