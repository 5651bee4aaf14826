"""Write the conformance vectors of the client kits, kits/vectors/*.json: vectors.py

What each field means stands in kits/vectors/README.md.
"""

from __future__ import annotations

import json
import math
import re
import sys
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

import tinclock
from tinclock.core.combat.events import Event
from tinclock.core.combat.motion import Motion
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.combat.published import State, apply_event
from tinclock.core.combat.spread_stream import SpreadStream
from tinclock.core.rules.game import CounterRules, PhaseRules
from tinclock.core.rules.movement import StanceRules
from tinclock.core.rules.weapons import RecoilRules, SpreadRules, WeaponRules
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import load_garden
from tinclock.garden.screen import Playout, SentSnapshot

ROOT = Path(__file__).resolve().parent.parent
KITS = ROOT / "kits" / "vectors"
FLOOR = {"normal": [0.0, 0.0, 1.0], "offset": 0.0}
WALL = {"normal": [-1.0, 0.0, 0.0], "offset": -12.0}
"""Everything above z = 0, and everything with x below 12, is free."""


def spread() -> dict[str, Any]:
    """A thousand shots of five weapons, in the order in which one client fires them."""
    rng = np.random.default_rng(1)
    weapons = {
        "grit_rifle": (1, SpreadRules(base_deg=0.4, moving_deg=1.5, moving_at_m_s=4.0, per_shot_deg=0.3,
                                      recovery_deg_per_s=3.0, max_deg=4.0), None),
        "gravel_scatter": (5, SpreadRules(base_deg=3.0, max_deg=6.0), None),
        "hose": (1, SpreadRules(base_deg=0.2, per_shot_deg=0.1, recovery_deg_per_s=1.0, max_deg=3.0),
                 RecoilRules(pattern_deg=((0.5, 0.1), (0.7, -0.2), (0.9, 0.3)), reset_s=0.3)),
        "flat": (3, SpreadRules(base_deg=2.0, max_deg=2.0, flat=True), None),
        "kick": (1, None, RecoilRules(pattern_deg=((1.0, 0.0), (2.0, 0.5)), reset_s=0.2)),
    }  # fmt: skip
    out = []
    for name, (pellets, spread_rules, recoil) in weapons.items():
        key, at, shots = rng.bytes(32), 0.0, []
        table = WeaponRules(damage=1.0, interval_s=0.1, range_m=50.0, kind="pellets" if pellets > 1 else "hitscan",
                            pellets=pellets, spread=spread_rules, recoil=recoil)  # fmt: skip
        scatter = SpreadStream(key, name, table)
        for number in range(1, 201):
            at += float(rng.choice([0.05, 0.1, 0.4]))
            way = rng.normal(size=3)
            aim = tuple((way / np.linalg.norm(way)).tolist()) if number % 40 else (0.0, 0.0, 1.0)
            speed = float(rng.uniform(0.0, 6.0))
            rays = scatter.rays(aim, at, number, speed)
            shots.append({"direction": aim, "at": at, "shot": number, "speed_m_s": speed, "rays": rays})
        rules = {"pellets": pellets, "spread": spread_rules, "recoil": recoil}
        out.append({"weapon": name, "key": key.hex(), "rules": msgspec.to_builtins(rules), "shots": shots})
    return {"tolerance": 1e-12, "weapons": out}


