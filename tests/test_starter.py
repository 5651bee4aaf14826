"""`tinclock new` writes a project that works as it is: its test, its loop, its commands."""

from __future__ import annotations

import json
import os
import re
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest
from click.testing import CliRunner
from conftest import needs

from tinclock.cli.main import main


@pytest.fixture(scope="module")
def project(tmp_path_factory):
    folder = tmp_path_factory.mktemp("projects") / "arena"
    told = CliRunner().invoke(main, ["new", str(folder), "--json"])
    assert told.exit_code == 0, told.output
    assert sorted(json.loads(told.stdout)["files"]) == sorted(path.name for path in folder.iterdir())
    return folder


def run(folder, *command):
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    return subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, check=False)


def test_every_command_of_its_readme_works(project):
    """Its own test passes, its rules and level are without mistakes, its server serves and records."""
    commands = re.search(r"```sh\n(.*?)```", (project / "README.md").read_text(), re.S).group(1).splitlines()
    assert len(commands) == 6
    for line in commands:
        if line.startswith(("pip install", "python client.py")):
            continue  # it is installed here; clients have a test of their own
        command = line.split("  #")[0].replace("7465 5", f"{free_port()} 1").split()
        command[0] = sys.executable if command[0] == "python" else command[0]
        done = run(project, *command)
        assert done.returncode == 0, done.stdout + done.stderr
    recording = re.search(r"recording (\S+)", done.stdout).group(1)
    assert "loading kernels" in done.stdout.splitlines()[0]
    assert "tinclock explain" not in done.stdout  # nobody claimed anything, so there is no ruling to explain
    assert "ended in good order" in run(project, "tinclock", "info", recording).stdout


def free_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


def test_a_client_over_the_wire_joins_and_is_told_of_itself(project):
    """One datagram of JSON from somewhere is a player; its answer says who it is."""
    port = free_port()
    server = subprocess.Popen([sys.executable, "server.py", str(port), "30"], cwd=project, stdout=subprocess.PIPE)
    try:
        assert b"loading kernels" in server.stdout.readline()
        assert b"udp 127.0.0.1" in server.stdout.readline()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            line.settimeout(20.0)
            line.sendto(b'{"kind": "join", "versions": [2]}', ("127.0.0.1", port))
            kinds = {}
            while not {"join_accepted", "snapshot", "events", "ping"} <= set(kinds):
                message = json.loads(line.recv(65536))
                kinds[message["kind"]] = message
        assert kinds["join_accepted"]["entity"] == 1
        assert list(kinds["snapshot"]["bodies"]) == ["1"]
    finally:
        server.kill()
        server.communicate()


def test_its_clients_play_each_other(project):
    """Two of its clients join, walk, shoot and are hit, by the server's numbers; the server records a whole match."""
    port = free_port()
    server = subprocess.Popen([sys.executable, "server.py", str(port), "25"], cwd=project, stdout=subprocess.PIPE)
    try:
        assert b"loading kernels" in server.stdout.readline()
        assert b"udp 127.0.0.1" in server.stdout.readline()
        play = [sys.executable, "client.py", str(port), "8"]
        players = [
            subprocess.Popen([*play, name], cwd=project, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True)
            for name in ("ada", "bob")
        ]
        told = [player.communicate(timeout=60)[0] for player in players]
    finally:
        server.kill()
        server.communicate()
    for text, name in zip(told, ("ada", "bob"), strict=True):
        assert "same rules as the server: True" in text
        assert re.search(rf"{name}: \d\d+ claims", text)
    assert re.search(r"accepted; hit entity [12] in the \w+; \d+ left", "".join(told))


@needs("npm")
def test_its_loop_in_typescript_serves_the_same_clients(tmp_path):
    """Its types hold; beside `tinclock serve` it lets clients in, and they play as they do with the loop in Python."""
    folder = tmp_path / "arena"
    told = CliRunner().invoke(main, ["new", str(folder), "--server", "typescript", "--json"])
    assert "server.ts" in json.loads(told.stdout)["files"]
    packages = ["npm", "install", "--no-audit", "--no-fund", "--silent", "typescript@5.9", "@types/node@22"]
    subprocess.run(packages, cwd=folder, check=True, capture_output=True, timeout=240)
    options = ["--strict", "--target", "es2022", "--module", "nodenext", "--types", "node", "--lib", "es2022,dom"]
    compiled = run(folder, "npx", "tsc", *options, "server.ts")
    assert compiled.returncode == 0, compiled.stdout
    port, environment = free_port(), {**os.environ, "NODE_OPTIONS": "--experimental-websocket"}
    with (folder / "log").open("wb") as log:
        service = subprocess.Popen([sys.executable, "-m", "tinclock", "serve", "--port", "0"], stdout=log)
    try:
        while "listening" not in (said := (folder / "log").read_text()):
            time.sleep(0.05)
        where = re.search(r'"where": "127.0.0.1:(\d+)"', said).group(1)
        loop = ["node", "server.js", str(port), "9", f"ws://127.0.0.1:{where}"]
        server = subprocess.Popen(loop, cwd=folder, env=environment, stdout=subprocess.PIPE, text=True)
        play = [sys.executable, "client.py", str(port), "6"]
        players = [
            subprocess.Popen([*play, name], cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, text=True)
            for name in ("ada", "bob")
        ]
        told = [player.communicate(timeout=60)[0] for player in players]
        assert server.communicate(timeout=30)[0].rstrip().endswith("ticks")
    finally:
        service.terminate()
        service.wait(30.0)
    assert all("same rules as the server: True" in text for text in told), told
    assert re.search(r"accepted; hit entity [12] in the \w+; \d+ left", "".join(told)), told


def test_only_a_join_lets_a_stranger_in(project):
    """What a client sent before it was let go for its silence makes no second body, which nobody would play."""
    code = """
import asyncio, server
from tinclock.wire import Join, Pong, encode
async def play():
    one, inside = server.Server(server.Arena()), []
    one.transport = type("Silent", (), {"sendto": lambda *_: None})()
    for data in (encode(Pong(1, 0.5)), b"\\xff", encode(Join((2,))), encode(Pong(2, 0.6))):
        one.datagram_received(data, ("127.0.0.1", 5))
        inside.append(len(one.arena.gateways))
    print(inside)
asyncio.run(play())
"""
    assert run(project, sys.executable, "-c", code).stdout.strip() == "[0, 0, 1, 1]"


def test_a_heading_turns_the_body_and_nothing_else(project):
    """A move's own heading is taken as a number between half turns; what is none leaves the body as it faces."""
    code = "import json, arena; print(json.dumps([arena.heading_of(x, 9.0) for x in "
    code += "(b'{\"heading\": 7.0}', b'{\"heading\": \"a\"}', b'{}', b'\\xff', b'{\"heading\": 1e999}')]))"
    found = json.loads(run(project, sys.executable, "-c", code).stdout)
    assert found == [pytest.approx(7.0 - 2 * 3.141592653589793), 9.0, 9.0, 9.0, 9.0]


def test_nothing_is_written_over(project):
    """Nothing is written over."""
    told = CliRunner().invoke(main, ["new", str(project)])
    assert told.exit_code == 1
    assert "holds README.md, arena.py" in told.output
