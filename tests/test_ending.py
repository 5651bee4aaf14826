"""The end of a service: matches that are kept for the next process, waited for, or ended."""

from __future__ import annotations

import asyncio
import http.client
import json
import signal
import subprocess
import sys
import time
from typing import TYPE_CHECKING, Any

import msgspec
import pytest
from test_going_on import processes, script
from test_serving import Asker, shot
from websockets.sync.client import connect

from tinclock.recordings import Recording, replay
from tinclock.serve import workers
from tinclock.serve.hub import Hub
from tinclock.serve.owning import Owner
from tinclock.serve.workers import worker_of

if TYPE_CHECKING:
    from pathlib import Path

NAMES = [next(name for name in "abcdef" if worker_of(name, 2) == number) for number in (0, 1)]


class Served:
    """A service on a folder, as its own process."""

    def __init__(self, folder: Path, *options: str) -> None:
        run = [sys.executable, "-W", "error", "-m", "tinclock", "serve", "--port", "0", "--record", str(folder)]
        self.process = subprocess.Popen([*run, *options], stdout=subprocess.PIPE, text=True)
        self.said: list[dict[str, Any]] = []
        self.where = self.until("listening")["where"]
        while self.where.endswith(".sock"):  # a worker's own
            self.where = self.until("listening")["where"]

    def until(self, event: str) -> dict[str, Any]:
        """Read its log up to an event."""
        while (line := json.loads(self.process.stdout.readline()))["event"] != event:
            self.said.append(line)
        return line

    def connected(self) -> Any:
        return connect(f"ws://{self.where}")

    def health(self) -> tuple[int, str]:
        asked = http.client.HTTPConnection(self.where)
        asked.request("GET", "/health")
        answer = asked.getresponse()
        found = answer.status, answer.read().decode()
        asked.close()
        return found

    def signalled(self) -> None:
        self.process.send_signal(signal.SIGTERM)

    def ended(self) -> int:
        """Wait for its end."""
        text, _ = self.process.communicate(timeout=60)
        self.said += [json.loads(line) for line in text.splitlines()]
        return self.process.returncode


@pytest.mark.parametrize("options", [(), ("--workers", "2")], ids=["one process", "two workers"])
def test_a_match_goes_on_in_the_next_process_after_a_sigterm(tmp_path, options):
    """SIGTERM loses no match: the next process on the folder has each as it was, and rules nothing twice."""
    first = Served(tmp_path, *options)
    with first.connected() as socket:
        ask = Asker(socket=socket)
        for name in NAMES:
            for one in script(200):
                ask.number = one["request"] - 1
                assert ask(**{**{k: v for k, v in one.items() if k != "request"}, "match": name})["ok"]
        before = {name: ask("state", name)["state"] for name in NAMES}
        last = script(200)[-1]["request"]
    first.signalled()
    assert first.ended() == 0
    assert not any(Recording(tmp_path / name).closed for name in NAMES)

    again = Served(tmp_path, *options)
    with again.connected() as socket:
        ask = Asker(socket=socket)
        assert [one["match"] for one in ask("list_matches", "")["matches"]] == sorted(NAMES)
        for name in NAMES:
            assert ask("state", name)["state"] == before[name]
            back = ask("resume", name, last_reply=last - 3)["replies"]
            assert [msgspec.msgpack.decode(frame)["request"] for frame in back] == [last - 2, last - 1, last]
            repeat = next(one for one in reversed(script(200)) if one["do"] == "claims")
            rulings = ask("claims", name, claims=repeat["claims"])["rulings"]
            assert {finding["code"] for one in rulings for finding in one["findings"]} == {"repeated_sequence"}
            assert ask("close", name)["ok"]
    again.signalled()
    assert again.ended() == 0
    for name in NAMES:
        recording = Recording(tmp_path / name)
        assert recording.closed
        assert replay(recording).as_recorded


def test_a_match_that_is_left_open_has_nothing_to_rule_again(tmp_path):
    """What is kept at the end is flushed with a checkpoint, so the next process starts where this one stopped."""
    hub = Hub(tmp_path)
    ask = Asker(hub)
    ask.play(ticks=300)
    assert ask("claims", claims=[("c0", 4.69, shot())])["ok"]
    hub.close(keep=True)
    assert hub.matches == {}
    again = Hub(tmp_path)
    assert list(again.go_on()) == [("m", "")]
    assert again.matches["m"].server.replayed_rulings == 0
    assert again.matches["m"].server.rulings == 1
    again.close()
    assert replay(Recording(tmp_path / "m")).as_recorded


def test_a_request_that_is_under_way_at_the_end_is_asked_again(tmp_path):
    """A batch that was half ruled at the end is neither recorded nor in the journal: asked again, it is ruled once."""
    hub = Hub(tmp_path)
    ask = Asker(hub)
    ask.play(ticks=40)
    claims = [("c0", 0.64, shot(sequence)) for sequence in range(1, 301)]
    frame = msgspec.msgpack.encode({"do": "claims", "request": 99, "match": "m", "claims": claims})
    work = hub.work(frame)
    assert next(work) is None  # some of them are ruled
    assert hub.is_busy
    hub.close(keep=True)
    again = Hub(tmp_path)
    assert list(again.go_on()) == [("m", "")]
    once = msgspec.msgpack.decode(again.handle(frame))["rulings"]
    assert not any(finding["code"] == "repeated_sequence" for one in once for finding in one["findings"])
    again.close()
    assert replay(Recording(tmp_path / "m")).as_recorded
    hub.close()


