"""Kits for clients: the library, TypeScript and C# pass the same vectors, and a client in TypeScript plays."""

from __future__ import annotations

import json
import math
import re
import shutil
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import get_args

import msgspec
import pytest
from click.testing import CliRunner
from conftest import needs

import tinclock
from tinclock.cli.main import main
from tinclock.core.combat.motion import Motion
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.combat.published import State
from tinclock.core.combat.spread_stream import SpreadStream
from tinclock.core.rules.weapons import WeaponRules
from tinclock.garden.scenario import data_file
from tinclock.garden.screen import Playout, SentSnapshot
from tinclock.recordings import Recording, replay
from tinclock.serve.requests import Request
from tinclock.wire import client_rules, decode_message

ROOT = Path(__file__).resolve().parent.parent
KITS = ROOT / "kits"


def vectors(name: str) -> dict:
    return json.loads((KITS / "vectors" / f"{name}.json").read_text(encoding="utf-8"))


def near(found, expected, tolerance) -> bool:
    return all(abs(a - b) <= tolerance for a, b in zip(found, expected, strict=True))


def test_the_library_sends_shots_where_the_vectors_say():
    """A thousand shots, whatever machine the vectors were written on."""
    told = vectors("spread")
    for weapon in told["weapons"]:
        table = {"damage": 1.0, "interval_s": 0.1, "range_m": 50.0, "kind": "pellets", **weapon["rules"]}
        scatter = SpreadStream(bytes.fromhex(weapon["key"]), weapon["weapon"], msgspec.convert(table, WeaponRules))
        for shot in weapon["shots"]:
            rays = scatter.rays(tuple(shot["direction"]), shot["at"], shot["shot"], shot["speed_m_s"])
            assert len(rays) == len(shot["rays"])
            assert all(near(a, b, told["tolerance"]) for a, b in zip(rays, shot["rays"], strict=True)), shot["shot"]


def test_the_library_flies_and_bounces_as_the_vectors_say():
    """Two hundred flights over a floor and beside a wall."""
    told = vectors("projectile_paths")
    centres, sizes = [[0.0, 0.0, -50.0], [112.0, 0.0, 0.0]], [[500.0, 500.0, 50.0], [100.0, 500.0, 400.0]]
    level = tinclock.Level.from_boxes(centres, sizes)
    for number, one in enumerate(told["flights"]):
        motion, target = msgspec.convert(one["motion"], Motion), one["target"]
        flight = ProjectilePath(motion, one["start"], tuple(one["position"]), tuple(one["velocity"]), level=level,
                        last=one["last"], target=None if target is None else tuple(target))  # fmt: skip
        for sample in one["samples"]:
            assert near(flight.at(sample["at"])[0], sample["position"], told["tolerance_m"]), number
        assert near([b.server_time for b in flight.bounces], [b["server_time"] for b in one["bounces"]],
                    told["tolerance_s"])  # fmt: skip
        assert flight.ended_at == pytest.approx(one["ended_at"] or math.inf)


def test_a_screen_of_the_garden_draws_what_the_vectors_say():
    """Jitter, loss and repeats move no picture otherwise than said."""
    for line in vectors("views")["lines"]:
        playout, taken = Playout(line["delay_s"]), 0
        for asked in line["views"]:
            for arrival in line["arrivals"][taken : asked["after"]]:
                playout.take(SentSnapshot(arrival["tick"], arrival["server_time"], {}, {}), arrival["at"])
            taken, found = asked["after"], playout.view(asked["at"])
            view = None if found is None else [found[0].tick, found[1].tick, pytest.approx(found[2], abs=1e-9)]
            assert view == asked["view"]


def test_the_vectors_are_what_the_code_makes():
    """A message or an event that is new stands in the vectors, so that no kit passes without it."""
    checked = subprocess.run([sys.executable, "tools/vectors.py", "--check"], cwd=ROOT, capture_output=True, text=True)
    assert checked.returncode == 0, checked.stderr


