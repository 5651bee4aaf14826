"""Loading every kernel before a match begins, so that no player's shot waits for the compiler.

Numba compiles a kernel when it is first called, and keeps the result beside the code. The first call in a new process
still loads it. `warm_up` plays a match of a few ticks that calls every kernel that a claim of any kind can need.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec
import numba
import numpy as np

from tinclock.core.combat.accounts import Blow
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.motion import Motion
from tinclock.core.combat.projectile_motion import ProjectilePath
from tinclock.core.geometry.level import Level, Surface
from tinclock.core.kernels import cast
from tinclock.core.kernels.checking import check_claims
from tinclock.core.plain import Fields
from tinclock.core.referee import Referee
from tinclock.core.rules.ruleset import Rules
from tinclock.core.ruling.checks.view import bound_views
from tinclock.core.ruling.claims import ShotClaim
from tinclock.core.ruling.histories import history_beside
from tinclock.core.timeline.drawn import drawn_view
from tinclock.core.timeline.lag import Said
from tinclock.core.timeline.views import Interpolation, View

if TYPE_CHECKING:
    from collections.abc import Callable

_BODY: Fields = {
    "eye": {"bone": "a"},
    "bones": [{"name": "a", "rest": [0.0, 0.0, 1.0]}, {"name": "b", "rest": [0.0, 0.0, 0.5]}],
    "parts": [
        {"name": "ball", "bone": "a", "zone": "z", "shape": "sphere", "radius_m": 0.3},
        {"name": "pipe", "bone": "b", "zone": "z", "shape": "capsule", "start": [0.0, 0.0, 0.0], "end": [0.0, 0.0, 0.3],
         "radius_m": 0.2},
        {"name": "box", "bone": "b", "zone": "z", "shape": "box", "half_size_m": [0.2, 0.2, 0.2]},
    ],
}  # fmt: skip
_DOOR: Fields = {"blocks_only": True, "bones": [{"name": "a"}], "parts": [{**_BODY["parts"][2], "bone": "a"}]}
_SHOT = {"damage": 1.0, "interval_s": 0.01, "range_m": 50.0}
_FLIES = {**_SHOT, "kind": "projectile"}
_RULES = {
    "schema": 2,
    "match": {"zone_depth_m": 0.05},
    "damage": {"friendly_fire": "scaled"},
    "movement": {"speed_m_s": 9.0},
    "rigs": {"body": _BODY, "door": _DOOR},
    "weapons": {
        "plain": {**_SHOT, "kind": "hitscan"},
        "through": {**_SHOT, "kind": "hitscan", "penetration": 9.0},
        "strays": {**_SHOT, "kind": "pellets", "pellets": 2, "spread": {"base_deg": 1.0, "moving_deg": 1.0}},
        "blow": {**_SHOT, "kind": "melee", "radius_m": 0.1, "cone_deg": 20.0, "backstab_deg": 170.0,
        "facing_deg": 170.0},
        "ball": {
            **_FLIES,
            "projectile": {"speed_m_s": 30.0, "radius_m": 0.1, "drag_per_m": 0.1, "compensation": "blend",
                       "on_level": "bounce", "on_body": "bounce", "owner_arms_at_bounce": True},
            "splash": {"radius_m": 3.0, "damage": 1.0},
        },
        "point": {**_FLIES, "projectile": {"speed_m_s": 30.0, "turn_deg_per_s": 90.0, "gravity_m_s2": 0.0,
                                       "compensation": "catch_up", "hit_source": "client_confirmed"}},
    },
}  # fmt: skip
STEPS = ("levels", "poses", "questions", "flights", "claims", "rays", "batches", "launches", "shots", "blows", "moves")
"""Steps of `warm_up`, in order."""
AHEAD = ("claims", "rays", "batches")
"""Steps for a second process: the largest kernel, and two that share most of it; half of all work."""
_RAY = numba.types.UniTuple(numba.float64, 6)
_VIEW = numba.types.Tuple((numba.int64, numba.int64, numba.float64))
_STORED = numba.types.Tuple((numba.int64[::1], numba.float64))
_MANY = (
    numba.types.Tuple((numba.float64[:, ::1], numba.float64[:, ::1], numba.float64[::1], numba.int64[::1])),
    numba.types.Tuple((numba.int64[::1], numba.int64[::1], numba.float64[::1])),
    numba.types.Tuple((numba.int64[::1], numba.int64[::1], numba.int32[::1])),
    numba.float64, _STORED,
    numba.types.Tuple((numba.int64[::1], numba.int64[::1], numba.float64[::1], numba.float64[::1])),
)  # fmt: skip


def warm_up(
    on_progress: Callable[[str, int, int], None] | None = None, *, ahead: bool = False,
    wait: Callable[[], object] | None = None,
) -> None:  # fmt: skip
    """Compile or load every kernel that a match needs. Call it before your server's loop.

    on_progress : called before each step with what it loads, how many steps are done, and how many there are
    ahead : compile the other half, in a second process beside one that compiles all; it finds the results in the cache
    wait : called when only what that other process compiles is left

    With compiled kernels in the cache it takes about a second; on a machine that never ran Tin Clock, a minute or two.
    """
    match, names = _EveryCall(), AHEAD if ahead else STEPS
    for done, name in enumerate(names):
        if on_progress is not None:
            on_progress(name, done, len(names))
        if wait is not None and name in AHEAD:
            wait()
        match.steps()[name]()
    if on_progress is not None:
        on_progress("", len(names), len(names))


def is_compiled() -> bool:
    """True if kernels were compiled on this machine before, as far as one small one tells."""
    one = np.zeros(1, np.int64)
    cast.slot_in(one, one, 0)
    stats = getattr(cast.slot_in, "stats", None)  # nothing is compiled where Numba is told not to
    return stats is None or not sum(stats.cache_misses.values())


class _EveryCall:
    """Two bodies, a door, a pane and a wall, and somebody who does everything once."""

    def __init__(self) -> None:
        self._rules = msgspec.convert(_RULES, Rules)
        self._tick, self._sequence = -1, 0

    def steps(self) -> dict[str, Callable[[], None]]:
        """By their names."""
        return {
            "levels": self._level, "poses": self._poses, "questions": self._questions, "flights": self._flights,
            "claims": self._claims, "rays": self._rays, "batches": self._batches, "launches": self._launches,
            "shots": self._shots, "blows": self._blows, "moves": self._moves,
        }  # fmt: skip

    def _level(self) -> None:
        surfaces = [Surface("wall"), Surface("pane", blocks_sight=False, resistance_per_m=1.0)]
        centres = np.array([[9.0, 0.0, 1.0], [6.0, 0.0, 1.0], [0.0, 0.0, -2.0]])
        sizes = np.array([[0.1, 9.0, 9.0], [0.1, 9.0, 9.0], [50.0, 50.0, 1.0]])
        self.level = Level.from_boxes(centres, sizes, kinds=[0, 1, 0], surfaces=surfaces)
        for radius in (0.0, 0.1):
            self.level.first((0.0, 0.0, 1.0), (1.0, 0.0, 0.0), 50.0, radius)
        self.level.all_along((0.0, 0.0, 1.0), (1.0, 0.0, 0.0), 50.0)
        self.level.first_many([[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]], 50.0)

    def _poses(self) -> None:
        self.referee = Referee(self._rules, level=self.level)
        self._all = [self.referee, Referee(self._rules)]
        for each in self._all:
            each.admit(connection="a", account="a", team="one", rig="body")
            each.admit(connection="b", account="b", team="two", rig="body")
            each.add_entity("door")
        for _ in range(8):
            self._record()
        self._tick += 1
        for each in self._all:  # bodies alike come as one array
            each.record(self._tick, self._tick / 64, [1, 2], self._pose(0.0)[None].repeat(2, axis=0))
        for _ in range(4):
            self._record()

    def _look_beside(self) -> None:
        """As the settings of a range do, which share poses."""
        lead = self.referee._pipeline.history
        beside = history_beside(self._rules, lead)
        for entity, rig in ((1, "body"), (2, "body"), (3, "door")):
            beside.add(entity, rig)
        beside.look(np.array([1, 3]))

    def _pose(self, x: float) -> Any:
        return np.array([[x, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0], [x, 0.0, 0.5, 0.0, 0.0, 0.0, 1.0]])

    def _record(self) -> None:
        self._tick += 1
        door = np.array([[3.0, 4.0, 1.0, 0.0, 0.0, 0.0, 1.0]])
        for each in self._all:
            each.record(self._tick, self._tick / 64, [1, 2, 3], [self._pose(0.0), self._pose(1.0), door])
            each.snapshot_sent(self._tick)
            each.advance(self._tick / 64)

    def _claim(self, kind: str, weapon: str = "plain", **fields: Any) -> None:
        self._sequence += 1
        ahead = {"origin": [0.0, 0.0, 1.0], "direction": [1.0, 0.0, 0.0], "view": [self._tick - 3, self._tick - 2, 0.5]}
        claim = {"kind": kind, "sequence": self._sequence, "actor": 1, "weapon": weapon, **ahead, **fields}
        for each in self._all:
            each.set_weapon(1, weapon, self._tick / 64)
            each.rule("a", dict(claim), received_at=self._tick / 64 + 0.02)
        self._record()

    def _shots(self) -> None:
        for weapon in ("plain", "through", "strays"):
            self._claim("shot", weapon)
            self._claim("shot", weapon, direction=[0.6, 0.8, 0.0])
            self._claim("shot", weapon, origin=[0.2, 0.0, 1.0])
            self._claim("shot", weapon, direction=[0.8, -0.6, 0.0])  # past the other, to pane and wall
        self._together()
        self._claim("trigger", "plain", held=True)
        self._claim("trigger", "plain", held=False)

    def _together(self) -> None:
        now = View(self._tick - 1, self._tick, 0.5)
        self.referee.history.nearest((-3.0, 0.0, 1.0), (1.0, 0.0, 0.0), now, radius_m=0.1)
        self._sequence += 1
        view = View(self._tick - 3, self._tick - 2, 0.5)
        shot = ShotClaim(self._sequence, 1, "plain", (0.0, 0.0, 1.0), (1.0, 0.0, 0.0), view)
        for each in self._all:
            each.set_weapon(1, "plain", self._tick / 64)
            each.rule_many([("a", shot, self._tick / 64 + 0.02)])
        self._record()

    def _blows(self) -> None:
        self._claim("melee", "blow")
        self._claim("melee", "blow", origin=[0.1, 0.0, 1.0], direction=[0.8, 0.6, 0.0])

    def _flights(self) -> None:
        for each in self._all:
            roster, flights = each._roster, each._pipeline.flights
            for weapon in ("ball", "point"):
                line, actor = roster.connections["a"], roster.actors[1]
                flights.launch(actor, line, roster.weapons[weapon], (0.0, 0.0, 1.5), (30.0, 0.0, 1.0), 0.0, 0.0)
        for _ in range(4):
            self._record()

    def _claims(self) -> None:
        check_claims.compile((numba.int64,) * 4)  # as types: what is compiled for a text is kept where no call finds it

    def _rays(self) -> None:
        kinds = _RAY, numba.float64, numba.float64, _VIEW, numba.int64, numba.float64, _STORED
        cast.first_part_alone.compile(kinds)

    def _batches(self) -> None:
        cast.first_parts.compile(_MANY)

    def _launches(self) -> None:
        for weapon in ("ball", "point"):
            self._claim("launch", weapon)
            self._claim("launch", weapon, direction=[0.0, 0.6, 0.8])
            self._claim("launch", weapon, direction=[-0.8, 0.0, -0.6])
            for flight in self.referee.state().projectiles:
                self.referee.set_homing_target(flight.projectile, 2)
        for _ in range(60):
            self._record()
        self._claim("impact", projectile=4, flight_time_s=0.1, position=[1.0, 0.0, 1.0], victim=2)
        motion = Motion(
            radius_m=0.1, on_level="bounce", restitution=0.5, friction=0.1, rest_below_m_s=0.1, max_bounces=3
        )
        ProjectilePath(motion, 0.0, (0.0, 0.0, 3.0), (1.0, 0.0, 1.0), level=self.level).at(2.0)

    def _moves(self) -> None:
        for each in self._all:
            each.set_position(1, (0.0, 0.0, 0.0), self._tick / 64)
        for x in (0.0, 0.05, 9.0):
            self._claim("move", position=[x, 0.0, 0.0], client_time=1.0 + x)

    def _questions(self) -> None:
        self._look_beside()
        history, now = self.referee.history, View(self._tick - 1, self._tick, 0.5)
        history.hitboxes_at(2, now)
        self.referee.melee_targets(1, "blow")
        self.referee.welcome("a")
        self.referee.view_bounds("a")
        self.referee.report_view("a", [self._tick - 3, self._tick - 2, 0.5], 1.0, self._tick / 64)
        self.referee.view_window("a", 1, self._tick / 64)
        self.referee.display_delays("a", self._tick / 64)
        self.referee.set_interpolation("a", Interpolation())
        self.referee.pong("a", self.referee.ping("a", self._tick / 64), 1.0, self._tick / 64)
        line = self.referee._roster.connections["a"]
        line.lag.take(Said(1.0, 0.9, 1.0, False))
        line.transits.clear()
        drawn_view(history, Interpolation(), self._tick / 64)
        bound_views(self.referee._roster.connections["a"], self.referee._pipeline.numbers)
        held = self.referee._roster.actors[1].weapons["plain"]
        held.weapon.damage_at(1.0, "z")
        held.weapon.points(0, 1.0)
        line.memory(self._tick / 64)
        ledger = Ledger(1.0)
        ledger.open(1)
        ledger.wound(1, 1.0, 0.0, Blow("fall"))
        if not held.can_reload():  # endless, as the rules above have it
            held.reload(self._tick / 64)
            held.refill()
