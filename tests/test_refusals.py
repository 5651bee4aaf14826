"""Nothing is spent by a refusal: whatever a rejected claim was, the match is as it was before."""

from __future__ import annotations

import functools
from collections import Counter, deque
from enum import Enum

import msgspec
import numpy as np
import pytest

import tinclock
from tinclock.core.combat.connections import Connection
from tinclock.core.combat.roster import Participant
from tinclock.core.combat.weapons import Weapon
from tinclock.core.findings import DEFAULTS
from tinclock.core.kernels.dtypes import BODY, LINE
from tinclock.core.rules.actions import ALWAYS_REJECTED, NEVER_REJECTED
from tinclock.core.timeline.clock import ClockEstimate
from tinclock.core.timeline.history import PoseHistory
from tinclock.garden.scenario import load_garden

APART = (PoseHistory, tinclock.Level, tinclock.Rules, tinclock.Rig, Weapon, ClockEstimate)
"""What claims can't reach, or (clocks) what only pings change."""
MEMORY = frozenset({"receipts", "_row"})
"""What refusals are remembered in; and the row of the connection itself, which is looked at there."""
NOTED = [LINE.highest_sequence, LINE.shortest_s, LINE.latest_s, LINE.back_s]
"""Of a connection's row the window of sequence numbers, and what is only noted by whoever asks."""
PLAIN = frozenset({int, float, str, bool, bytes, type(None)})
LEAST = 8
"""So many claims of each kind are rejected at least, over all actions."""


@functools.cache
def slots_of(kind: type) -> tuple[str, ...]:
    """The names of a kind's slots and fields."""
    slots = tuple(name for base in kind.__mro__ for name in getattr(base, "__slots__", ()))
    return tuple(name for name in (*slots, *getattr(kind, "__struct_fields__", ())) if name != "__weakref__")


def frozen(value: object, seen: dict[int, int]) -> object:
    """Everything that a value holds, as something that compares."""
    if type(value) in PLAIN:
        return repr(value)
    if isinstance(value, APART) or callable(value) or isinstance(value, (type, Enum)):
        return type(value).__name__
    if isinstance(value, Connection):
        row = value.owner.copy()
        row[NOTED] = 0.0
        return value.name, row.tobytes(), frozen((value.interpolation, value.lag, value.transits), seen)
    if isinstance(value, memoryview):
        return None  # of rows, whose arrays are looked at
    if isinstance(value, np.ndarray):
        return value.tobytes()
    if isinstance(value, (bool, int, float, str, bytes, np.generic)):
        return repr(value)
    if id(value) in seen:
        return seen[id(value)]
    seen[id(value)] = len(seen)
    if isinstance(value, dict):
        return [(repr(key), frozen(one, seen)) for key, one in value.items()]
    if isinstance(value, (set, frozenset)):
        return sorted(map(repr, value))
    if isinstance(value, (list, tuple, deque)):
        return [frozen(one, seen) for one in value]
    if isinstance(value, Participant):  # its limits are an address
        numbers = np.delete(value.owner, BODY.limits).tobytes()
        others = [name for name in slots_of(Participant) if name not in {*MEMORY, "owner", "at", "numbers"}]
        return numbers, [(name, frozen(getattr(value, name), seen)) for name in others]
    names = (*slots_of(type(value)), *getattr(value, "__dict__", ()))
    return [(name, frozen(getattr(value, name), seen)) for name in names if name not in MEMORY and hasattr(value, name)]


def everything(referee: tinclock.Referee) -> object:
    """All that claims can change."""
    return frozen((referee._roster, referee.ledger, referee._pipeline.flights, referee._pipeline._house), {})


