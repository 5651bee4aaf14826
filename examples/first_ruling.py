"""One shot, from admission to receipt: the calls a server makes, in the order it makes them."""

import math

import msgspec
import numpy as np

import tinclock
from tinclock.sample import data_file

rules = tinclock.load_rules(data_file("garden.toml"))
level = tinclock.load_level(data_file("garden_level.toml"))
referee = tinclock.Referee(rules, level=level, seed=7)

shooter = referee.admit(connection="c-17", account="a-9f2", team="copper", rig="gardener")
runner = referee.admit(connection="c-18", account="a-77b", team="pewter", rig="gardener")
rest = referee.history.rigs["gardener"].rest  # (bones, 3): a stiff pose will do here


def standing_at(x: float, y: float) -> np.ndarray:
    """Every bone at its rest place around (x, y), unturned: xyz and quaternion xyzw."""
    return np.hstack([rest + [x, y, 0.0], np.tile([0.0, 0.0, 0.0, 1.0], (len(rest), 1))])


# The server's loop: record every tick, send a snapshot every second one. The runner crosses at 4 m/s.
for tick in range(40):
    server_time = tick / 64
    referee.record(tick, server_time, [shooter, runner], np.stack([standing_at(-9, 3), standing_at(0, 2 + tick / 16)]))
    if tick % 2 == 0:
        referee.snapshot_sent(tick)

# On the client's screen, 150 ms ago, the runner was here; it aims at the chest and fires.
view = tinclock.View(from_tick=28, to_tick=30, fraction=0.5)
eye = referee.history.eye_now(shooter)
chest = referee.history.bones_at(runner, view)[2, :3]
to = chest - eye
direction = tuple(float(v) for v in to / math.dist(chest, eye))
claim = tinclock.claims.ShotClaim(
    1, shooter, "grit_rifle", eye, direction, view, victim=runner, part="chest", damage=17.0
)

ruling = referee.rule("c-17", claim, received_at=server_time)
print(ruling.explain())  # for you: every step, what was measured, against what limit
print(msgspec.json.encode(ruling.receipt()).decode())  # for the client: what happened, never why
for event in referee.events():  # for everybody
    print(event.explain())
referee.dismiss("c-17")  # left: its hitboxes are gone