def test_the_library_follows_events_and_reads_messages_as_the_vectors_say():
    """What a kit writes is what the server reads, and the state moves on as everybody's does."""
    for stream in vectors("events")["streams"]:
        state, done = msgspec.convert(stream["state"], State), 0
        for check in stream["states"]:
            for event in stream["events"][done : check["after"]]:
                state = tinclock.client.apply_event(state, msgspec.convert(event, tinclock.Event))
            done = check["after"]
            assert state == msgspec.convert(check["state"], State)
    for one in vectors("messages")["messages"]:
        packed = bytes.fromhex(one["packed"])
        assert msgspec.msgpack.decode(packed) == one["message"]
        if one["direction"] == "from_client":
            assert decode_message(packed) == decode_message(json.dumps(one["message"]).encode())
            assert type(decode_message(packed)).__name__ != "Unreadable"


@pytest.fixture(scope="module")
def typescript(tmp_path_factory):
    """The kit, compiled in a folder of its own."""
    kits = tmp_path_factory.mktemp("kits")
    shutil.copytree(KITS / "vectors", kits / "vectors")
    kit = kits / "typescript"
    shutil.copytree(KITS / "typescript", kit, ignore=shutil.ignore_patterns("node_modules", "dist"))
    for command in (["npm", "install", "--no-audit", "--no-fund", "--silent"], ["npx", "tsc"]):
        subprocess.run(command, cwd=kit, check=True, capture_output=True, timeout=240)
    return kit


@needs("npm")
def test_the_kit_in_typescript_passes_the_vectors(typescript):
    """Compiled with every check on, and run by Node's own test runner."""
    done = subprocess.run(["node", "--test", "test"], cwd=typescript, capture_output=True, text=True, timeout=240)
    assert done.returncode == 0, done.stdout[-2000:]
    assert "# pass 14" in done.stdout


@needs("npm")
def test_a_client_in_typescript_plays_over_a_line_that_loses(typescript, tmp_path):
    """It joins, moves, shoots at another client, is corrected, and every claim but moves has its receipt at the end."""
    digests = tmp_path / "digests.json"
    digests.write_bytes(msgspec.json.encode(client_rules(tinclock.load_rules(data_file("garden.toml"))).digests))
    udp = ROOT / "examples" / "udp"
    server = subprocess.Popen([sys.executable, "server.py", "2", "90"], cwd=udp, stdout=subprocess.PIPE, text=True)
    try:
        port = server.stdout.readline().strip()
        other = subprocess.Popen(
            [sys.executable, "client.py", "anvil", port, "60"], cwd=udp, stdout=subprocess.PIPE, text=True
        )
        command = ["node", "example/udp_client.mjs", port, "4", str(digests)]
        done = subprocess.run(command, cwd=typescript, capture_output=True, text=True, timeout=90)
        other.kill()
        other.communicate(timeout=90)
        said = server.communicate(timeout=90)[0]
    finally:
        server.kill()
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert (told["same_rules"], told["unanswered"]) == (True, 0), told
    assert told["lost"] > 0
    assert told["snapshots"] > 40
    assert told["answers"] == told["shots"] > 2
    assert told["hits"] > 0
    assert told["event"] > 4
    assert "2 joined, 2 left" in said


