"""A service that is killed goes on: what was acknowledged is there, and what was not is asked again and ruled once."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from test_serving import POSE, RULES
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import unix_connect

import tinclock
from tinclock.cases.evidence_log import EvidenceLog, findings_of, read_log
from tinclock.errors import EvidenceError, RecordingError
from tinclock.recordings import Recorder, Recording, replay
from tinclock.serve.hub import Hub
from tinclock.serve.workers import Worker, worker_of

JOIN = {"kind": "join", "versions": [2]}
KILLS = int(os.environ.get("TINCLOCK_TEST_KILLS", "5"))


def script(ticks: int) -> list[dict[str, Any]]:
    """A match as requests: two who stand still, shots good and bad, some of them twice, and spawns."""
    rng, out = random.Random(3), list[dict[str, Any]]()
    out.append({"do": "open", "rules": RULES, "seed": 5})
    for k in range(2):
        who = {"connection": f"c{k}", "account": f"a{k}", "rig": "sprinkler", "weapon": "grit_rifle"}
        out.append({"do": "call", "call": "admit", "arguments": who})
    sent = 0
    for tick in range(ticks):
        bones = np.concatenate([POSE, POSE + np.array([5, 0, 0, 0, 0, 0, 0], "<f4")]).astype("<f4")
        out.append({"do": "tick", "tick": tick, "server_time": tick / 64, "entities": np.array([1, 2], "<i8").tobytes(),
                    "bones": bones.tobytes(), "snapshot_sent": tick % 2 == 0})  # fmt: skip
        if tick > 12 and tick % 3 == 0:
            sent += 1
            even = tick - tick % 2
            view = tinclock.View(even - 4, even - 2, 0.5)
            actor = 2 if rng.random() < 0.2 else 1  # in another's name now and then
            shot = tinclock.claims.ShotClaim(sent, actor, "grit_rifle", (0.1, 0.0, 0.7), (1.0, 0.0, 0.0), view)
            data = msgspec.msgpack.encode(shot)
            claims = [("c0", tick / 64 + 0.001, data)] * rng.choice([1, 1, 2])
            out.append({"do": "claims", "claims": claims})
        if tick % 50 == 20:
            out.append({"do": "call", "call": "spawn", "arguments": {"entity": 2}})
    return [{"request": number, "match": "m", **one} for number, one in enumerate(out, 1)]


def told(replies: dict[int, dict[str, Any]]) -> list[Any]:
    """Every ruling that an asker was told, in order."""
    return [
        (number, one["number"], one["outcome"])
        for number in sorted(replies)
        for one in replies[number].get("rulings", ())
    ]


def findings(folder: Path) -> list[Any]:
    found = [json.loads(bytes(entry.body)) for entry in read_log(folder) if entry.kind == "finding"]
    return [(one["ruling"], one["finding"]["code"]) for one in found]


def processes() -> dict[int, list[str]]:
    """The arguments of every process on this machine."""
    out = {}
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            out[int(folder.name)] = (folder / "cmdline").read_bytes().decode(errors="replace").split("\0")
    return out


class Asker:
    """A game's server: asks in order, and after a kill begins again where the last reply left it."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.socket_at = folder, folder / "s"
        self.replies: dict[int, dict[str, Any]] = {}
        self.process = self._start()

    def _start(self) -> subprocess.Popen[bytes]:
        own = ["--record", str(self.folder / "matches"), "--evidence", str(self.folder / "evidence")]
        command = [
            sys.executable, "-m", "tinclock", "serve", "--unix", str(self.socket_at), *own, "--checkpoint-interval",
            "1.5"
        ]  # fmt: skip
        return subprocess.Popen(command, stdout=subprocess.DEVNULL)

    def connected(self) -> Any:
        until = time.monotonic() + 90.0
        while True:
            try:
                return unix_connect(str(self.socket_at), uri="ws://localhost/", max_size=None)
            except OSError:
                if self.process.poll() is not None:
                    self.process = self._start()
                assert time.monotonic() < until, "the service doesn't come back"
                time.sleep(0.02)

    def play(self, requests: list[dict[str, Any]]) -> None:
        """Ask everything once, however often the service dies meanwhile."""
        left = list(requests)
        while left:
            try:
                with self.connected() as socket:
                    if self.replies:
                        asked = {"do": "resume", "request": 0, "match": "m", "last_reply": max(self.replies)}
                        socket.send(msgspec.msgpack.encode(asked))
                        for frame in msgspec.msgpack.decode(socket.recv()).get("replies", ()):
                            self._take(frame, left)
                    while left:
                        socket.send(msgspec.msgpack.encode(left[0]))
                        self._take(socket.recv(), left)
            except (ConnectionClosed, OSError, EOFError):
                self.process.wait(10.0)

    def _take(self, frame: bytes, left: list[dict[str, Any]]) -> None:
        reply = msgspec.msgpack.decode(frame)
        assert reply.get("ok", True), reply
        if left and reply["request"] == left[0]["request"]:
            self.replies[reply["request"]] = reply
            left.pop(0)