def flights() -> dict[str, Any]:
    """Two hundred flights of eight kinds, over a floor and beside a wall, with what they bounced off."""
    rng = np.random.default_rng(2)
    level = tinclock.Level.from_boxes(
        [[0.0, 0.0, -50.0], [112.0, 0.0, 0.0]], [[500.0, 500.0, 50.0], [100.0, 500.0, 400.0]]
    )
    bounces = {"on_level": "bounce", "restitution": 0.5, "friction": 0.2, "rest_below_m_s": 1.0}
    kinds: tuple[dict[str, Any], ...] = (
        {"gravity_m_s2": 9.81}, {"gravity_m_s2": 9.81, "drag_per_m": 0.02, "wind_m_s": (2.0, -1.0, 0.0)},
        {"thrust_m_s2": 30.0, "thrust_s": 0.4, "gravity_m_s2": 2.0}, {"turn_deg_per_s": 60.0},
        {"gravity_m_s2": 9.81, **bounces}, {"gravity_m_s2": 9.81, "drag_per_m": 0.05, **bounces, "max_bounces": 2},
        {"gravity_m_s2": 9.81, "on_level": "stick"},
        {"gravity_m_s2": 4.0, **bounces, "restitution": 0.8, "friction": 0.0},
    )  # fmt: skip
    out = []
    for number in range(200):
        fields = {"radius_m": float(rng.choice([0.05, 0.12])), **kinds[number % len(kinds)]}
        motion = Motion(**fields)
        position = tuple(rng.uniform((-8.0, -8.0, 1.0), (8.0, 8.0, 4.0)).tolist())
        velocity = tuple(rng.uniform((2.0, -6.0, -4.0), (14.0, 6.0, 8.0)).tolist())
        target = (60.0, *rng.uniform(-40.0, 40.0, 2).tolist()) if motion.turn_deg_per_s else None
        start, last = float(rng.uniform(0.0, 100.0)), math.inf
        last = start + 3.0
        flight = ProjectilePath(motion, start, position, velocity, level=level, last=last, target=target)
        times = [start + share for share in (0.0, 0.1, 0.35, 0.7, 1.1, 1.6, 2.2, 2.9, 3.5)]
        samples = []
        for at in times:
            here, speed = flight.at(at)
            samples.append({"at": at, "position": here, "velocity": speed})
        ended = flight.ended_at if math.isfinite(flight.ended_at) else None
        told = [
            {"server_time": b.server_time, "position": b.position, "normal": b.normal, "rests": b.rests}
            for b in flight.bounces
        ]
        out.append({
            "motion": fields, "start": start, "position": position, "velocity": velocity, "last": last,
            "target": target, "samples": samples, "bounces": told, "ended_at": ended,
        })  # fmt: skip
    return {"tolerance_m": 1e-6, "tolerance_s": 1e-7, "planes": [FLOOR, WALL], "flights": out}


def views() -> dict[str, Any]:
    """Four lines, from quiet to lossy: snapshots as they arrive, and what a screen draws between at its times."""
    out = []
    for number, (jitter, loss, offset) in enumerate(
        ((0.0, 0.0, 5.0), (0.01, 0.0, -3.0), (0.03, 0.05, 100.0), (0.08, 0.2, 0.0))
    ):
        rng = np.random.default_rng(10 + number)
        sent = [(2 * k, k / 32) for k in range(160) if rng.random() >= loss]
        coming = [(at + 0.04 + float(rng.exponential(jitter or 1e-9)) + offset, tick, at) for tick, at in sent]
        coming += coming[::17]  # some come twice
        asked = [offset + 0.2 + 0.0301 * k for k in range(160)]
        playout, arrivals, questions = Playout(0.1), [], []
        todo = sorted([(at, 0, tick, server) for at, tick, server in coming] + [(at, 1, 0, 0.0) for at in asked])
        for at, is_question, tick, server in todo:
            if is_question:
                found = playout.view(at)
                view = None if found is None else [found[0].tick, found[1].tick, found[2]]
                questions.append({"after": len(arrivals), "at": at, "view": view})
            else:
                playout.take(SentSnapshot(tick, server, {}, {}), at)
                arrivals.append({"at": at, "tick": tick, "server_time": server})
        out.append({"delay_s": 0.1, "arrivals": arrivals, "views": questions})
    return {"tolerance": 1e-9, "lines": out}