@needs("mono")
def test_the_kit_in_csharp_passes_the_vectors(tmp_path):
    """Compiled and run by Mono."""
    sources = [*sorted((KITS / "csharp" / "src").glob("*.cs")), KITS / "csharp" / "test" / "Vectors.cs"]
    built = tmp_path / "Vectors.exe"
    compiled = subprocess.run(["mcs", f"-out:{built}", *map(str, sources)], capture_output=True, text=True, timeout=120)
    assert compiled.returncode == 0, compiled.stdout + compiled.stderr
    done = subprocess.run(["mono", str(built), str(KITS / "vectors")], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stdout
    assert done.stdout.count("ok ") == 7


@needs("npm")
def test_a_server_and_its_clients_in_typescript_play_over_udp(typescript, tmp_path):
    """The starter's loop beside `tinclock serve`, and two clients on the kit over lines that lose: nobody is Python.

    The service is killed under them and started again: the loop goes on, and no claim is lost or ruled twice.
    """
    folder = tmp_path / "arena"
    assert CliRunner().invoke(main, ["new", str(folder), "--server", "typescript"]).exit_code == 0
    shutil.copy(folder / "server.ts", typescript / "loop.ts")  # its types are checked in the starter's own test
    options = ["--target", "es2022", "--module", "nodenext", "--outDir", str(folder / "made")]
    subprocess.run(["npx", "tsc", *options, "loop.ts"], cwd=typescript, capture_output=True, timeout=120)
    digests = tmp_path / "digests.json"
    digests.write_bytes(msgspec.json.encode(client_rules(tinclock.load_rules(folder / "rules.toml")).digests))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free, socket.socket() as other:
        free.bind(("127.0.0.1", 0))
        other.bind(("127.0.0.1", 0))
        port, where = str(free.getsockname()[1]), f"127.0.0.1:{other.getsockname()[1]}"
    serve = [sys.executable, "-m", "tinclock", "serve", "--port", where.split(":")[1]]

    def started() -> subprocess.Popen[bytes]:
        with (tmp_path / "log").open("wb") as log:
            service = subprocess.Popen([*serve, "--record", str(tmp_path / "matches")], stdout=log)
        while "listening" not in (tmp_path / "log").read_text():
            time.sleep(0.05)
        return service

    service, loop = started(), None
    try:
        command = ["node", "--experimental-websocket", str(folder / "made" / "loop.js"), port, "600", f"ws://{where}"]
        loop = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, text=True)
        assert "udp" in loop.stdout.readline()
        play = ["node", "example/udp_client.mjs", port, "6", str(digests), "popper"]
        players = [subprocess.Popen(play, cwd=typescript, stdout=subprocess.PIPE, text=True) for _ in range(2)]
        time.sleep(3.0)
        service.kill()
        service.wait()
        service = started()
        told = [json.loads(player.communicate(timeout=90)[0]) for player in players]
    finally:
        if loop is not None:
            loop.kill()
            loop.communicate()
        service.terminate()
        service.wait(30.0)
    for one in told:
        assert (one["same_rules"], one["unanswered"]) == (True, 0), told
        assert one["lost"] > 0
        assert one["answers"] == one["shots"] > 2
    assert sum(one["hits"] for one in told) > 0
    (match,) = (tmp_path / "matches").glob("[!.]*")
    again = replay(Recording(match))
    assert again.as_recorded
    assert {ruling.kind for ruling in again.rulings} >= {"shot", "move"}


REQUESTS = """
import type { WhatAServerAsksOfTheService as Request } from "./service_request";
import type { WhatTheServiceReplies as Reply } from "./service_reply";
const at = { request: 1, match: "m" };
export const asked: Request[] = [
  { do: "open", ...at, rules: "", seed: 3 },
  { do: "call", ...at, call: "admit", arguments: { connection: "c", account: "a", rig: "gardener" } },
  { do: "call", ...at, call: "set_position", arguments: { entity: 1, position: [0, 0, 0] } },
  { do: "call", ...at, call: "report_server_result", arguments: { connection: "c", sequence: 1, hits: [[2, 10]] } },
  { do: "call", ...at, call: "change_rules", arguments: { rules: "" } },
  { do: "tick", ...at, tick: 0, server_time: 0, entities: "", bones: "" },
  { do: "claims", ...at, claims: [["c", 0.5, "AA=="]], explain: true },
  { do: "messages", ...at, messages: [["c", 0.5, "AA=="]] },
  { do: "outgoing", ...at, server_time: 1, ping: true },
  { do: "events", ...at, since: 0 },
  { do: "state", ...at },
  { do: "query", ...at, about: { what: "connection", connection: "c" } },
  { do: "resume", ...at, last_reply: 0 },
  { do: "close", ...at },
  { do: "list_matches", request: 1 },
  // @ts-expect-error an argument that the call doesn't take
  { do: "call", ...at, call: "admit", arguments: { connection: "c", account: "a", rig: "gardener", colour: "red" } },
  // @ts-expect-error an argument that is missing
  { do: "call", ...at, call: "set_position", arguments: { entity: 1 } },
  // @ts-expect-error a call that there isn't
  { do: "call", ...at, call: "fly", arguments: {} },
  // @ts-expect-error a claim without its time
  { do: "claims", ...at, claims: [["c", "AA=="]] },
];
export const sent = (reply: Reply): [string, string][] => reply.outgoing ?? [];
"""
"""A program that asks every request there is, and some that there aren't."""


