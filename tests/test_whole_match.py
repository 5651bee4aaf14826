"""Whole random matches with everything in them: nothing raises, the books stay sound, a repeat is the same bytes."""

from __future__ import annotations

import contextlib
import copy
import hashlib
import math
import random
import tomllib
from typing import Any

import msgspec
import pytest

import tinclock
from tinclock.claims import (
    ImpactClaim,
    LaunchClaim,
    MeleeClaim,
    MoveClaim,
    ShotClaim,
    StatusClaim,
    TriggerClaim,
    UseClaim,
    WeaponActionClaim,
)
from tinclock.core.checkpoint import checkpoint_of
from tinclock.errors import BadNumberError
from tinclock.garden.scenario import data_file

TABLES = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))
LEVEL = tinclock.load_level(data_file("garden_level.toml"))
KINDS = (
    ShotClaim, LaunchClaim, LaunchClaim, ImpactClaim, MeleeClaim,
    TriggerClaim, WeaponActionClaim, UseClaim, MoveClaim, StatusClaim,
)  # fmt: skip
JUNK = (None, 1, -1, 2**60, 1e300, math.nan, math.inf, "x", "", [], {}, True, b"z", (1.0, 2.0, 3.0))


def random_rules(dice: random.Random) -> tinclock.Rules:
    """The garden's rules with a seeker that homes, bounces, bursts and sets others off, and with other settings."""
    tables = copy.deepcopy(TABLES)
    tables["strictness"] = dice.choice(["lenient", "standard", "strict"])
    tables["damage"] = {
        "friendly_fire": dice.choice(["none", "scaled", "reflected"]), "armour": dice.choice([0.0, 40.0]),
        "spawn_shield_s": dice.choice([0.0, 0.5]), "trade_window_s": dice.choice([0.0, 0.2]),
    }  # fmt: skip
    tables["score"] = {"keep_disconnected": dice.random() < 0.5}
    flight = {
        "speed_m_s": 18.0, "gravity_m_s2": 0.0, "turn_deg_per_s": 120.0, "fuse_s": 2.0,
        "on_body": dice.choice(["pass", "bounce", "end"]), "on_level": dice.choice(["bounce", "stick", "end"]),
        "hit_source": dice.choice(["server", "client_confirmed"]),
        "compensation": dice.choice(["none", "catch_up", "blend"]),
        "when_owner_leaves": dice.choice(["remove", "orphan"]), "when_owner_dies": dice.choice(["keep", "remove"]),
    }  # fmt: skip
    tables["weapons"]["seeker"] = {
        "kind": "projectile", "damage": 9.0, "interval_s": 0.3, "range_m": 50.0, "charge_s": 0.2,
        "min_charge_fraction": 0.3,
        "damage_over_time": {"damage": 3.0, "every_s": 0.2, "times": 4}, "projectile": flight,
        "splash": {"radius_m": 3.0, "damage": 30.0, "detonates_others": True, "impulse_n_s": 5.0},
    }  # fmt: skip
    tables["rigs"]["gardener"]["stances"] = {"sprint": {"speed_m_s": 8.0}}
    tables["movement"]["moved_by"] = dice.choice(["client", "client", "server"])
    tables["game_findings"] = {"odd": {"action": dice.choice(["flag", "adjust", "reject"])}}
    leaf = {"name": "leaf", "bone": "b", "zone": "x", "shape": "box", "half_size_m": [0.05, 0.6, 1.0]}
    tables["rigs"]["door"] = {"blocks_only": True, "eye": {"bone": "b"}, "bones": [{"name": "b"}], "parts": [leaf]}
    return tinclock.parse_rules(tables)