def decided() -> list[Event]:
    """Events of what a game's server decides: health, teams, effects, counters, phases, a player who comes back."""
    tables: dict[str, Any] = {"counters": {"coins": CounterRules(max_value=9.0)}, "phases": {"freeze": PhaseRules()}}
    garden = load_garden().rules
    gardener = msgspec.structs.replace(garden.rigs["gardener"], stances={"crouch": StanceRules(speed_m_s=2.0)})
    tables["rigs"] = {**garden.rigs, "gardener": gardener}
    referee = tinclock.Referee(msgspec.structs.replace(garden, **tables))
    ada, bob = (
        referee.admit(connection=f"c-{name}", account=name, name=name, rig="gardener", team="copper")
        for name in ("ada", "bob")
    )
    referee.set_phase("freeze")
    referee.set_health(ada, 50.0, armour=5.0, max_health=80.0)
    referee.heal(ada, 100.0, by=bob)
    referee.set_team(bob, "pewter")
    referee.set_counter(ada, "coins", 3.0)
    referee.add_score(5.0, entity=ada)
    for effect, amount in (("speed", 1.5), ("boost", 2.0), ("free_movement", 0.0)):
        referee.set_effect(ada, effect, 2.0, amount)
    referee.push(ada, (1.0, 0.0, 2.0))
    referee.set_stance(bob, "crouch")
    referee.set_vehicle(ada, referee.add_entity("shed_door"))
    referee.dismiss("c-ada")
    referee.admit(connection="c-ada", account="ada", name="ada again", rig="gardener", team="pewter")
    referee.damage(bob, 500.0, "trap", by=ada, weapon="rake")
    referee.set_phase("")
    referee.reset_round(scores=True)
    return referee.events()


def events() -> dict[str, Any]:
    """Streams of garden matches and of `decided`: a state, the events after it, and the states after some of them."""
    out = []
    matches = [
        list(simulate_match(seed=k, seconds=8.0, players=players).events)[:240] for k, players in ((3, 4), (4, 6))
    ]
    for chosen in (*matches, decided()):
        state, checks = State(0, 0.0), []
        for count, event in enumerate(chosen, 1):
            state = apply_event(state, event)
            if count % 20 == 0 or count == len(chosen):
                checks.append({"after": count, "state": msgspec.to_builtins(state)})
        out.append(
            {"state": msgspec.to_builtins(State(0, 0.0)), "events": msgspec.to_builtins(chosen), "states": checks}
        )
    return {"streams": out}


def messages() -> dict[str, Any]:
    """Every message of docs/messages.md, as JSON and as MessagePack in hexadecimal."""
    page = (ROOT / "docs" / "messages.md").read_text(encoding="utf-8")
    out = []
    for direction, text in re.findall(r"```json (from_client|to_client)\n(.*?)```", page, re.S):
        message = json.loads(text)
        out.append(
            {"direction": direction, "message": message, "packed": msgspec.msgpack.encode(_whole(message)).hex()}
        )
    return {"messages": out}


def _whole(value: Any) -> Any:
    """Whole numbers as integers, as languages with one kind of number write them."""
    if isinstance(value, dict):
        return {key: _whole(held) for key, held in value.items()}
    if isinstance(value, list):
        return [_whole(held) for held in value]
    return int(value) if isinstance(value, float) and value.is_integer() else value


VECTORS = {"spread": spread, "projectile_paths": flights, "views": views, "events": events, "messages": messages}


def main() -> None:
    """Write them; with --check only say which of them the code no longer makes."""
    KITS.mkdir(parents=True, exist_ok=True)
    for name, make in VECTORS.items():
        text = msgspec.json.encode(make()).decode() + "\n"
        file = KITS / f"{name}.json"
        if "--check" in sys.argv[1:]:
            if not file.exists() or file.read_text(encoding="utf-8") != text:
                sys.exit(f"{file.relative_to(ROOT)} is not what the code makes: run tools/vectors.py")
            continue
        file.write_text(text, encoding="utf-8")
        print(f"{file.relative_to(ROOT)}: {len(text):,} bytes")


if __name__ == "__main__":
    main()
