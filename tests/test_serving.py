"""Serving: many matches by themselves, sockets with tokens, metrics, an orderly end, and servers in other languages."""

from __future__ import annotations

import base64
import json
import os
import shutil
import signal
import subprocess
import sys
from pathlib import Path
from urllib.error import HTTPError
from urllib.request import Request, urlopen

import msgspec
import numpy as np
import pytest
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect, unix_connect

import tinclock
from tinclock.core.errors import BadNumberError, EvidenceError
from tinclock.garden.scenario import data_file
from tinclock.serve.app import Settings, require_safe
from tinclock.serve.hub import Hub
from tinclock.store.again import rule_again
from tinclock.store.evidence_log import EvidenceLog, read_log
from tinclock.store.recording import Recording

ROOT = Path(__file__).parent.parent
RULES = data_file("garden.toml").read_text(encoding="utf-8")
POSE = np.array([[0, 0, 0, 0, 0, 0, 1], [0, 0, 0.7, 0, 0, 0, 1]], "<f4")
"""A sprinkler's two bones at the origin."""


class Asker:
    """Asks a hub, or a socket, and numbers its requests."""

    def __init__(self, hub: Hub | None = None, socket=None) -> None:
        self.hub, self.socket, self.number = hub, socket, 0

    def __call__(self, do: str, match: str = "m", **fields) -> dict:
        self.number += 1
        frame = msgspec.msgpack.encode({"do": do, "request": self.number, "match": match, **fields})
        if self.socket is not None:
            self.socket.send(frame)
            reply = self.socket.recv()
        else:
            reply = self.hub.handle(frame)
        found = {"ok": True, **msgspec.msgpack.decode(reply)}
        assert found["request"] == self.number
        return found

    def play(self, match: str = "m", ticks: int = 20, level: bool = False) -> None:
        more = {"level": data_file("garden_level.toml").read_text(encoding="utf-8")} if level else {}
        assert self("open", match, rules=RULES, seed=3, **more)["ok"]
        for k in range(2):
            who = {"connection": f"c{k}", "account": f"a{k}", "rig": "sprinkler", "weapon": "pea_rifle"}
            assert self("call", match, call="admit", arguments=who)["answer"] == k + 1
        for tick in range(ticks):
            assert self.tick(match, tick)["ok"]

    def tick(self, match: str, tick: int) -> dict:
        bones = np.concatenate([POSE, POSE + np.array([5, 0, 0, 0, 0, 0, 0], "<f4")])
        return self("tick", match, tick=tick, server_time=tick / 64, entities=np.array([1, 2], "<i8").tobytes(),
                    bones=bones.astype("<f4").tobytes(), published=tick % 2 == 0)  # fmt: skip


def shot(sequence: int = 1, actor: int = 1) -> bytes:
    return msgspec.msgpack.encode(
        tinclock.ShotClaim(sequence, actor, "pea_rifle", (0.1, 0.0, 0.7), (1.0, 0.0, 0.0), tinclock.View(10, 12, 0.5))
    )


def test_a_match_through_the_hub_is_ruled_as_one_by_the_library():
    ask = Asker(Hub())
    ask.play()
    reply = ask("claims", claims=[("c0", 0.31, shot()), ("c0", 0.31, shot()), ("c1", 0.31, shot()), ("c9", 0.31, b"")])
    told = [(one["outcome"], [finding["code"] for finding in one["findings"]]) for one in reply["ruled"]]
    assert told == [("upheld", []), ("denied", ["repeated_sequence"]), ("denied", ["foreign_actor"]),
                    ("denied", ["unknown_connection"])]  # fmt: skip
    assert reply["ruled"][0]["receipt"]["hits"][0]["victim"] == 2
    assert reply["ruled"][1]["receipt"] == reply["ruled"][0]["receipt"]
    events = ask("events", since=0)["events"]
    assert [event["number"] for event in events] == list(range(1, len(events) + 1))
    assert ask("state")["state"]["entities"][1]["health"] == events[-1]["after"]
    assert ask("close")["ok"]
    assert "no match" in ask("state")["error"]


