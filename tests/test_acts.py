"""Items, move reports and status reports: what is accepted, what is cut down, what shows itself."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes
from hypothesis import given
from hypothesis import strategies as st

import tinclock
from tinclock.core.combat.accounts import Blow
from tinclock.core.rules.movement import MovementRules
from tinclock.garden.scenario import data_file

RULES = tinclock.load_rules(data_file("garden.toml"))


# -- items --------------------------------------------------------------------------------------------------------


def use(here: Range, item: str = "oil_can", late: float = 0.0, **fields: object) -> tinclock.Ruling:
    return here.say(tinclock.claims.UseClaim, item=item, late=late, **fields)


def wounded(amount: float = 70.0, **item: object) -> Range:
    here = Range(changed(RULES, "items", "oil_can", **item), None, team="copper")
    for entity in (here.shooter, here.runner):
        here.referee._pipeline.ledger.wound(entity, amount, here.now, Blow("fall"))
    here.referee.events()
    return here


def test_an_item_repairs_by_its_table_cools_down_and_is_used_up():
    """An item repairs by its table, cools down and is used up."""
    here = wounded(count=2)
    first = use(here)
    told = first.receipt().state
    assert (first.outcome, told.health, told.items_left, told.item_ready_in_s) == ("accepted", 70.0, 1, 4.0)
    assert [(e.kind, e.cause, e.before, e.after, e.actor) for e in here.referee.events()] == [
        ("health", "oil_can", 30.0, 70.0, here.shooter)
    ]
    assert codes(use(here, late=2.0)) == ["item_cooling"]
    assert use(here, late=4.0).receipt().state.health == 100.0
    here.referee._pipeline.ledger.wound(here.shooter, 50.0, here.now, Blow("fall"))
    assert codes(use(here, late=9.0)) == ["item_spent"]
    assert codes(use(here, item="ladder", late=9.0)) == ["unknown_item"]
    here.referee.spawn(here.shooter)
    here.referee._pipeline.ledger.wound(here.shooter, 50.0, here.now, Blow("fall"))
    assert use(here, late=9.5).outcome == "accepted"


def test_what_would_change_nothing_is_not_used_up():
    """What would change nothing isn't used up."""
    here = Range(RULES, None)
    ruling = use(here)
    assert (codes(ruling), ruling.receipt().state.items_left) == (["no_effect"], 2)


def test_an_item_reaches_team_mates_within_its_range_only():
    """An item reaches team-mates within its range only."""
    far, near = wounded(range_m=3.0), wounded(range_m=50.0)
    assert codes(use(far, target=far.runner)) == ["target_far"]
    assert use(near, target=near.runner).outcome == "accepted"
    assert (near.referee.ledger.health(near.runner), near.referee.ledger.health(near.shooter)) == (70.0, 30.0)
    for nobody in (77, -1, 0):
        assert codes(use(near, target=nobody, late=9.0)) == ["target_far"]


@pytest.mark.parametrize(("effect", "fields", "look"), [
    ("shield", {"duration_s": 3.0}, lambda here: here.referee.ledger.shielded(1, here.now + 2.9)),
    ("armour", {"amount": 30.0}, lambda here: here.referee.ledger.armour(1) == 30.0),
    ("boost", {"amount": 2.0, "duration_s": 3.0}, lambda here: here.shoot().damage == 34.0),
    ("ammunition", {"amount": 4.0}, lambda here: here.say(tinclock.claims.StatusClaim).state.reserve == 9),
])  # fmt: skip
def test_each_effect_does_what_it_says(effect, fields, look):
    """Each effect does what it says."""
    rules = changed(RULES, "weapons", "grit_rifle", magazine=10, reserve=5, reload_s=1.0)
    here = Range(changed(rules, "items", "oil_can", effect=effect, **fields), None, damage={"friendly_fire": "scaled"})
    assert use(here).outcome == "accepted"
    assert look(here)


# -- moves --------------------------------------------------------------------------------------------------------

FAST = {"movement": {"speed_m_s": 5.0, "acceleration_m_s2": 1e6, "tolerance_m": 0.02, "time_tolerance_s": 0.2}}


class Walk(Range):
    """The shooter put at the origin; its reports come every tenth of a second unless they say otherwise."""

    def __init__(self, level: tinclock.Level | None = None, **tables: object) -> None:
        super().__init__(RULES, level, **{**FAST, **tables})
        self.referee.set_position(self.shooter, (0.0, 0.0, 0.0), self.now)
        self.clock = 50.0

    def go(self, x: float, y: float = 0.0, z: float = 0.0, after: float = 0.1, **fields: object) -> tinclock.Ruling:
        self.clock += after
        late = fields.pop("late", self.clock - 50.0)
        return self.say(
            tinclock.claims.MoveClaim, position=(float(x), float(y), z), client_time=self.clock, late=late, **fields
        )


