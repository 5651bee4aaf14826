"""A match played by test, without sockets: pytest here."""

from __future__ import annotations

import json
import math

import pytest
from arena import HERE, Arena

import tinclock
from tinclock.testing import Stage

RATE = 64.0


class Player:
    """A client as far as a test needs one."""

    def __init__(self, arena: Arena, name: str) -> None:
        self.arena, self.name, self.sequence = arena, name, 0
        self.entity = arena.join(name, account=name)
        joined = self.send(kind="join", versions=[2])
        assert joined["kind"] == "join_accepted"
        assert joined["entity"] == self.entity

    def send(self, **message):
        """Send a message; what the server answers."""
        answer = self.arena.receive(self.name, json.dumps(message).encode(), self.arena.tick / RATE)
        return None if answer is None else json.loads(answer)

    def claim(self, kind, actor=None, **fields):
        """Send a claim; its receipt."""
        self.sequence += 1
        sent = self.send(kind=kind, sequence=self.sequence, actor=actor or self.entity, **fields)
        return sent["receipt"]

    def shoot(self, victim: int, up: float = 0.0, actor=None):
        """At somebody's middle, as it was three snapshots ago."""
        eye = self.arena.referee.history.eye_now(self.entity)
        to = [a - b for a, b in zip(self.arena.place(victim), eye, strict=True)]
        to[2] += 1.2 + up
        length = math.hypot(*to)
        tick = self.arena.tick - self.arena.tick % 2
        view = [tick - 6, tick - 4, 0.5]
        return self.claim(
            "shot", actor, weapon="popper", origin=list(eye), direction=[v / length for v in to], view=view
        )


@pytest.fixture
def arena():
    """A match of one second so far, with two players in it."""
    match = Arena(seed=1)
    match.ada, match.bob = Player(match, "ada"), Player(match, "bob")
    for tick in range(65):
        match.step(tick / RATE)
    return match


def test_five_shots_to_the_body_or_three_to_the_head_kill():
    for part, shots in (("body", 5), ("head", 3)):
        stage = Stage(tinclock.load_rules(HERE / "rules.toml"))
        stage.enter("ada", weapon="popper")
        stage.enter("bob", (10.0, 0.0, 0.0))
        stage.run(1.0)
        for shot in range(1, shots + 1):
            assert stage.shoot("ada", "bob", part=part).hits[0].lethal is (shot == shots)
            stage.run(0.25)


def test_a_shot_at_somebody_counts_by_the_servers_numbers(arena):
    receipt = arena.ada.shoot(arena.bob.entity)
    assert receipt["outcome"] == "accepted"
    (hit,) = receipt["hits"]
    assert (hit["victim"], hit["part"], hit["damage"]) == (arena.bob.entity, "body", 20.0)
    assert arena.referee.ledger.health(arena.bob.entity) == 80.0


def test_a_shot_past_somebody_hits_nobody(arena):
    assert "hits" not in arena.ada.shoot(arena.bob.entity, up=2.0)


def test_nobody_acts_for_somebody_else(arena):
    receipt = arena.ada.shoot(arena.bob.entity, actor=arena.bob.entity)
    assert receipt["outcome"] == "rejected"
    assert arena.referee.ledger.health(arena.bob.entity) == 100.0


def test_who_dies_comes_back_and_who_left_cannot_be_hit(arena):
    told = []
    for _shot in range(5):
        arena.ada.shoot(arena.bob.entity)
        for _ in range(16):
            told += [event.kind for event in arena.step((arena.tick + 1) / RATE)]
    assert "death" in told
    for _ in range(300):
        told += [event.kind for event in arena.step((arena.tick + 1) / RATE)]
    assert told.count("spawn") >= 1
    assert arena.referee.ledger.health(arena.bob.entity) == 100.0
    arena.leave("bob")
    with pytest.raises(LookupError):
        arena.referee.position(arena.bob.entity)