@pytest.fixture(scope="module")
def generators(tmp_path_factory):
    """What the guide names, and AsyncAPI's own parser."""
    folder = tmp_path_factory.mktemp("generators")
    packages = ["json-schema-to-typescript@16", "quicktype@26", "typescript@5", "@asyncapi/parser@3"]
    version = subprocess.run(["node", "--version"], capture_output=True, text=True, check=True).stdout
    if int(version.lstrip("v").split(".")[0]) < 20:  # too old for these; one beside them runs them
        packages.append("node@22")
    subprocess.run(
        ["npm", "install", "--no-audit", "--no-fund", "--silent", *packages], cwd=folder, check=True, timeout=300
    )
    (folder / "schemas").symlink_to(ROOT / "docs" / "schemas")
    return folder


@needs("npm")
@needs("mono")
def test_types_that_common_generators_make_of_the_schemas_compile(generators):
    """In TypeScript and in C#, by the guide's commands: every request that there is type checks, and others don't."""
    guide = (ROOT / "docs" / "serving.md").read_text(encoding="utf-8")
    for name in ("from_client", "to_client", "service_request", "service_reply"):
        commands = [line for line in guide.splitlines() if line.startswith("npx ") and "to_client" in line]
        assert len(commands) == 2
        for command in commands:
            ran = command.replace("to_client", name).replace("npx ", "./node_modules/.bin/")
            subprocess.run(ran, cwd=generators, shell=True, check=True, capture_output=True, timeout=120)
        subprocess.run(
            ["mcs", "-target:library", f"{name}.cs"], cwd=generators, check=True, capture_output=True, timeout=120
        )
    (generators / "requests.ts").write_text(REQUESTS)
    asked = {kind.__struct_config__.tag for kind in get_args(Request)}
    assert asked == set(re.findall(r'{ do: "(\w+)"', REQUESTS))
    options = ["--strict", "--noEmit", "--target", "es2022", "--typeRoots", "none"]
    done = subprocess.run(
        ["./node_modules/.bin/tsc", *options, *sorted(path.name for path in generators.glob("*.ts"))],
        cwd=generators, capture_output=True, text=True, timeout=120, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout
    text = (generators / "from_client.ts").read_text()
    assert "export type View = [number, number, number];" in text
    assert "origin: [number, number, number];" in text
    assert "public double[] Origin" in (generators / "from_client.cs").read_text()
    of_service = (generators / "service_request.cs").read_text()
    assert "class Claims" in of_service
    assert "class AdmitArguments" in of_service


@needs("npm")
def test_the_kits_types_are_those_of_the_schemas(generators, tmp_path):
    """What `npm run generate` would write is what the kit holds."""
    kit = tmp_path / "kits" / "typescript"
    shutil.copytree(KITS / "typescript", kit, ignore=shutil.ignore_patterns("node_modules", "dist"))
    (tmp_path / "docs").mkdir()
    (tmp_path / "docs" / "schemas").symlink_to(ROOT / "docs" / "schemas")
    (kit / "node_modules").symlink_to(generators / "node_modules")
    subprocess.run(["npm", "run", "--silent", "generate"], cwd=kit, check=True, capture_output=True, timeout=120)
    for name in ("from_client.ts", "to_client.ts"):
        assert (kit / "src" / name).read_text() == (KITS / "typescript" / "src" / name).read_text(), name


@needs("npm")
def test_the_services_description_is_valid_asyncapi(generators):
    """AsyncAPI's own parser finds no error in it, and finds one where there is one."""
    (generators / "parse.mjs").write_text(
        "import { Parser, fromFile } from '@asyncapi/parser';\n"
        "const { document, diagnostics } = await fromFile(new Parser(), process.argv[2]).parse();\n"
        "const errors = diagnostics.filter(one => one.severity === 0).map(one => one.message);\n"
        "console.log(JSON.stringify({ errors, operations: document?.operations().all().length ?? 0 }));\n"
    )
    broken = json.loads((ROOT / "docs" / "schemas" / "service.asyncapi.json").read_text())
    del broken["info"]["version"]
    (generators / "broken.json").write_text(json.dumps(broken))

    def parsed(file: str) -> dict:
        command = ["node", "parse.mjs", file]
        done = subprocess.run(command, cwd=generators, capture_output=True, text=True, timeout=120, check=True)
        return json.loads(done.stdout)

    assert parsed("schemas/service.asyncapi.json") == {"errors": [], "operations": len(get_args(Request))}
    assert parsed("broken.json")["errors"]
