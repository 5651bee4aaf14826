"""The examples, run as a user runs them, each held to what it is there to show."""

from __future__ import annotations

import asyncio
import re
import runpy
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace

import pytest

from tinclock.wire import Join, Pong, encode

EXAMPLES = Path(__file__).parent.parent / "examples"
SHOWS = {
    "ask_a_recording": ["ruled again, the same bit for bit: True", "The shot hit nobody: the brick stopped it after",
                        "  -> 0.03 m right of the head of entity 7", "115  accepted -> adjusted"],
    "bring_a_gltf": ["head: sphere, 100 %", "shot 1: accepted, head, 42.5 points", "stopped by hedge"],
    "bring_your_logs": ["'accepted':", "beryl: ", "case opened: beryl, aims at bones", "its page is case.html"],
    "friendly_match": ["the sprinkler dies by", "gorse joins team pewter", "oil_can", "server's: True"],
    "intent_driven": ["128 ticks a second: 10 shots", "the same instants at every rate: True"],
    "pebble_sling": ["each was drawn where the server flew it: True", "pebble 5 ends", "entity 2", "ground"],
    "review_a_case": ["opened: clover", "clover: 345 decibans, claims what no honest build claims",
                      "the game is told: confirmed", "holds the decision; wrong with it: None"],
    "server_decisions": ["in the freeze: rejected", "a team-mate: 0.0 points", "bob is entity 2 again",
                         "(rake in the grass), trap", "by ada, watering can", "is pushed by (0.0, 6.0, 3.0) m/s"],
    "server_moves": ["the body at 5.00 m, the client at 5.00 m, 0 findings", "31 findings"],
    "server_shooter": ["fires the turret: accepted", "once it is gone: rejected ['wrong_actor']", "fired 20 times"],
    "three_policies": ["8 m: none misses; catch_up hits the chest; blend misses", "16 m: none misses; catch_up misses",
                       "3 m: none misses; catch_up hits the chest; blend hits"],
    "top_down": ["dung's move is adjusted: too_fast", "in the wall", "2 in the head", "health of dung"],
}  # fmt: skip
"""What each prints. `first_ruling` and `udp_match` have tests of their own."""


def test_every_example_is_run_and_the_readme_names_it():
    """No example is forgotten by the tests or by the README."""
    there = {page.stem for page in EXAMPLES.glob("*.py")}
    assert there == set(SHOWS) | {"first_ruling", "udp_match"}
    readme = (EXAMPLES.parent / "README.md").read_text(encoding="utf-8")
    assert {name for name in there if f"{name}.py" not in readme} == set()


def test_the_first_example_prints_one_ruling_with_its_trace():
    """The first example prints one ruling with its trace."""
    example = EXAMPLES / "first_ruling.py"
    run = [sys.executable, "-W", "error", str(example)]
    done = subprocess.run(run, capture_output=True, text=True, check=True)
    assert done.stdout == (EXAMPLES.parent / "tests" / "golden" / "first_ruling.txt").read_text()
    assert len(example.read_text().splitlines()) < 60


@pytest.mark.parametrize("example", SHOWS)
def test_an_example_shows_what_it_says(example, capsys, monkeypatch, tmp_path):
    """An example shows what it says it shows."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(sys, "argv", [f"{example}.py"])
    runpy.run_path(str(EXAMPLES / f"{example}.py"), run_name="__main__")
    text = capsys.readouterr().out
    assert [line for line in SHOWS[example] if line not in text] == []


def test_every_example_is_short():
    """Every example is short."""
    pages = [page for kind in ("py", "mjs") for page in EXAMPLES.rglob(f"*.{kind}")]
    lengths = {page.name: len(page.read_text(encoding="utf-8").splitlines()) for page in pages}
    assert len(lengths) > 10
    assert {name for name, length in lengths.items() if length >= 120} == set()


def test_over_udp_nothing_that_counts_is_lost_though_datagrams_are():
    """Over UDP nothing that counts is lost though datagrams are."""
    run = [sys.executable, "-W", "error", str(EXAMPLES / "udp_match.py"), "1.5"]
    text = subprocess.run(run, capture_output=True, text=True, check=True).stdout
    clients = re.findall(
        r"entity (\d), same rules True, (\d+) snapshots; (\d+) claims, 0 unanswered; (\d+) shots", text
    )
    assert sorted(entity for entity, *_ in clients) == ["1", "2", "3"]
    assert all(int(snapshots) > 10 and int(claims) > 10 for _, snapshots, claims, _ in clients)
    server = re.search(r"3 joined, 3 left, (\d+) events; (.*); (\d+) datagrams lost, (\d+) sent twice", text)
    ruled = sum(int(n) for kind, n in re.findall(r"'(shot \w+)': (\d+)", server.group(2)))
    assert ruled == sum(int(shots) for *_, shots in clients)  # each counted once, whatever became of its datagrams
    assert int(server.group(3)) > 5


def test_who_left_is_not_let_in_again_by_an_answer_that_was_under_way(monkeypatch):
    """Over UDP only a join lets a stranger in: a late pong of one who left would make a body that nobody plays."""
    monkeypatch.syspath_prepend(str(EXAMPLES / "udp"))
    made = runpy.run_path(str(EXAMPLES / "udp" / "server.py"), run_name="server")

    async def play() -> list[int]:
        server, here, inside = made["Server"](), ("127.0.0.1", 5), []
        server.line = SimpleNamespace(send=lambda *_: None)
        for data in (encode(Pong(1, 0.5)), encode(Join((2,))), b"leave", encode(Pong(2, 0.6)), b"\xff"):
            server.take(data, here)
            inside.append(len(server.gateways))
        return [*inside, server.count]

    assert asyncio.run(play()) == [0, 1, 0, 0, 0, 1]