def test_a_body_goes_as_fast_as_it_can_and_no_faster():
    """A body goes as fast as it can and no faster."""
    walk = Walk()
    assert [codes(walk.go(x)) for x in (0.1, 0.6, 1.1)] == [[], [], []]
    fast = walk.go(4.1)
    assert (fast.outcome, codes(fast)) == ("adjusted", ["too_fast"])
    # its 0.1 s, the 0.2 s that time may run ahead, and what was left of the second before it began, but for rounding
    assert fast.receipt().state.position == pytest.approx((1.1 + 5.0 * (0.1 + 0.2), 0.0, 0.0), abs=0.15)
    slow = walk.go(4.1)
    assert slow.position[0] - fast.position[0] == pytest.approx(0.5, abs=0.01)
    up = walk.go(slow.position[0], 0.0, 5.0)
    assert codes(up) == ["too_fast"]
    assert up.position[2] == pytest.approx(0.6, abs=0.05)


def test_a_leap_is_refused_as_a_whole_and_the_body_stays():
    """A leap is refused as a whole and the body stays."""
    walk = Walk()
    walk.go(0.3)
    leap = walk.go(50.0)
    assert (codes(leap), leap.position) == (["teleport"], (0.3, 0.0, 0.0))
    assert walk.referee.position(walk.shooter) == (0.3, 0.0, 0.0)


def test_what_is_only_noted_is_not_cut_down():
    """What is only noted is not cut down."""
    walk = Walk(actions={"too_fast": "flag", "teleport": "flag"})
    for x, code in ((3.0, "too_fast"), (45.0, "teleport")):
        ruling = walk.go(x)
        assert (ruling.outcome, codes(ruling)[0], ruling.position) == ("accepted", code, (x, 0.0, 0.0))


def test_no_timing_of_reports_moves_a_body_for_longer_than_there_was_time():
    """Whatever a client says of its clock, and however its packets bunch, it gets no further than its speed allows."""
    rng = np.random.default_rng(9)
    for _ in range(40):
        walk, x, now = Walk(), 0.0, 0.0
        for _ in range(60):
            now += float(rng.exponential(0.05))
            claimed = float(rng.choice([0.001, 0.05, 0.1, 1.0, 30.0]))
            x = walk.referee.position(walk.shooter)[0] + 5.0 * claimed
            walk.go(x, after=claimed, late=now)
        gone = walk.referee.position(walk.shooter)[0]
        assert gone <= 5.0 * (now + 0.2) + 60 * 0.02 + 1e-6
    assert gone > 0.5 * 5.0 * now


def test_time_that_runs_backwards_and_inputs_that_are_too_long_are_found():
    """Time that runs backwards and inputs that are too long are found."""
    walk = Walk()
    walk.go(0.1)
    assert codes(walk.go(0.1, after=-0.05)) == ["stale_move"]
    pushed = walk.go(0.2, push=(3.0, 4.0, 0.0))
    assert (pushed.outcome, codes(pushed), pushed.findings[0].observed) == ("accepted", ["input_too_long"], 5.0)
    assert codes(walk.go(0.3, push=(0.6, 0.8, 0.0))) == []


def test_a_body_turns_no_sharper_than_it_can_but_walls_may_stop_it_at_once():
    """A body turns no sharper than it can but walls may stop it at once."""
    walk = Walk(movement={"speed_m_s": 5.0, "acceleration_m_s2": 10.0, "tolerance_m": 0.0})
    assert codes(walk.go(0.1)) == []
    for x in (0.3, 0.6, 1.0):
        assert codes(walk.go(x)) == []  # 10 m/s2: 0.1 m more each time
    sharp = walk.go(0.8)
    assert codes(sharp) == ["turns_too_sharply"]
    assert sharp.position[0] > 0.85
    assert codes(walk.go(*sharp.position[:2])) == []  # stopping dead is free


def test_no_body_passes_a_wall_at_any_speed_and_it_may_slide_along():
    """No body passes a wall at any speed and it may slide along."""
    wall = tinclock.Level.from_boxes(
        [[1.0, 0.0, 1.0]], [[0.05, 5000.0, 2.0]], surfaces=[tinclock.types.Surface("brick")]
    )
    tables = {"movement": {"speed_m_s": 500.0, "acceleration_m_s2": 1e9, "teleport_m": 500.0, "radius_m": 0.3}}
    rng, stopped = np.random.default_rng(3), 0
    for _ in range(60):
        walk = Walk(wall, **tables)
        for _ in range(6):
            x, y, _z = walk.referee.position(walk.shooter)
            step = rng.normal(scale=rng.choice([0.05, 1.0, 20.0]), size=2)
            ruling = walk.go(x + step[0], y + step[1])
            stopped += "through_wall" in codes(ruling)
            assert ruling.position[0] < 0.95  # its middle never crosses the surface
    assert stopped > 40
    walk = Walk(wall, **tables)
    walk.go(0.64)
    assert codes(walk.go(0.64, 2.0)) == []


