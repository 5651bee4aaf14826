"""Three small scenes of what flies in the garden: a clod and its burst, one dodge under three compensations, a dart."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.combat.events import EndEvent, LaunchEvent
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.referee import Referee
from tinclock.core.rules.projectiles import ProjectileRules
from tinclock.core.rules.weapons import WeaponRules
from tinclock.core.ruling.claims import LaunchClaim
from tinclock.core.timeline.rooted import rooted_bones
from tinclock.core.timeline.views import View
from tinclock.garden.scenario import load_garden

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from tinclock.core.geometry.level import Level
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Hit, Ruling
    from tinclock.core.timeline.hitboxes import Hitboxes
    from tinclock.core.vectors import Triple

RATE_HZ = 64
Place = tuple[float, float]


class ThrowScene(NamedTuple):
    """One launch and what came of it.

    path : (n, 3) metres, from the launch to the end; bodies : by entity, as they stood at the end
    """

    name: str
    launch: LaunchEvent
    end: EndEvent
    path: NDArray[np.float64]
    bounces: tuple[tuple[float, float, float], ...]
    hits: tuple[Hit, ...]
    rulings: tuple[Ruling, ...]
    bodies: dict[int, Hitboxes]
    level: Level | None
    seen: Hitboxes | None
    """The target as the shooter's screen showed it at the launch."""
    walked: NDArray[np.float64]
    """(ticks, 2): where the target walked, a row a tick."""
    ruling: Ruling
    """Of the launch: when it arrived, and the view that it was ruled at."""
    table: WeaponRules


def _stage(
    rules: Rules, level: Level | None, weapon: str, bodies: list[Callable[[float], Place]],
    aim: Callable[[Referee], Triple], *, name: str, launch_tick: int = 48, view_ticks: int = 12, max_ticks: int = 320,
) -> ThrowScene:  # fmt: skip
    """Play one launch by the first body; the second is the target."""
    referee = Referee(rules, level=level, seed=7)
    ids = [
        referee.admit(connection=f"c{k}", account=f"a{k}", team=("copper", "pewter")[k > 0], rig="gardener",
                      weapon=weapon if k == 0 else None)
        for k in range(len(bodies))
    ]  # fmt: skip
    rig, walked, rulings = referee.history.rigs["gardener"], list[Place](), list["Ruling"]()
    launch = seen = ruling = None
    for tick in range(max_ticks):
        now = tick / RATE_HZ
        here = [body(now) for body in bodies]
        walked.append(here[min(1, len(here) - 1)])
        ahead = [math.atan2(here[0][1] - y, here[0][0] - x) for x, y in here]
        ahead[0] = math.atan2(here[-1][1] - here[0][1], here[-1][0] - here[0][0])
        roots = [[x, y, 0.0, 0.0, 0.0, math.sin(a / 2), math.cos(a / 2)] for (x, y), a in zip(here, ahead, strict=True)]
        referee.record(tick, now, ids, rooted_bones(rig, roots))
        if tick % 2 == 0:
            referee.snapshot_sent(tick)
        if tick == launch_tick:
            view = View(tick - view_ticks, tick - view_ticks + 2, 0.0)
            seen = referee.history.hitboxes_at(ids[min(1, len(ids) - 1)], view)
            eye = referee.history.eye_now(ids[0]) or (0.0, 0.0, 0.0)
            claim = LaunchClaim(1, ids[0], weapon, eye, aim(referee), view)
            ruling = referee.rule("c0", claim, received_at=now)
        rulings += referee.advance(now)
        told = referee.events()
        launch = next((event for event in told if isinstance(event, LaunchEvent)), launch)
        end = next((event for event in told if isinstance(event, EndEvent)), None)
        if end is not None and launch is not None and ruling is not None:
            return _gathered(name, referee, launch, end, rulings, ids, seen, walked, ruling, rules.weapons[weapon])
    raise AssertionError(f"the scene {name} does not end; it was made to")


