"""Decisions of the game's own server: a trap, a heal, a change of sides, a push, a phase, a player who comes back."""

from msgspec.structs import replace

import tinclock
from tinclock.sample import data_file
from tinclock.testing import Stage

rules = tinclock.load_rules(data_file("garden.toml"))
phases = {"freeze": tinclock.types.PhaseRules(weapons=False, moves=False)}
rules = replace(rules, phases=phases, match=replace(rules.match, phase="freeze"))

with Stage(rules) as stage:  # a stage stands in for your network and your animation
    ada = stage.enter("ada", (0.0, 0.0, 0.0), team="copper", weapon="grit_rifle")
    bob = stage.enter("bob", (12.0, 0.0, 0.0), team="pewter")
    stage.run(2.0)
    print("in the freeze:", stage.shoot("ada", "bob").outcome)

    server = stage.server
    server.set_phase("")  # no phase: everything is allowed
    server.damage(bob, 40.0, "trap", by=ada, weapon="rake in the grass")
    server.heal(bob, 25.0, by=ada, cause="watering can")
    server.push(bob, (0.0, 6.0, 3.0))  # an explosion of your game's own: no finding while bob is thrown
    server.set_effect(bob, "speed", 3.0, 0.5)  # half speed for three seconds
    server.set_team(bob, "copper")
    stage.run(0.5)
    print("a team-mate:", stage.shoot("ada", "bob").damage, "points")

    server.dismiss("bob", stage.now)
    back = server.admit(connection="bob-2", account="bob", rig="gardener", team="copper", server_time=stage.now)
    print("bob is entity", back, "again, with", stage.referee.ledger.health(back), "points of health")

    for event in stage.referee.events():
        if event.entity == bob and event.kind in ("health", "team", "push", "effect", "joined"):
            print(event.explain({ada: "ada", bob: "bob"}))
