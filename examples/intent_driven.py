"""A client says only what its player wants: the trigger is held, and where it aims. The server fires.

Nothing about single shots comes from the client, so there is nothing to claim too often, too early or at whom. Every
shot falls at its own instant, worked out from the weapon's table: the same ones at 20 ticks a second and at 128.
"""

import msgspec
import numpy as np

import tinclock
from tinclock.sample import data_file

garden = tinclock.load_rules(data_file("garden.toml"))


def play(rate: int) -> list[tinclock.Ruling]:
    """Half a second of trigger, a reload in between, at one tick rate; what was fired."""
    rules = msgspec.structs.replace(garden, match=msgspec.structs.replace(garden.match, tick_rate_hz=float(rate)))
    referee = tinclock.Referee(rules, seed=5)
    shooter = referee.admit(connection="c-1", account="a-1", team="copper", rig="gardener", weapon="hose")
    target = referee.admit(connection="c-2", account="a-2", team="pewter", rig="gardener")
    rig, sequence, rulings = referee.history.rigs["gardener"], 0, []

    def intend(now: float, held: bool, view: tinclock.View) -> None:
        """What the client sends when its player presses or lets go, or now and then to say where it aims."""
        nonlocal sequence
        sequence += 1
        eye = np.array(referee.history.eye_now(shooter))
        to = referee.history.bones_at(target, view)[2, :3] - eye
        aim = tuple((to / np.linalg.norm(to)).tolist())
        claim = tinclock.claims.TriggerClaim(sequence, shooter, "hose", held, aim, view)
        rulings.append(referee.rule("c-1", claim, received_at=now))

    fired = []
    for tick in range(int(2.5 * rate) + 1):
        now = tick / rate
        roots = [[-3.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0], [3.0, 0.3 * now, 0.0, 0.0, 0.0, 1.0, 0.0]]
        referee.record(tick, now, [shooter, target], tinclock.rooted_bones(rig, roots))
        referee.snapshot_sent(tick)
        if tick in (rate, rate + rate // 4):  # pressed at 1 s, its aim told again a quarter of a second later
            intend(now, True, tinclock.View(tick - rate // 10, tick - rate // 10, 0.0))
        if tick == rate + rate // 2:  # let go at 1.5 s
            intend(now, False, tinclock.View(tick - rate // 10, tick - rate // 10, 0.0))
        fired += referee.advance(now)
    assert all(ruling.outcome == "accepted" for ruling in rulings)
    return fired


shots = {rate: play(rate) for rate in (20, 64, 128)}
for rate, fired in shots.items():
    at = ", ".join(f"{ruling.received_at:.3f}" for ruling in fired[:5])
    met = sum(len(ruling.hits) for ruling in fired)
    print(f"{rate:>3} ticks a second: {len(fired)} shots, {met} hit; at {at} ... s")
instants = [[ruling.received_at for ruling in fired] for fired in shots.values()]
print("the same instants at every rate:", all(np.allclose(instants[0], other, atol=1e-9) for other in instants))