def test_matches_that_cannot_go_on_are_closed(tmp_path):
    """A match that failed, and one that nobody records, end with the service even where others are kept."""
    hub = Hub(tmp_path)
    ask = Asker(hub)
    ask.play("kept", ticks=5)
    ask.play("failed", ticks=5)
    hub.matches["failed"].failed = "a fault"
    hub.close(keep=True)
    assert Recording(tmp_path / "failed").closed
    assert not Recording(tmp_path / "kept").closed
    Hub().close(keep=True)


@pytest.mark.parametrize("options", [(), ("--workers", "2")], ids=["one process", "two workers"])
def test_a_service_that_drains_waits_for_its_matches(tmp_path, options):
    """With --at-sigterm drain no match opens any more; the service exits once the open ones have ended."""
    served = Served(tmp_path, "--at-sigterm", "drain", *options)
    with served.connected() as socket:
        ask = Asker(socket=socket)
        ask.play(NAMES[0], ticks=5)
        assert served.health() == (200, "ok\n")
        served.signalled()
        served.until("draining")
        until = time.monotonic() + 20.0
        while "draining" not in (refused := ask("open", NAMES[0] + "2", rules="")).get("error", ""):
            assert time.monotonic() < until
        assert not refused["ok"]
        assert served.health() == (503, "draining\n")
        assert ask.tick(NAMES[0], 5)["ok"]
        time.sleep(1.0)  # it doesn't end while the match goes on
        assert served.process.poll() is None
        assert ask("close", NAMES[0])["ok"]
    assert served.ended() == 0
    assert Recording(tmp_path / NAMES[0]).closed


@pytest.mark.parametrize("end", ["a second SIGTERM", "the longest wait"])
def test_draining_has_an_end(tmp_path, end):
    """A second SIGTERM, or the longest wait, ends a service that drains; its matches are kept for the next one."""
    served = Served(tmp_path, "--at-sigterm", "drain", "--drain", "3600" if end == "a second SIGTERM" else "0.5")
    with served.connected() as socket:
        Asker(socket=socket).play(ticks=5)
        served.signalled()
        served.until("draining")
        if end == "a second SIGTERM":
            served.signalled()
        assert served.ended() == 0
    again = Hub(tmp_path)
    assert list(again.go_on()) == [("m", "")]
    again.close()


def test_a_service_that_closes_its_matches_ends_them(tmp_path):
    """With --at-sigterm close every recording is ended, and the next process has nothing to go on with."""
    served = Served(tmp_path, "--at-sigterm", "close")
    with served.connected() as socket:
        Asker(socket=socket).play(ticks=70)
    served.signalled()
    assert served.ended() == 0
    assert Recording(tmp_path / "m").closed
    assert list(Hub(tmp_path).go_on()) == []


def test_workers_that_are_still_starting_end_with_their_front(tmp_path):
    """A front that is killed while its workers load kernels leaves none behind, so the folder is free at once."""
    run = [sys.executable, "-m", "tinclock", "serve", "--port", "0", "--record", str(tmp_path), "--workers", "2"]
    for pause_s in (0.2, 0.8, 1.6):
        front = subprocess.Popen(run, stdout=subprocess.DEVNULL)
        until = time.monotonic() + 30.0
        while len(ours := [pid for pid, told in processes().items() if str(tmp_path) in told]) < 3:
            assert time.monotonic() < until
            time.sleep(0.02)
        time.sleep(pause_s)
        front.kill()
        front.wait()
        while any(pid in processes() for pid in ours):
            assert time.monotonic() < until
            time.sleep(0.02)
    Owner(tmp_path, patience_s=0.0).close()


def test_a_worker_that_answers_nothing_is_ended_and_started_again(tmp_path, monkeypatch):
    """A process that runs and answers nothing for too long is replaced; one that is still starting is left alone."""
    monkeypatch.setattr(workers, "HANGS_S", 0.3)
    said: list[str] = []
    asleep = [sys.executable, "-c", "import time; time.sleep(600)"]
    worker = workers.Worker(0, asleep, tmp_path / "s", lambda event, **_: said.append(event))
    first = worker.process
    try:
        asyncio.run(worker.look())
        assert worker.process is first  # it may take long until it listens
        worker.well_at = time.monotonic() - 0.1
        asyncio.run(worker.look())
        assert worker.process is first
        worker.well_at = time.monotonic() - 1.0
        asyncio.run(worker.look())
        assert said == ["worker hangs", "worker died"]
        assert first.poll() is not None
        assert worker.process is not first
        assert worker.process.poll() is None
    finally:
        worker.process.kill()
        worker.ended(time.monotonic() + 5.0)


def test_a_request_under_way_at_a_sigterm_is_answered(tmp_path):
    """Claims that are being ruled when the signal comes are ruled to the end, and their reply goes out."""
    served = Served(tmp_path)
    with served.connected() as socket:
        Asker(socket=socket).play(ticks=40)
        claims = [("c0", 0.64, shot(sequence)) for sequence in range(1, 1025)]
        frame = {"do": "claims", "request": 99, "match": "m", "claims": claims, "explain": True}
        socket.send(msgspec.msgpack.encode(frame))
        time.sleep(0.02)  # they take some tenths of a second
        served.signalled()
        reply = msgspec.msgpack.decode(socket.recv())
        assert reply["request"] == 99
        assert len(reply["rulings"]) == 1024
    assert served.ended() == 0
