"""A friendly match of one minute around a sprinkler: friendly fire at half strength, oil cans, and one who joins late.

Prints what everybody was told, in words, and the board that the late joiner's client made of it.
"""

import math
import tomllib

import numpy as np

import tinclock
from tinclock.sample import data_file

RATE, SECONDS, DRAWN_BEHIND = 64, 60, 8  # ticks: what a screen shows is an eighth of a second old
SPRINKLER_AT = np.array([0.0, 0.0])

# A friendly match needs one word, and what it wants to be different.
tables = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))
for strict in ("view", "muzzle", "fire_rate"):
    del tables[strict]  # leave them to the profile
rules = tinclock.parse_rules(
    tables
    | {"strictness": "lenient", "damage": {"friendly_fire": "scaled", "friendly_fraction": 0.5, "spawn_shield_s": 1.0}}
    | {"score": {"own_team_kill": -25.0}}
)
referee = tinclock.Referee(rules, seed=7)  # on open ground
rig, stand = referee.history.rigs["gardener"], referee.history.rigs["sprinkler"]
rng = np.random.default_rng(3)

sprinkler = referee.add_entity("sprinkler", name="the sprinkler", server_time=0.0)
names = {sprinkler: "the sprinkler"}
players: dict[int, str] = {}  # entity -> connection
sequence: dict[str, int] = {}
dead_since: dict[int, float] = {}


def join(name: str, team: str, now: float) -> tinclock.Welcome:
    """What a server does when a connection has proved who it is."""
    connection = f"c-{name}"
    entity = referee.admit(
        connection=connection, account=f"a-{name}", team=team, rig="gardener", name=name, weapon="grit_rifle",
        server_time=now,
    )  # fmt: skip
    players[entity], names[entity], sequence[connection] = connection, name, 0
    return referee.welcome(connection)


def place_of(entity: int, now: float) -> tuple[np.ndarray, float]:
    """Everybody walks a circle of its own around the sprinkler; returns the foot and where the body looks."""
    radius, pace = 3.5 + entity % 3, 0.35 + 0.1 * (entity % 4)
    angle = entity * 1.9 + pace * now
    return radius * np.array([math.cos(angle), math.sin(angle)]), angle + math.pi


def record(tick: int, now: float) -> None:
    """The server's own poses of this tick."""
    entities, bones = [sprinkler], [tinclock.rooted_bones(stand, [[*SPRINKLER_AT, 0.0, 0.0, 0.0, 0.0, 1.0]])[0]]
    for entity in players:
        (x, y), yaw = place_of(entity, now)
        root = [[x, y, 0.0, 0.0, 0.0, math.sin(yaw / 2), math.cos(yaw / 2)]]
        entities.append(entity)
        bones.append(tinclock.rooted_bones(rig, root)[0])
    referee.record(tick, now, entities, bones)
    if tick % 2 == 0:
        referee.snapshot_sent(tick)


def shoot(entity: int, target: int, tick: int, now: float) -> None:
    """A client fires at another as its screen shows it, off by some centimetres, and says what the screen showed."""
    newest = tick - tick % 2
    view = tinclock.View(newest - DRAWN_BEHIND, newest - DRAWN_BEHIND + 2, float(rng.random()))
    eye, bones = referee.history.eye_now(entity), referee.history.bones_at(target, view)
    if eye is None or bones is None:
        return
    to = bones[min(2, len(bones) - 1), :3] + rng.normal(scale=0.07, size=3) - eye
    way = tuple((to / np.linalg.norm(to)).tolist())
    claim(entity, now, tinclock.claims.ShotClaim, weapon="grit_rifle", origin=eye, direction=way, view=view)


def claim(entity: int, now: float, kind: type, **fields: object) -> None:
    """Whatever a client sends; its receipt would go back to it."""
    connection = players[entity]
    sequence[connection] += 1
    referee.rule(connection, kind(sequence=sequence[connection], actor=entity, **fields), received_at=now)


fennel, clover = join("fennel", "copper", 0.0).entity, join("clover", "copper", 0.0).entity
board, story = referee.state(), []
for tick in range(RATE * SECONDS):
    now = tick / RATE
    record(tick, now)
    referee.advance(now)
    if tick == 20 * RATE:
        welcome = join("gorse", "pewter", now)
        board, joined_at = welcome.state, welcome.state.number  # from here on gorse's client follows the events
    if tick % RATE == 40:
        for entity in players:
            if referee.ledger.alive(entity) and rng.random() < 0.8:
                others = [sprinkler, *(other for other in players if other != entity)]
                shoot(entity, others[int(rng.integers(len(others)))], tick, now)
        for entity in players:
            if referee.ledger.alive(entity) and referee.ledger.health(entity) < 50.0:
                claim(entity, now, tinclock.claims.UseClaim, item="oil_can")
    for entity in (sprinkler, *players):
        if not referee.ledger.alive(entity) and now - dead_since.setdefault(entity, now) > 4.0:
            del dead_since[entity]
            referee.spawn(entity, now)
    for event in referee.events():
        story.append(event)
        if tick >= 20 * RATE:
            board = tinclock.client.apply_event(board, event)

for event in story:
    print(event.explain(names))
print(f"\nthe board as gorse's client has it, which joined at event {joined_at}:")
for row in sorted(board.rows, key=lambda row: -row.score):
    print(f"  {row.name:<8} {row.team:<7} points {row.score:g}, kills {row.kills}, deaths {row.deaths}")
print(f"  teams {board.teams}; {names.get(board.leader, 'nobody')} leads")
print("the same as the server's:", board == referee.state())