def test_moves_are_ruled_only_where_rules_and_server_say_so():
    """Moves are ruled only where rules and server say so."""
    assert codes(Range(RULES, None).say(tinclock.claims.MoveClaim, position=(0, 0, 0), client_time=1.0)) == [
        "moves_not_ruled"
    ]
    still = Range(msgspec.structs.replace(RULES, movement=None), None)
    still.referee.set_position(still.shooter, (0.0, 0.0, 0.0))
    assert codes(still.say(tinclock.claims.MoveClaim, position=(0.0, 0.0, 0.0), client_time=1.0)) == ["moves_not_ruled"]


@given(st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1)), min_size=1, max_size=30))
def test_an_honest_walk_is_never_cut_down(turns):
    """Inputs of at most full length, integrated as a game would: no report of it is touched."""
    walk = Walk(movement={"speed_m_s": 5.0, "acceleration_m_s2": 60.0, "tolerance_m": 0.05})
    at, velocity = np.zeros(2), np.zeros(2)
    for turn in turns:
        wanted = 5.0 * np.array(turn) / max(1.0, float(np.hypot(*turn)))
        change = wanted - velocity
        velocity = velocity + change * min(1.0, 60.0 * 0.05 / max(1e-9, float(np.hypot(*change))))
        at = at + velocity * 0.05
        ruling = walk.go(float(at[0]), float(at[1]), after=0.05)
        assert (codes(ruling), ruling.position) == ([], (at[0], at[1], 0.0))


# -- status -------------------------------------------------------------------------------------------------------


def believe(here: Range, late: float = 0.0, **fields: object) -> tinclock.Ruling:
    return here.say(tinclock.claims.StatusClaim, late=late, **fields)


def test_a_belief_that_was_true_lately_is_latency_and_one_that_never_was_shows_itself():
    """A belief that was true lately is latency and one that never was shows itself."""
    here = Range(RULES, None)
    for at in np.arange(-2.0, 0.5, 0.25).tolist():
        here.referee.pong("s", here.referee.ping("s", at), at + 10.05, at + 0.1)
    here.referee._pipeline.ledger.wound(here.shooter, 30.0, here.now, Blow("shot", here.runner))
    assert codes(believe(here, late=0.05, health=100.0)) == []
    assert codes(believe(here, late=0.05, health=70.0)) == []
    frozen = believe(here, late=2.0, health=100.0)
    assert (frozen.outcome, codes(frozen), frozen.receipt().state.health) == ("adjusted", ["health_differs"], 70.0)
    assert (frozen.findings[0].observed, frozen.findings[0].limit) == (100.0, 70.0)
    assert codes(believe(here, late=2.0, health=9000.0, armour=50.0)) == ["health_differs", "armour_differs"]
    assert codes(believe(here, late=2.0)) == []


def test_more_ammunition_than_there_is_shows_and_less_is_a_shot_under_way():
    """More ammunition than there is shows and less is a shot under way."""
    here = Range(changed(RULES, "weapons", "grit_rifle", magazine=10, reload_s=1.0), None)
    here.shoot()
    assert codes(believe(here, late=0.5, ammunition=6)) == []
    assert codes(believe(here, late=0.5, ammunition=9)) == []
    assert codes(believe(here, late=0.5, ammunition=400)) == ["ammunition_differs"]


def test_a_believed_place_that_no_latency_explains_is_a_finding():
    """A believed place that no latency explains is a finding."""
    walk = Walk()
    walk.go(0.4)
    for at in np.arange(-2.0, 0.5, 0.25).tolist():
        walk.referee.pong("s", walk.referee.ping("s", at), at + 10.05, at + 0.1)
    assert codes(believe(walk, late=0.2, position=(0.5, 0.0, 0.0))) == []
    away = believe(walk, late=0.2, position=(30.0, 0.0, 0.0))
    assert codes(away) == ["position_differs"]
    assert away.findings[0].observed == pytest.approx(29.6)
    assert math.isfinite(away.findings[0].margin)
    assert away.receipt().state.position == (0.4, 0.0, 0.0)
    assert isinstance(RULES.movement, MovementRules)