def test_kills_at_random_moments_lose_and_double_nothing(tmp_path):
    """Replies, rulings, findings and digests are those of a match without kills."""
    requests = script(64 * 8)
    log = EvidenceLog(tmp_path / "calm-evidence")
    calm, replies = Hub(tmp_path / "calm", log), {}
    for one in requests:
        replies[one["request"]] = msgspec.msgpack.decode(calm.handle(msgspec.msgpack.encode(one)))
    calm.handle(msgspec.msgpack.encode({"do": "close", "request": 0, "match": "m"}))
    log.close()
    asker, rng, done = Asker(tmp_path), random.Random(7), threading.Event()

    def kill() -> None:
        for _ in range(KILLS):
            until = len(asker.replies) + rng.randint(1, len(requests) // (KILLS + 1))
            while len(asker.replies) < until and not done.is_set():
                time.sleep(0.001)
            time.sleep(rng.uniform(0.0, 0.003))
            asker.process.send_signal(signal.SIGKILL)

    killer = threading.Thread(target=kill)
    killer.start()
    try:
        asker.play(requests)
    finally:
        done.set()
        killer.join(120.0)
    asker.play([])
    with asker.connected() as socket:
        socket.send(msgspec.msgpack.encode({"do": "close", "request": 0, "match": "m"}))
        assert msgspec.msgpack.decode(socket.recv()).get("ok", True)
    asker.process.terminate()
    asker.process.wait(30.0)
    assert told(asker.replies) == told(replies)
    assert len(told(replies)) > 100
    first, second = Recording(tmp_path / "calm" / "m"), Recording(tmp_path / "matches" / "m")
    assert second.verify() == []
    assert second.closed
    assert first.flushes[-1].rulings_sha256 == second.flushes[-1].rulings_sha256
    assert first.flushes[-1].events_sha256 == second.flushes[-1].events_sha256
    assert replay(second).as_recorded
    assert findings(tmp_path / "evidence") == findings(tmp_path / "calm-evidence")
    assert len(findings(tmp_path / "evidence")) > 5
    assert [path.name for path in (tmp_path / "matches").glob("[!.]*")] == ["m"]
    assert not (tmp_path / "matches" / "m" / "journal").exists()


def test_what_was_dropped_as_a_flood_stays_dropped_when_its_request_is_done_again(tmp_path):
    """A claim that was answered with nothing is not ruled after a kill either, and what was told is told again."""

    def ask(hub: Hub, one: dict[str, Any]) -> dict[str, Any]:
        return {"ok": True, **msgspec.msgpack.decode(hub.handle(msgspec.msgpack.encode(one)))}

    requests, first = script(20), Hub(tmp_path)
    for one in requests:
        ask(first, one)
    flood = {"do": "claims", "request": 90, "match": "m", "claims": [("c0", 0.32, b"{}")] * 700}
    told = ask(first, flood)
    outcomes = [one["outcome"] for one in told["rulings"]]
    assert {"rejected", "dropped"} == set(outcomes)
    join = msgspec.msgpack.encode(JOIN)
    many = {
        "do": "messages",
        "request": 91,
        "match": "m",
        "messages": [("c1", 0.32, join), *[("c1", 0.32, b"{}")] * 400],
    }
    rejected = len(ask(first, many)["rulings"])
    assert 0 < rejected < 700
    after = ask(first, {**requests[-1], "request": 92, "tick": 21, "server_time": 0.34})
    assert after["ok"]
    again = Hub(tmp_path)
    assert list(again.go_on()) == [("m", "")]
    replies = ask(again, {"do": "resume", "request": 93, "match": "m", "last_reply": 89})["replies"]
    flooded, bordered, last = map(msgspec.msgpack.decode, replies)
    assert [one["outcome"] for one in flooded["rulings"]] == outcomes
    assert (len(bordered["rulings"]), last["request"]) == (rejected, 92)
    again.close()
    first.close()


def test_nobody_may_send_more_for_a_kill_of_the_service(tmp_path):
    """A connection that used up its rate limit gets as little after a kill as without one, in pass-through mode too."""

    def ask(hub: Hub, one: dict[str, Any]) -> Any:
        return msgspec.msgpack.decode(hub.handle(msgspec.msgpack.encode({"match": "m", **one})))

    def flood(hub: Hub, number: int, at: float) -> tuple[int, int]:
        """How many of 700 are let through: of claims, and of messages."""
        told = ask(hub, {"do": "claims", "request": number, "claims": [("c0", at, b"{}")] * 700})["rulings"]
        bordered = ask(hub, {"do": "messages", "request": number + 1, "messages": [("c1", at, b"{}")] * 700})
        return sum(one["outcome"] != "dropped" for one in told), len(bordered.get("outgoing", ()))

    join = {"do": "messages", "request": 300, "messages": [("c1", 0.3, msgspec.msgpack.encode(JOIN))]}
    allowed = []
    for kind in ("calm", "killed"):
        requests, hub = script(110), Hub(tmp_path / kind)
        late = next(place for place, one in enumerate(requests) if one.get("tick") == 90)
        for place, one in enumerate(requests):
            ask(hub, one)
            if one.get("tick") == 20:
                ask(hub, join)
                allowed.append(flood(hub, 301, 0.33))
            if place == late and kind == "killed":
                recorder: Any = hub.matches["m"].server
                while recorder.written < recorder.first_unqueued_call:
                    time.sleep(0.001)
                killed_one, hub = hub, Hub(tmp_path / kind)
                assert list(hub.go_on()) == [("m", "")]
        allowed.append(flood(hub, 400, 110 / 64))
        allowed.append((ask(hub, {"do": "list_matches", "request": 500})["matches"][0]["dropped"], 0))
        hub.close()
    killed_one.close()
    calm, killed = allowed[:3], allowed[3:]
    assert killed == calm
    assert 0 < calm[1][0] < calm[0][0]


def test_a_finding_that_was_logged_before_a_kill_stands_in_the_log_once(tmp_path, monkeypatch):
    """The log comes before the journal: what was logged and not kept is asked again, and stands in the log once."""

    def ask(hub: Hub, one: dict[str, Any]) -> None:
        assert msgspec.msgpack.decode(hub.handle(msgspec.msgpack.encode(one))).get("ok", True)

    class Killed(BaseException):
        pass

    def kill(*_: object) -> None:
        raise Killed

    requests = script(40)
    twice = next(one for one in requests if one["do"] == "claims" and len(one["claims"]) == 2)
    before = requests.index(twice)
    log = EvidenceLog(tmp_path / "evidence")
    first = Hub(tmp_path / "matches", log)
    for one in requests[:before]:
        ask(first, one)
    with monkeypatch.context() as patch:
        patch.setattr("tinclock.serve.match.Match.note", kill)
        with pytest.raises(Killed):
            ask(first, twice)
    log.close()
    found = findings(tmp_path / "evidence")
    assert found[-1][1] == "repeated_sequence"
    log = EvidenceLog(tmp_path / "evidence")
    again = Hub(tmp_path / "matches", log)
    assert list(again.go_on()) == [("m", "")]
    ask(again, twice)
    assert findings(tmp_path / "evidence") == found
    for one in requests[before + 1 :]:
        ask(again, one)
    again.close()
    log.close()
    assert len(findings(tmp_path / "evidence")) > len(found)
    first.close()


@pytest.mark.parametrize("strictness", ["standard", "strict"])
def test_a_disk_that_refuses_the_journal_is_told_and_stops_only_strict_matches(tmp_path, monkeypatch, strictness):
    """A match goes on without what it would need after a kill, and says so; a strict one doesn't."""
    hub = Hub(tmp_path)

    def ask(one: dict[str, Any]) -> dict[str, Any]:
        return {"ok": True, **msgspec.msgpack.decode(hub.handle(msgspec.msgpack.encode(one)))}

    requests = script(20)
    requests[0]["rules"] = f'strictness = "{strictness}"\n' + "\n".join(
        line for line in RULES.splitlines() if not line.startswith("strictness")
    )
    for one in requests[:10]:
        assert ask(one)["ok"]

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("tinclock.serve.journal.Journal.note", full)
    reply = ask(requests[10])
    assert reply["ok"] == (strictness == "standard")
    assert reply.get("match_failed", False) == (strictness == "strict")
    (told,) = hub.listed()
    assert told.failed == "can't go on after a kill: No space left on device"
    assert ask(requests[11])["ok"] == (strictness == "standard")
    hub.close()


def test_a_worker_that_dies_takes_only_its_matches_and_brings_them_back(tmp_path):
    """Matches are spread over two processes behind one address; the other's go on while one comes back."""
    names = [name for name in ("a", "b", "c", "d", "e", "f") if worker_of(name, 2) == 0][:1]
    names += [name for name in ("a", "b", "c", "d", "e", "f") if worker_of(name, 2) == 1][:1]
    command = [sys.executable, "-m", "tinclock", "serve", "--unix", str(tmp_path / "s"), "--workers", "2", "--record",
               str(tmp_path / "matches"), "--evidence", str(tmp_path / "evidence")]  # fmt: skip
    with (tmp_path / "log").open("wb") as log:
        front = subprocess.Popen(command, stdout=log, env={**os.environ, "TINCLOCK_TOKEN": "secret"})
    try:
        while not (said := [line for line in (tmp_path / "log").read_text().splitlines() if '"workers"' in line]):
            time.sleep(0.05)
        assert json.loads(said[0])["workers"] == 2
        headers = {"Authorization": "Bearer secret"}
        with unix_connect(str(tmp_path / "s"), uri="ws://localhost/", additional_headers=headers) as socket:

            def ask(do: str, match: str, request: int = 7, **fields: Any) -> dict[str, Any]:
                socket.send(msgspec.msgpack.encode({"do": do, "request": request, "match": match, **fields}))
                return {"ok": True, **msgspec.msgpack.decode(socket.recv())}

            for name in names:
                for one in script(30):
                    assert ask(**{**one, "match": name})["ok"]
            assert [one["match"] for one in ask("list_matches", "")["matches"]] == sorted(names)
            of_this = {"0/2", str(tmp_path / "matches")}
            mine = [pid for pid, arguments in processes().items() if of_this <= set(arguments)]
            os.kill(mine[0], signal.SIGKILL)
            until = time.monotonic() + 60.0
            lost = ask("state", names[0])
            assert (lost["ok"], lost["retry"]) == (False, True)
            assert "died and is brought back" in lost["error"]
            assert ask("state", names[1])["ok"]
            while not (back := ask("resume", names[0], last_reply=5))["ok"]:
                assert time.monotonic() < until
                time.sleep(0.05)
            numbers = [msgspec.msgpack.decode(frame)["request"] for frame in back["replies"]]
            assert numbers == list(range(6, script(30)[-1]["request"] + 1))
            assert ask("state", names[0])["state"]["number"] > 0
            for name in names:
                assert ask("close", name)["ok"]
    finally:
        front.terminate()
        assert front.wait(30.0) == 0
    assert all(replay(Recording(tmp_path / "matches" / name)).as_recorded for name in names)


def test_a_worker_that_dies_while_it_is_spoken_to_is_one_that_isnt_there(tmp_path):
    """It took the connection and died before it said a word: whoever asks is told to ask again."""

    async def ask() -> None:
        hangs_up = await asyncio.start_unix_server(lambda _, writer: writer.close(), tmp_path / "0.sock")
        worker = Worker(0, [sys.executable, "-c", ""], tmp_path / "0.sock", print)
        with pytest.raises(OSError, match="died while it was spoken to"):
            await worker.connect()
        hangs_up.close()
        worker.ended(time.monotonic() + 20.0)

    asyncio.run(ask())


def test_a_recording_goes_on_where_its_last_flush_left_it(tmp_path, rules):
    """The referee is the same one, what was half written is gone, and the whole rules again as one match."""
    referee = tinclock.Referee(rules, seed=4)
    recorder = Recorder(tmp_path / "r", referee)
    entity = recorder.admit(connection="c", account="a", rig="gardener", weapon="grit_rifle")
    bones = tinclock.rooted_bones(referee.history.rigs["gardener"], [[0, 0, 0, 0, 0, 0, 1]])
    for tick in range(200):
        recorder.record(tick, tick / 64, [entity], bones)
        recorder.snapshot_sent(tick)
    while len(Recording(tmp_path / "r").flushes) < 4:
        time.sleep(0.01)
    (tmp_path / "r" / "poses" / "000009.parquet").write_bytes(b"half")
    with (tmp_path / "r" / "flushes.jsonl").open("ab") as list_of_flushes:
        list_of_flushes.write(b'{"first_call": 12')
    again = Recorder.resume(tmp_path / "r")
    first = again.referee.history.newest_tick + 1
    assert 190 < first < 200
    shot = tinclock.claims.ShotClaim(
        1, entity, "grit_rifle", (0.1, 0.0, 1.65), (1.0, 0.0, 0.0), tinclock.View(180, 182, 0.5)
    )
    for tick in range(first, 300):
        again.record(tick, tick / 64, [entity], bones)
        again.snapshot_sent(tick)
    assert again.rule("c", shot, received_at=299 / 64).number == 1
    again.close()
    whole = Recording(tmp_path / "r")
    assert (whole.ticks, whole.closed, whole.damaged_tail, whole.verify(), whole.unreferenced_files) == (
        300,
        True,
        False,
        [],
        [],
    )
    assert replay(whole).as_recorded
    with pytest.raises(RecordingError, match="was ended in good order"):
        Recorder.resume(tmp_path / "r")
    recorder._writer._error = OSError("this one is dead")


def test_what_was_logged_last_is_found_without_reading_the_whole_log(tmp_path):
    """Coming back looks from the newest file back, as far as the match's last rulings can be, and no further."""
    finding = {"code": "fires_too_fast", "server_time": 0.5}
    with EvidenceLog(tmp_path, file_bytes=2000) as log:
        for ruling in range(1, 200):
            bodies = [
                {"match": name, "ruling": ruling, "finding": finding} for name in ("m", "quiet")[: 1 + (ruling < 3)]
            ]
            log.append("finding", bodies)
    files = sorted(tmp_path.glob("evidence-*.jsonl"))
    assert len(files) > 10
    files[0].write_bytes(b"{broken\n")
    assert findings_of(tmp_path, "m", 195) == {(number, "fires_too_fast", 0.5) for number in range(196, 200)}
    assert findings_of(tmp_path, "m", 60) == {(number, "fires_too_fast", 0.5) for number in range(61, 200)}
    with pytest.raises(EvidenceError):
        findings_of(tmp_path, "quiet", 2)
    os.utime(files[0], (1.0, 1.0))
    assert findings_of(tmp_path, "quiet", 2, since_unix_s=2.0) == set()
