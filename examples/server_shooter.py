"""A turret of the server's own: it fires through the same tables as everybody, and is handed to a player and back.

Nobody's client has a say in what it does, so nothing of it can be forged; its rulings explain themselves all the same.
"""

import math

import numpy as np

import tinclock
from tinclock.sample import data_file

RATE = 64
rules = tinclock.load_rules(data_file("garden.toml"))
referee = tinclock.Referee(rules, level=tinclock.load_level(data_file("garden_level.toml")), seed=5)
walker = referee.admit(connection="c-1", account="a-1", team="copper", rig="gardener", name="fennel")
turret = referee.add_entity("sprinkler", team="pewter", name="the turret", weapon="hose", server_time=0.0)
gardener, stand = (referee.history.rigs[name] for name in ("gardener", "sprinkler"))
names = {walker: "fennel", turret: "the turret"}


def record(tick: int) -> float:
    """The walker circles the turret at four metres, out on the lawn."""
    now = tick / RATE
    x, y = 4.0 * math.cos(now), 4.0 * math.sin(now) - 4.0
    turn = [math.sin((now + math.pi / 2) / 2), math.cos((now + math.pi / 2) / 2)]
    bodies = [tinclock.rooted_bones(gardener, [[x, y, 0.0, 0.0, 0.0, *turn]])[0]]
    bodies.append(tinclock.rooted_bones(stand, [[0.0, -4.0, 0.0, 0.0, 0.0, 0.0, 1.0]])[0])
    referee.record(tick, now, [walker, turret], bodies)
    if tick % 2 == 0:
        referee.snapshot_sent(tick)
    return now


def aim(shooter: int, target: int, tick: int) -> tuple[float, float, float]:
    """From where the server has the shooter's eye to where it has the target's chest, now: nothing to rewind."""
    chest = referee.history.bones_at(target, tinclock.View(tick, tick, 0.0))[2, :3]
    to = chest - np.array(referee.history.eye_now(shooter))
    return tuple((to / np.linalg.norm(to)).tolist())


def shot(sequence: int, way: tuple[float, float, float], tick: int, now: float) -> tinclock.Ruling:
    """Fennel's client claims a shot of the turret's."""
    view = tinclock.View(tick, tick, 0.0)
    claim = tinclock.claims.ShotClaim(sequence, turret, "hose", referee.history.eye_now(turret), way, view)
    return referee.rule("c-1", claim, received_at=now)


fired: list[tinclock.Ruling] = []
for tick in range(4 * RATE):
    now = record(tick)
    if tick % 8 == 0 and now >= 1.0 and referee.ledger.alive(walker):  # eight times a second it looks anew
        held = now < 2.0  # it holds its trigger for a second
        act = {"kind": "trigger", "weapon": "hose", "held": held, "direction": aim(turret, walker, tick)}
        referee.act(turret, act, server_time=now)
    fired += referee.advance(now)  # what a held trigger fires, at its own instants, whatever the tick rate
    if tick == 3 * RATE:
        referee.hand_over(turret, "c-1")  # from here on fennel's client acts for it ...
        print("fennel fires the turret:", shot(1, aim(turret, walker, tick), tick, now).outcome)
        referee.hand_over(turret, None, now)  # ... and not any more
    if tick == 3 * RATE + 40:
        ruling = shot(2, (1.0, 0.0, 0.0), tick, now)
        print("and once it is gone:", ruling.outcome, [finding.code for finding in ruling.findings])

hits = [hit for ruling in fired for hit in ruling.hits if hit.victim == walker]
print(f"the turret fired {len(fired)} times in a second, {len(hits)} hit, {sum(hit.damage for hit in hits):.1f} points")
print(fired[0].explain())
print(*[event.explain(names) for event in referee.events() if event.kind in ("health", "control")][-4:], sep="\n")