def _gathered(
    name: str, referee: Referee, launch: LaunchEvent, end: EndEvent, rulings: list[Ruling], ids: list[int],
    seen: Hitboxes | None, walked: list[Place], ruling: Ruling, table: WeaponRules,
) -> ThrowScene:  # fmt: skip
    flight = ProjectilePath(launch.motion, launch.server_time, launch.position, launch.velocity, level=referee.level)
    times = np.linspace(launch.server_time, end.server_time, 400)
    newest = View(referee.history.newest_tick, referee.history.newest_tick, 0.0)
    bodies = {e: box for e in ids if (box := referee.history.hitboxes_at(e, newest)) is not None}
    return ThrowScene(
        name, launch, end, flight.path(times), tuple(bounce.position for bounce in flight.bounces),
        tuple(hit for ruling in rulings for hit in ruling.hits), tuple(rulings), bodies, referee.level, seen,
        np.array(walked), ruling, table,
    )  # fmt: skip


def _unit(*way: float) -> Triple:
    length = math.sqrt(sum(v * v for v in way))
    x, y, z = (float(v / length) for v in way)
    return x, y, z


def mortar_scene() -> ThrowScene:
    """A clod that is lobbed over the inner wall, bounces on, and bursts among three gardeners, one behind the hedge."""
    garden = load_garden()
    bodies = [lambda _t: (-9.0, -3.0), lambda _t: (15.4, 6.4), lambda _t: (14.6, 9.2), lambda _t: (12.0, 8.4)]
    rise = math.radians(48.0)
    way = _unit(15.0 * math.cos(rise), 7.2 * math.cos(rise), 15.0 * math.sin(rise))
    return _stage(garden.rules, garden.level, "clod_mortar", bodies, lambda _r: way, name="clod mortar")


def compensation_scenes() -> list[ThrowScene]:
    """The same throw at the same runner, which turns on its heel as it is launched, under each compensation."""
    rules = load_garden().rules

    def runner(t: float) -> Place:
        turn = 48 / RATE_HZ
        return (0.0, -2.2 + 4.4 * t) if t < turn else (0.0, -2.2 + 4.4 * turn - 4.4 * (t - turn))

    scenes = []
    for policy in ("none", "catch_up", "blend"):
        flight = ProjectileRules(speed_m_s=26.0, gravity_m_s2=0.0, lifetime_s=1.2, radius_m=0.05, compensation=policy,
                             blend_s=0.5)  # fmt: skip
        table = WeaponRules(kind="projectile", damage=25.0, interval_s=1.0, range_m=40.0, projectile=flight)
        changed = msgspec.structs.replace(rules, weapons={"pebble": table})

        def at_what_it_shows(referee: Referee) -> Triple:
            eye = np.array(referee.history.eye_now(1) or (0.0, 0.0, 0.0))
            bones = referee.history.bones_at(2, View(36, 38, 0.0))
            return _unit(*((bones[2, :3] if bones is not None else eye) - eye))

        scenes.append(_stage(changed, None, "pebble", [lambda _t: (-7.0, 0.0), runner], at_what_it_shows, name=policy))
    return scenes


def dart_scene() -> ThrowScene:
    """A dart at 180 m/s past a gardener who crosses: between two ticks it flies 2.8 m, through the body."""
    flight = ProjectileRules(speed_m_s=180.0, gravity_m_s2=0.0, lifetime_s=1.0)
    table = WeaponRules(kind="projectile", damage=25.0, interval_s=1.0, range_m=60.0, projectile=flight)
    rules = msgspec.structs.replace(load_garden().rules, weapons={"dart": table})

    def crossing(t: float) -> Place:
        return 0.0, 3.0 * (t - 48 / RATE_HZ) - 0.1

    return _stage(
        rules, None, "dart", [lambda _t: (-7.1, 0.0), crossing], lambda _r: _unit(1.0, 0.0, -0.045), name="dart"
    )