class Mayhem:
    """A match in which everybody does anything, sensible or not."""

    def __init__(self, seed: int, seconds: float) -> None:
        self.dice = dice = random.Random(seed)
        self.referee = tinclock.Referee(
            random_rules(dice), level=LEVEL, seed=seed, storage=dice.choice(["full", "half"])
        )
        self.weapons = list(self.referee.rules.weapons)
        self.digest, self.state = hashlib.sha256(), self.referee.state()
        self.connections: dict[str, int] = {}
        self.numbers: set[int] = set()
        self.sent: dict[str, int] = {}
        self.sprinkler = self.referee.add_entity("sprinkler", weapon="hose")
        self.door = self.referee.add_entity("door")
        self.places = {e: [dice.uniform(-3, 3), -4.0] for e in (self.sprinkler, self.door)}
        for _ in range(4):
            self.join(0.0)
        for tick in range(int(seconds * 64)):
            self.step(tick, tick / 64)

    def join(self, now: float) -> None:
        name = f"c{len(self.sent)}"
        entity = self.referee.admit(
            connection=name, account=name, team=self.dice.choice(["", "copper", "pewter"]), rig="gardener",
            weapon=self.dice.choice(self.weapons), weapons=self.weapons, server_time=now,
        )  # fmt: skip
        self.connections[name], self.sent[name] = entity, 0
        self.places[entity] = [self.dice.uniform(-6, 6), self.dice.uniform(-3, -2)]
        self.referee.set_position(entity, (*self.places[entity], 0.0), now)

    def step(self, tick: int, now: float) -> None:
        dice, referee = self.dice, self.referee
        present = [entity for entity in self.places if dice.random() < 0.98]
        referee.record(tick, now, present, [self.pose(entity) for entity in present])
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
        for ruling in referee.advance(now):
            self.keep(ruling)
        self.come_and_go(now)
        for name, entity in list(self.connections.items()):
            if dice.random() < 0.6:
                claim, at = self.claim(name, entity, tick, now), now + dice.random() / 64
                if dice.random() < 0.1:
                    self.look_ahead(name, claim, at)
                ruling = referee.rule(name, claim, received_at=at)
                assert ruling.explain()
                self.keep(ruling)
        for event in referee.events():
            assert event.explain()
            self.state = tinclock.client.apply_event(self.state, event)
        assert self.state == referee.state()
        for entity in self.places:
            assert 0.0 <= referee.ledger.health(entity) <= 100.0
            assert referee.ledger.alive(entity) == (referee.ledger.health(entity) > 0.0)

    def look_ahead(self, name: str, claim: Any, at: float) -> None:
        """A preview changes nothing, bit for bit; now and then the game finds something of its own."""
        before = checkpoint_of(self.referee)
        self.referee.preview(name, claim, received_at=at)
        assert checkpoint_of(self.referee) == before
        if self.dice.random() < 0.5:
            self.referee.add_finding(name, self.sent[name], "odd", observed=1.0, limit=2.0)

    def keep(self, ruling: tinclock.Ruling) -> None:
        assert ruling.number not in self.numbers
        self.numbers.add(ruling.number)
        self.digest.update(msgspec.json.encode([ruling, ruling.receipt()]))

    def pose(self, entity: int) -> Any:
        place, yaw = self.places[entity], self.dice.uniform(-3, 3)
        place[0], place[1] = place[0] + self.dice.uniform(-0.06, 0.06), place[1] + self.dice.uniform(-0.06, 0.06)
        rig = self.referee.history.rig_of(entity)
        height = 1.0 if rig.name == "door" else 0.0
        return tinclock.rooted_bones(rig, [[*place, height, 0.0, 0.0, math.sin(yaw / 2), math.cos(yaw / 2)]])[0]

    def come_and_go(self, now: float) -> None:
        dice, referee = self.dice, self.referee
        if dice.random() < 0.02 and len(self.connections) < 7:
            self.join(now)
        if dice.random() < 0.01 and self.connections:
            name = dice.choice(list(self.connections))
            del self.places[self.connections.pop(name)]
            referee.dismiss(name, now)
        for entity in self.places:
            if not referee.ledger.alive(entity) and dice.random() < 0.05:
                referee.spawn(entity, now)
        if dice.random() < 0.02:
            referee.hand_over(self.sprinkler, dice.choice([None, *self.connections]), now)
        if dice.random() < 0.05:
            self.decide(now)
        for one in referee.state().projectiles:
            if dice.random() < 0.02:
                referee.set_homing_target(one.projectile, dice.choice(list(self.places)))

    def decide(self, now: float) -> None:
        """The game's server decides something of its own about somebody; now and then a player reconnects."""
        dice, referee, entity = self.dice, self.referee, self.dice.choice(list(self.places))
        points, other = dice.choice((0.0, 7.0, 60.0)), dice.choice([0, *self.places])
        dice.choice((
            lambda: referee.heal(entity, points, points, by=other),
            lambda: referee.damage(entity, points, "trap", by=other, weapon="rake"),
            lambda: referee.set_health(entity, points, armour=points, server_time=now),
            lambda: referee.set_team(entity, dice.choice(["", "copper", "pewter"])),
            lambda: referee.give_weapon(entity, dice.choice(self.weapons), magazine=3),
            lambda: referee.set_item(entity, "oil_can", dice.randrange(4)),
            lambda: referee.set_effect(entity, dice.choice(["shield", "boost", "speed", "free_movement"]), 0.5, 1.5),
            lambda: referee.push(entity, (4.0, -3.0, 2.0)),
            lambda: self.ride(entity, dice.choice([None, self.door, self.sprinkler])),
            lambda: referee.set_stance(entity, dice.choice(["", "sprint"])) if entity not in (
                self.door, self.sprinkler) else None,
            lambda: referee.set_position(entity, (*self.places[entity], 0.0), now, input=dice.randrange(200)),
            lambda: referee.add_score(points, entity=entity),
            lambda: referee.reset_round(scores=dice.random() < 0.5) if dice.random() < 0.2 else None,
            lambda: self.reconnect(now),
        ))()  # fmt: skip

    def ride(self, entity: int, vehicle: int | None) -> None:
        with contextlib.suppress(BadNumberError):  # it rides itself, or carries somebody
            self.referee.set_vehicle(entity, vehicle)

    def reconnect(self, now: float) -> None:
        if not self.connections:
            return
        name = self.dice.choice(list(self.connections))
        entity, before = self.connections[name], self.referee.ledger.health(self.connections[name])
        self.referee.dismiss(name, now)
        again = self.referee.admit(connection=name, account=name, rig="gardener", server_time=now)
        assert (again, self.referee.ledger.health(again)) == (entity, before)
        self.sent[name] = 0

    def claim(self, name: str, entity: int, tick: int, now: float) -> Any:
        dice, flights = self.dice, self.referee._pipeline.flights
        self.sent[name] += 1
        turn, rise, newest = (
            dice.uniform(-3.2, 3.2),
            dice.uniform(-0.3, 0.5),
            tick - tick % 2 - dice.choice((0, 4, 8, 20)),
        )
        held = self.referee._roster.actors[entity].wielded
        values = {
            "sequence": self.sent[name], "actor": dice.choice([entity] * 6 + [self.sprinkler, 99]),
            "weapon": held if dice.random() < 0.8 else dice.choice([*self.weapons, "rake"]),
            "origin": self.referee.history.eye_now(entity) or (0.0, 0.0, 1.6),
            "direction": (math.cos(turn) * math.cos(rise), math.sin(turn) * math.cos(rise), math.sin(rise)),
            "view": tinclock.View(newest - 2, newest, dice.random()), "client_time": now + 7.0,
            "held": dice.random() < 0.6, "action": dice.choice(["draw", "reload", "charge", "stop"]), "item": "oil_can",
            "position": (self.places[entity][0] + dice.uniform(-0.3, 0.3), self.places[entity][1], 0.0),
            "projectile": dice.randint(0, max(1, flights.issued)), "flight_time_s": dice.uniform(0, 2),
            "relative_to": dice.choice([None] * 6 + [self.door, self.sprinkler, entity, 99]), "push": (0.6, 0.9, 0.0),
            "victim": dice.choice(list(self.places)), "health": dice.uniform(0, 150), "ammunition": dice.randint(0, 70),
        }  # fmt: skip
        kind = dice.choice(KINDS)
        fields = {field: values[field] for field in kind.__struct_fields__ if field in values}
        if dice.random() < 0.1:
            fields[dice.choice(list(fields))] = dice.choice(JUNK)
        return kind(**fields)


@pytest.mark.parametrize("seed", range(6))
def test_anything_may_happen_and_a_repeat_is_the_same_to_the_byte(seed):
    """Anything may happen and a repeat is the same to the byte."""
    first, again = Mayhem(seed, 3.5), Mayhem(seed, 3.5)
    assert first.digest.hexdigest() == again.digest.hexdigest()
    assert first.state.number > 40