def test_findings_are_in_the_log_before_their_receipts_go_out_and_a_tournament_stops_without(tmp_path):
    for trust, goes_on in (("tournament", False), ("ranked", True)):
        log = EvidenceLog(tmp_path / trust, sync="soon")
        ask = Asker(Hub(evidence=log))
        ask.play()
        ask("open", "t", rules=RULES.replace("schema = 1", f'schema = 1\ntrust = "{trust}"', 1))
        ask("call", "t", call="admit", arguments={"connection": "c0", "account": "a0", "rig": "sprinkler"})
        ask("claims", claims=[("c0", 0.31, shot()), ("c0", 0.31, shot())])
        (entry,) = read_log(tmp_path / trust)
        assert msgspec.json.decode(entry.body)["finding"]["code"] == "repeated_sequence"
        log._file.close()  # as if the disk had gone

        def broken(_: object) -> None:
            raise EvidenceError(tmp_path, "the disk is full")

        log._write = broken
        told = ask("claims", "t", claims=[("c0", 0.31, shot(actor=9))])
        assert told["ok"] is goes_on, told
        log._lock.close()


def test_mistakes_are_told_and_leave_the_match_as_it_was():
    ask = Asker(Hub())
    ask.play(ticks=2)
    wrong = [
        ask("open", rules=RULES), ask("open", "n", rules="match = 3"), ask("open", "n", rules="{{"),
        ask("open", "../n", rules=RULES), ask("open", "..", rules=RULES), ask("call", call="rule", arguments={}),
        ask("call", call="admit", arguments={"nonsense": 1}), ask("call", call="spawn", arguments={"entity": 99}),
        ask.tick("m", 1), ask("tick", tick=9, server_time=1.0, entities=b"123", bones=b""),
        ask("tick", tick=9, server_time=1.0, entities=np.array([1], "<i8").tobytes(), bones=b""),
        ask("events", since=99),
    ]  # fmt: skip
    assert [reply["ok"] for reply in wrong] == [False] * len(wrong)
    assert all(reply["error"] and not reply.get("failed") for reply in wrong)
    assert ask.tick("m", 2)["ok"]


def test_a_batch_with_a_time_that_is_none_is_refused_before_any_of_it_is_ruled():
    ask = Asker(Hub())
    ask.play()
    assert "claims[1]" in ask("claims", claims=[("c0", 0.31, shot()), ("c0", float("nan"), shot(2))])["error"]
    assert [one["outcome"] for one in ask("claims", claims=[("c0", 0.31, shot())])["ruled"]] == ["upheld"]


def test_what_is_no_request_is_answered_and_harms_nobody():
    hub, rng = Hub(), np.random.default_rng(1)
    ask = Asker(hub)
    ask.play(ticks=2)
    for frame in (b"", b"\xff", b"[" * 5000, *(rng.bytes(int(rng.integers(1, 200))) for _ in range(300))):
        assert msgspec.msgpack.decode(hub.handle(frame))["ok"] is False
    for text in ("", "{", '{"do": "open"}', "[" * 5000, '{"do": "tick", "request": 1, "match": "m"}'):
        assert json.loads(hub.handle(text))["ok"] is False
    assert ask.tick("m", 2)["ok"]


def test_a_match_that_fails_takes_no_other_with_it(monkeypatch):
    hub = Hub()
    ask = Asker(hub)
    ask.play("good", ticks=3)
    ask.play("bad", ticks=3)

    def broken(*_, **__):
        raise ZeroDivisionError("a fault of ours")

    monkeypatch.setattr(hub.matches["bad"].server, "rule", broken)
    lost = ask("claims", "bad", claims=[("c0", 0.1, shot())])
    assert (lost["ok"], lost["failed"]) == (False, True)
    assert "a fault of ours" in ask.tick("bad", 3)["error"]
    assert ask.tick("good", 3)["ok"]
    assert hub.failures == 1


