"""One thrown pebble, one runner who turns back, three policies: where does what flies meet the others?

"none": in the present; the thrower must lead. "launch": flown from where the thrower's screen showed it; the runner may
be hit where it no longer is. "blend": launched at what the thrower saw, and sliding to the present within a moment:
who is near is met as the thrower saw it, who is far has the time to dodge.
"""

import math

import msgspec
import numpy as np

import tinclock
from tinclock.sample import data_file

STILL_AIR = {"drag_per_m": 0.0, "wind_m_s": (0.0, 0.0, 0.0)}
POLICIES = ("none", "catch_up", "blend")
RATE, BEHIND = 64, 16  # ticks; the thrower's screen is a quarter of a second old
garden = tinclock.load_rules(data_file("garden.toml"))


def rules_with(policy: str) -> tinclock.Rules:
    """One pebble a throw, straight and without spread, by one policy."""
    sling = garden.weapons["pebble_sling"]
    flight = msgspec.structs.replace(sling.projectile, compensation=policy, gravity_m_s2=0.0, **STILL_AIR)
    weapons = {
        **garden.weapons,
        "pebble_sling": msgspec.structs.replace(sling, pellets=1, spread=None, projectile=flight),
    }
    return msgspec.structs.replace(garden, weapons=weapons)


def throw(policy: str, distance: float, turns_s: float, lead: bool = False) -> str:
    """The runner crosses at 4 m/s, so far away, and turns back so long after the server heard of the throw."""
    referee = tinclock.Referee(rules_with(policy), seed=5)
    thrower = referee.admit(connection="c-1", account="a-1", team="copper", rig="gardener", weapon="pebble_sling")
    runner = referee.admit(connection="c-2", account="a-2", team="pewter", rig="gardener")
    rig, ended = referee.history.rigs["gardener"], []
    for tick in range(3 * RATE):
        now = tick / RATE
        y = 4.0 * (now - 1.0 - 2.0 * max(now - 1.0 - turns_s, 0.0))
        roots = [[0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0], [distance, y, 0.0, 0.0, 0.0, 1.0, 0.0]]
        referee.record(tick, now, [thrower, runner], tinclock.rooted_bones(rig, roots))
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
        if tick == RATE:
            view = tinclock.View(tick - BEHIND, tick - BEHIND + 2, 0.0)
            eye = np.array(referee.history.eye_now(thrower))
            chest = referee.history.bones_at(runner, view)[2, :3]
            flight_time_s = (
                np.linalg.norm(chest - eye) / rules_with(policy).weapons["pebble_sling"].projectile.speed_m_s
            )
            led_s = flight_time_s + (
                BEHIND / RATE if lead else 0.0
            )  # of the flight; and of the screen's age, where one must
            chest = chest + [0.0, 4.0 * led_s, 0.0]
            way = tuple(((chest - eye) / np.linalg.norm(chest - eye)).tolist())
            claim = tinclock.claims.LaunchClaim(1, thrower, "pebble_sling", tuple(eye.tolist()), way, view)
            assert referee.rule("c-1", claim, received_at=now).outcome == "accepted"
        ended += [ruling for ruling in referee.advance(now) if ruling.kind == "projectile"]
    (ruling,) = ended
    return f"hits the {ruling.hits[0].part}" if ruling.hits else "misses"


print("the runner runs on; thrown at what the screen shows, led by the flight only:")
for distance in (3.0, 8.0, 16.0):
    told = "; ".join(f"{policy} {throw(policy, distance, math.inf)}" for policy in POLICIES)
    print(f"  at {distance:>4.0f} m: {told}")
print("it turns back as soon as it hears of the throw, an eighth of a second after the server did:")
for distance in (3.0, 8.0, 16.0):
    told = "; ".join(f"{policy} {throw(policy, distance, 0.12)}" for policy in POLICIES)
    print(f"  at {distance:>4.0f} m: {told}")
print("where nothing is made up for, the screen's age must be led too:")
print(f"  at    8 m: none {throw('none', 8.0, math.inf, lead=True)}")
