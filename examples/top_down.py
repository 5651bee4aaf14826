"""A top-down game in the plane: beetles on a table. z stays 0, bodies are balls, walls are boxes, spread is sideways.

The client moves its own beetle and reports where it is; the server cuts down what no beetle can do.
"""

import math

import numpy as np

import tinclock
from tinclock.claims import MoveClaim, ShotClaim

rules = tinclock.parse_rules(
    {
        "schema": 2,
        "match": {"tick_rate_hz": 30.0, "snapshot_every": 1, "health": 30.0},
        "view": {"max_rewind_s": 0.5},
        "movement": {"speed_m_s": 3.0, "acceleration_m_s2": 40.0, "radius_m": 0.3, "centre_up_m": 0.0},
        "rigs": {
            "beetle": {
                "bones": [{"name": "shell"}],
                "parts": [
                    {"name": "shell", "bone": "shell", "zone": "shell", "shape": "sphere", "radius_m": 0.3},
                    {"name": "head", "bone": "shell", "zone": "head", "shape": "sphere", "radius_m": 0.15,
                     "centre": [0.35, 0.0, 0.0]},
                ],
                "eye": {"bone": "shell"},
            }
        },
        "weapons": {
            "spitter": {
                "kind": "pellets", "pellets": 5, "damage": 2.0, "interval_s": 0.5, "range_m": 12.0,
                "zones": {"head": 2.0, "shell": 1.0}, "spread": {"base_deg": 6.0, "flat": True},
            }
        },
    }
)  # fmt: skip
# Two walls with a gap between them. A wall is a box that the plane z = 0 cuts.
wall = tinclock.types.Surface("wall")
walls = tinclock.Level.from_boxes([[4, 3, 0], [4, -3, 0]], [[0.2, 2, 1], [0.2, 2, 1]], surfaces=[wall, wall])
referee = tinclock.Referee(rules, level=walls, seed=5)
beetle = referee.history.rigs["beetle"]
stag = referee.admit(connection="c-1", account="a-1", rig="beetle", name="stag")
dung = referee.admit(connection="c-2", account="a-2", rig="beetle", name="dung")
names = {stag: "stag", dung: "dung"}
referee.set_position(stag, (0.0, 0.0, 0.0), 0.0)
referee.set_position(dung, (8.0, -3.0, 0.0), 0.0)


def root(entity: int, yaw: float) -> list[float]:
    """Place and turn of a body in the plane: xyz and a quaternion about z."""
    return [*referee.position(entity), 0.0, 0.0, math.sin(yaw / 2), math.cos(yaw / 2)]


sequence = {"c-1": 0, "c-2": 0}


def claim(connection: str, kind: type, now: float, **fields: object) -> tinclock.Ruling:
    """Number a claim and rule it."""
    sequence[connection] += 1
    return referee.rule(connection, kind(sequence=sequence[connection], **fields), received_at=now)


lines = []
for tick in range(90):
    now = tick / 30
    roots = [root(stag, 0.0), root(dung, math.pi)]
    referee.record(tick, now, [stag, dung], tinclock.rooted_bones(beetle, roots))
    referee.snapshot_sent(tick)
    # dung crawls up behind the walls at 2 m/s; two thirds of the way it tries to be far quicker than beetles are
    hurry = 0.6 if 60 <= tick < 64 else 2.0 / 30
    y = referee.position(dung)[1] + hurry
    moved = claim("c-2", MoveClaim, now, actor=dung, position=(8.0, y, 0.0), client_time=500.0 + now)
    if moved.outcome != "accepted":
        lines.append(f"{now:5.2f} s  dung's move is {moved.outcome}: {', '.join(f.code for f in moved.findings)}")
    # stag spits at where dung is on its screen, four snapshots ago
    if tick >= 10 and tick % 16 == 0:
        view = tinclock.View(tick - 5, tick - 4, 0.5)
        to = referee.history.bones_at(dung, view)[0, :3] - np.array(referee.position(stag))
        aim = tuple((to / np.linalg.norm(to)).tolist())
        ruling = claim(
            "c-1", ShotClaim, now, actor=stag, weapon="spitter", origin=referee.position(stag), direction=aim,
            view=view,
        )  # fmt: skip
        met = [f"{hit.times} in the {hit.part}" for hit in ruling.hits]
        walled = sum(ray.stopped_by is not None and ray.stopped_by.name == "wall" for ray in ruling.rays)
        met += [f"{walled} in the wall"] if walled else []
        assert all(ray.direction[2] == 0.0 for ray in ruling.rays)  # the spread stays in the plane
        angle = math.degrees(math.atan2(aim[1], aim[0]))
        lines.append(f"{now:5.2f} s  stag spits at {angle:5.1f} degrees: {', '.join(met) or 'past it'}")
print("\n".join(lines))
for event in referee.events():
    print(event.explain(names))