def test_json_frames_do_the_same():
    hub = Hub()
    Asker(hub).play()
    frame = {"do": "claims", "request": 7, "match": "m", "claims": [["c0", 0.31, base64.b64encode(shot()).decode()]]}
    reply = json.loads(hub.handle(json.dumps(frame)))
    assert (reply["request"], reply["ruled"][0]["outcome"]) == (7, "upheld")


@pytest.mark.parametrize("host", ["0.0.0.0", "192.168.1.4", "example.org", "::"])
def test_other_addresses_need_a_token(host):
    with pytest.raises(BadNumberError):
        require_safe(Settings(host))
    require_safe(Settings(host, token="secret"))
    for near in ("127.0.0.1", "127.9.9.9", "::1", "localhost"):
        require_safe(Settings(near))


def service(*options: str, **environment: str) -> tuple[subprocess.Popen[str], str]:
    """A process of its own, and where it listens."""
    run = [sys.executable, "-W", "error", "-m", "tinclock", "serve", *options]
    process = subprocess.Popen(run, stdout=subprocess.PIPE, text=True, env={**os.environ, **environment})
    return process, json.loads(process.stdout.readline())["where"]


def ended(process: subprocess.Popen[str]) -> list[dict]:
    process.send_signal(signal.SIGTERM)
    text, _ = process.communicate(timeout=60)
    assert process.returncode == 0
    return [json.loads(line) for line in text.splitlines()]


def test_a_service_shows_tokens_the_door_counts_and_ends_with_whole_recordings(tmp_path):
    process, where = service("--port", "0", "--record", str(tmp_path / "kept"), TINCLOCK_TOKEN="secret")
    for wrong in ({}, {"Authorization": "Bearer guess"}):
        with pytest.raises(InvalidStatus, match="401"), connect(f"ws://{where}", additional_headers=wrong):
            pass
    with pytest.raises(HTTPError, match="401"):
        urlopen(f"http://{where}/metrics", timeout=10)
    known = {"Authorization": "Bearer secret"}
    with connect(f"ws://{where}", additional_headers=known) as one, connect(
        f"ws://{where}", additional_headers=known
    ) as two:  # fmt: skip
        first, second = Asker(socket=one), Asker(socket=two)
        first.play("first", level=True)
        second.play("second")
        first("claims", "first", claims=[("c0", 0.31, shot())])
        two.socket.close()  # killed, without a word
        assert first.tick("first", 20)["ok"]
        text = urlopen(Request(f"http://{where}/metrics", headers=known), timeout=10).read().decode()
        assert 'tinclock_rulings_total{outcome="upheld"} 1.0' in text
        assert "tinclock_matches 2.0" in text
        log = ended(process)
    assert log[-1]["event"] == "stopped"
    kept = Recording(tmp_path / "kept" / "first")
    assert kept.closed
    assert rule_again(kept).as_recorded
    assert kept.rows("claims") == 1
    assert Recording(tmp_path / "kept" / "second").verify() == []


def test_a_unix_socket_serves_too(tmp_path):
    process, where = service("--unix", str(tmp_path / "s"))
    with unix_connect(where) as socket:
        Asker(socket=socket).play(ticks=3)
    assert ended(process)[-1]["event"] == "stopped"


if shutil.which("node"):

    def test_a_server_in_node_plays_its_script():
        process, where = service("--port", "0")
        example = ROOT / "examples" / "node" / "scripted_match.mjs"
        major = int(
            subprocess.run(["node", "--version"], capture_output=True, text=True, check=True).stdout[1:].split(".")[0]
        )
        flags = ["--experimental-websocket", "--no-warnings"] if major < 22 else []
        run = ["node", *flags, str(example), f"ws://{where}", str(data_file("garden.toml"))]
        done = subprocess.run(run, capture_output=True, text=True, timeout=60)
        ended(process)
        assert done.returncode == 0, done.stderr
        assert "c-1: upheld" in done.stdout
        assert "c-2: denied [] foreign_actor" in done.stdout
        assert "c-2: denied [] malformed" in done.stdout
        assert done.stdout.rstrip().endswith("closed")