class Field:
    """Two gardeners with every weapon on open ground, who claim whatever chance has them claim."""

    def __init__(self, code: str) -> None:
        rules = load_garden().rules
        rejected = {code: "reject"} if code else {}
        charged = msgspec.structs.replace(rules.weapons["grit_rifle"], charge_s=0.2, min_charge_fraction=0.3)
        self.referee = tinclock.Referee(
            msgspec.structs.replace(
                rules, weapons={**rules.weapons, "charged": charged}, actions={**rules.actions, **rejected}
            )
        )
        self.random = np.random.default_rng([29, *code.encode()])
        self.names = ("c-1", "c-2")
        self.ids = [
            self.referee.admit(connection=name, account=name, team="copper", rig="gardener") for name in self.names
        ]
        self.places = [np.array([4.0 * k, 0.0, 0.0]) for k in range(2)]
        for entity, place in zip(self.ids, self.places, strict=True):
            self.referee.set_position(entity, tuple(place))
        self.sequences, self.flying = [0, 0], [1]

    def tick(self, tick: int) -> None:
        """Both stand where they are; now and then somebody dies, comes back, or tells the time."""
        now = tick / 64
        self.now = now
        poses = tinclock.rooted_bones(
            self.referee.history.rigs["gardener"], [[*place, 0, 0, 0, 1] for place in self.places]
        )
        self.referee.record(tick, now, self.ids, poses)
        if tick % 2 == 0:
            self.referee.snapshot_sent(tick)
        if tick % 16 == 0:
            nonces = [self.referee.ping(name, now) for name in self.names]
            for name, nonce in zip(self.names, nonces, strict=True):
                self.referee.pong(name, nonce, now + 5.0, now + 0.03)
        if tick % 100 == 50:
            self.referee.damage(self.ids[tick // 100 % 2], 1000.0, server_time=now)
        if tick % 100 == 80:
            self.referee.spawn(self.ids[tick // 100 % 2], now)
        self.referee.advance(now)

    def claim(self) -> tuple[str, tinclock.Ruling]:
        """One random claim, ruled; nothing but time has passed before it."""
        chance, who = self.random, int(self.random.integers(2))
        self.sequences[who] += int(chance.choice([1, 1, 1, 1, 0, 2]))
        self.now += 0.004
        self.referee.advance(self.now)
        claim = self.some(who)
        before = everything(self.referee)
        ruling = self.referee.rule(self.names[who], claim, received_at=self.now)
        if ruling.outcome == "rejected":
            why = ruling.findings[-1].code
            assert everything(self.referee) == before, f"{ruling.kind} rejected for {why} changed the match"
        self.flying += ruling.state.projectiles if ruling.state is not None and ruling.state.projectiles else ()
        return ruling.outcome, ruling

    def some(self, who: int) -> dict[str, object]:
        """Any kind of claim, mostly one that could be true."""
        chance, actor = self.random, self.referee._roster.actors[self.ids[who]]
        newest = self.referee.history.newest_tick // 2 * 2
        back = int(chance.choice([2, 4, 6, 8, 30], p=[0.3, 0.3, 0.2, 0.1, 0.1]))
        base = {
            "sequence": self.sequences[who],
            "actor": int(chance.choice([self.ids[who], self.ids[1 - who]], p=[0.9, 0.1])),
        }
        weapon = actor.wielded if chance.random() < 0.9 else str(chance.choice(list(actor.weapons)))
        eye = np.array(self.referee.history.eye_now(self.ids[who]) or (0.0, 0.0, 1.6))
        eye = eye + chance.choice([0.0, 0.0, 0.0, 0.9]) * chance.normal(size=3)
        aim = self.places[1 - who] + [0, 0, 1.2] + chance.normal(0.0, 0.2, 3) - eye
        sight = {
            **base, "weapon": weapon, "direction": (aim / np.linalg.norm(aim)).tolist(),
            "view": [max(0, newest - back), max(0, newest - back + 2), float(chance.random())],
        }  # fmt: skip
        ray = {**sight, "origin": eye.tolist()}
        shot = {"shot": chance.choice([None, actor.weapons[actor.wielded].shots + 1, 7, 90])}
        shot["charge"] = chance.choice([None, 0.2, 1.0])
        fires = actor.weapons[actor.wielded].weapon.rules.kind
        kind = {"projectile": "launch", "melee": "melee"}.get(fires, "shot")
        moved = self.places[who] + chance.choice([0.0, 0.02, 0.3, 9.0]) * chance.normal(size=3)
        return [
            {"kind": kind, **ray, **({} if kind == "melee" else shot)},
            {"kind": kind, **ray, **({} if kind == "melee" else shot)},
            {"kind": "trigger", **sight, "held": bool(chance.random() < 0.5)},
            {"kind": "weapon_action", **base, "weapon": weapon, "action": str(chance.choice(["reload", "charge",
            "stop"]))},
            {"kind": "weapon_action", **base, "weapon": str(chance.choice(list(actor.weapons))), "action": "draw"},
            {"kind": "use", **base, "item": "oil_can", "target": chance.choice([None, self.ids[1 - who], 9])},
            {"kind": "move", **base, "position": moved.tolist(), "push": (chance.normal(size=3) * 0.5).tolist(),
             "client_time": self.now + 5.0 + float(chance.choice([0.0, 0.0, 0.5, -0.5])), "view": sight["view"]},
            {"kind": "status", **base, "health": float(chance.choice([100.0, 40.0])),
             "armour": float(chance.choice([0, 50])), "ammunition": int(chance.choice([1, 60])),
             "position": moved.tolist(), "client_time": self.now + 5.0, "view": sight["view"]},
            {"kind": "impact", **base, "projectile": int(chance.choice(self.flying)),
            "flight_time_s": float(chance.random()),
             "position": self.places[1 - who].tolist(), "victim": self.ids[1 - who]},
        ][int(chance.integers(9))]  # fmt: skip


CODES = ["", *sorted(DEFAULTS.keys() - ALWAYS_REJECTED - NEVER_REJECTED)]


@pytest.mark.parametrize("codes", [CODES[k::5] for k in range(5)], ids=lambda codes: f"{codes[0]}...")
def test_a_rejected_claim_changes_nothing_but_the_window_of_sequence_numbers(codes):
    """Random claims of every kind, with each action set to "reject" in turn."""
    rejected: Counter[str] = Counter()
    for code in codes:
        field, seen = Field(code), set[str]()
        for tick in range(60):
            field.tick(tick)
            for _ in range(3):
                outcome, ruling = field.claim()
                seen |= {finding.code for finding in ruling.findings}
                rejected[ruling.kind] += outcome == "rejected"
    kinds = ("shot", "launch", "melee", "trigger", "weapon_action", "use", "move", "status", "impact")
    assert min(rejected[kind] for kind in kinds) >= LEAST, rejected
