"""Five pebbles from one sling: the client draws each where the server flies it, from the first frame to the last.

The client throws at once, with its own copy of the spread; the receipt's ids then name what it already draws, so it
never shows a pebble twice. Another client, with higher ping, draws the same pebbles from the launch events alone.
"""

import math

import numpy as np

import tinclock
from tinclock.sample import data_file

rules = tinclock.load_rules(data_file("garden.toml"))
level = tinclock.load_level(data_file("garden_level.toml"))
referee = tinclock.Referee(rules, level=level, seed=3)
thrower = referee.admit(connection="c-1", account="a-1", team="copper", rig="gardener", weapon="pebble_sling")
target = referee.admit(connection="c-2", account="a-2", team="pewter", rig="gardener")
rig = referee.history.rigs["gardener"]
welcome = referee.welcome("c-1")

# -- the client: it knows the weapon's table and its own key, and throws before the server has heard of it
sling, speed = rules.weapons["pebble_sling"], rules.weapons["pebble_sling"].projectile.speed_m_s
spread = tinclock.client.SpreadStream(bytes.fromhex(welcome.spread_key), "pebble_sling", sling)
drawn: list[tinclock.client.ProjectilePath] = []


def record(tick: int) -> float:
    """The server's tick: two gardeners stand on the lawn, twelve metres apart."""
    roots = [[-8.0, -2.5, 0.0, 0.0, 0.0, 0.0, 1.0], [4.0, -2.5, 0.0, 0.0, 0.0, 1.0, 0.0]]
    referee.record(tick, tick / 64, [thrower, target], tinclock.rooted_bones(rig, roots))
    if tick % 2 == 0:
        referee.snapshot_sent(tick)
    return tick / 64


for tick in range(40):
    now = record(tick)
eye = referee.history.eye_now(thrower)
to = referee.history.bones_at(target, tinclock.View(30, 32, 0.0))[2, :3] + [0.0, 0.0, 0.6] - eye
aim = tuple((to / np.linalg.norm(to)).tolist())
ways = spread.rays(aim, now, shot=1)
claim = tinclock.claims.LaunchClaim(1, thrower, "pebble_sling", eye, aim, tinclock.View(30, 32, 0.0), shot=1)
ruling = referee.rule("c-1", claim, received_at=now)
ids = ruling.receipt().state.projectiles
told = {event.projectile: event for event in referee.events() if event.kind == "launch"}
for number, way in zip(ids, ways, strict=True):
    event = told[number]  # a real client knows the motion from the weapon's table
    velocity = tuple(speed * v for v in way)
    drawn.append(tinclock.client.ProjectilePath(event.motion, event.server_time, eye, velocity, level=level))

# -- the server flies on; both clients draw
apart, rulings = 0.0, []
others = [
    tinclock.client.ProjectilePath(e.motion, e.server_time, e.position, e.velocity, level=level) for e in told.values()
]
for tick in range(40, 320):
    now = record(tick)
    rulings += referee.advance(now)
    for mine, theirs in zip(drawn, others, strict=True):
        apart = max(apart, math.dist(mine.at(now)[0], theirs.at(now)[0]))
ends = {event.projectile: event for event in referee.events() if event.kind == "end"}
for number, mine in zip(ids, drawn, strict=True):
    end = ends[number]
    off = math.dist(mine.at(end.server_time)[0], end.position)
    flown = end.server_time - told[number].server_time
    met = f"the {end.part} of entity {end.victim}" if end.victim else end.surface
    print(f"pebble {number} ends after {flown:.3f} s: {met}; drawn {off * 1e6:.1f} um away")
    apart = max(apart, off)
hit = sum(len(ruling.hits) for ruling in rulings)
print(f"{hit} of {len(drawn)} hit; target has {referee.ledger.health(target):g} points left")
print("each was drawn where the server flew it:", apart < 1e-5)
