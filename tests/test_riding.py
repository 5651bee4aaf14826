"""Riders, stances, inputs and the game's own checks: recorded, replayed, folded from events and checkpointed."""

from __future__ import annotations

import math
import re
from typing import Any

import msgspec
import numpy as np
import pytest
from test_server_word import GARDEN, HEADWAY, Runner, codes, rules_with
from test_serving import Asker

import tinclock
from tinclock.claims import LaunchClaim, MeleeClaim, MoveClaim, ShotClaim, StatusClaim, UseClaim
from tinclock.core.checkpoint import checkpoint_of, referee_from
from tinclock.core.combat.published import State, apply_event
from tinclock.core.findings import GameFinding
from tinclock.core.rules.game import CounterRules, GameFindingRules
from tinclock.core.rules.movement import StanceRules
from tinclock.core.rules.rigs import BoneRules, MountRules, PartRules, RigRules
from tinclock.errors import BadNumberError, RulesError, UnknownNameError
from tinclock.garden.scenario import data_file
from tinclock.recordings import Recorder, Recording, replay
from tinclock.serve.hub import Hub

SHIELD = PartRules(
    name="shield", bone="tray", zone="body", shape="box", centre=(1.0, 0.0, 1.2), half_size_m=(0.05, 1.0, 1.2)
)
FLOOR = PartRules(
    name="floor", bone="tray", zone="body", shape="box", centre=(0.0, 0.0, 0.1), half_size_m=(0.9, 1.0, 0.1)
)
CART = RigRules(bones=[BoneRules(name="tray")], parts=[SHIELD, FLOOR], eye=MountRules(bone="tray", at=(0.0, 0.0, 1.5)))
WALL = msgspec.structs.replace(CART, blocks_only=True, eye=None)
SEAT = (0.0, 0.0, 0.2)


def cart_rules(cart: RigRules = CART, **tables: Any) -> tinclock.Rules:
    """The garden's rules with a cart that has a shield before its rider, and clients that report moves."""
    return rules_with(rigs={**GARDEN.rigs, "cart": cart}, movement=HEADWAY, **tables)


class Ride:
    """A cart that drives along x with ada on it, and bob, who stands 12 m aside of its start; recorded and replayed."""

    def __init__(
        self,
        path: Any,
        rules: tinclock.Rules,
        speed: float = 8.0,
        turn: float = 0.0,
        level: tinclock.Level | None = None,
    ) -> None:
        self.path, self.rules, self.speed, self.turn, self.now, self.tick = path / "match", rules, speed, turn, 0.0, -1
        self.referee = tinclock.Referee(rules, seed=4, level=level)
        self.server = Recorder(self.path, self.referee)
        self.ada, self.bob = (
            self.server.admit(connection=name, account=name, rig="gardener", team=team, weapon="grit_rifle")
            for name, team in (("ada", "copper"), ("bob", "pewter"))
        )
        self.cart = self.server.add_entity("cart")
        self.sequence = dict.fromkeys(("ada", "bob"), 0)
        self.server.set_position(self.ada, (0.0, 0.0, 0.0), 0.0)

    def __enter__(self) -> Ride:
        self.run(1.5)
        return self

    def __exit__(self, *problem: object) -> None:
        self.server.close()
        if problem[0] is not None:
            return
        state, kept = State(0, 0.0, keep_disconnected=self.rules.score.keep_disconnected), Recording(self.path)
        for event in kept.events():
            state = apply_event(state, event)
        assert state == self.referee.state()
        assert replay(kept).as_recorded
        assert referee_from(checkpoint_of(self.referee), self.referee.level).state() == state

    def cart_at(self, now: float) -> tuple[np.ndarray, float]:
        """Its place, metres, and its heading."""
        return np.array([self.speed * now, 0.0, 0.0]), self.turn * now

    def rider_at(self, now: float) -> np.ndarray:
        return self.cart_at(now)[0] + SEAT

    def run(self, seconds: float) -> None:
        rig = self.referee.history.rigs["gardener"]
        for _ in range(round(64 * seconds)):
            self.tick += 1
            self.now = self.tick / 64
            place, heading = self.cart_at(self.now)
            turned = [0.0, 0.0, math.sin(heading / 2), math.cos(heading / 2)]
            upright = [0.0, 0.0, 0.0, 1.0]
            roots = [[*self.rider_at(self.now), *turned], [12.0, 12.0, 0.0, *upright]]
            bodies = [*tinclock.rooted_bones(rig, roots), np.array([[*place, *turned]])]
            self.server.record(self.tick, self.now, [self.ada, self.bob, self.cart], bodies)
            self.server.snapshot_sent(self.tick)
            self.server.advance(self.now)
            for name in ("ada", "bob") if self.tick % 4 == 0 and self.tick > 16 else ():
                self.server.report_view(name, self.view(), self.now + 49.99, self.now)
            for name in ("ada", "bob") if self.tick % 16 == 0 else ():
                self.server.pong(name, self.server.ping(name, self.now - 0.02), self.now + 49.99, self.now)

    def view(self) -> tinclock.View:
        return self.referee.history.view_at(self.now - 0.1)

    def rule(self, name: str, kind: Any, **fields: Any) -> tinclock.Ruling:
        self.sequence[name] += 1
        actor = self.ada if name == "ada" else self.bob
        return self.server.rule(name, kind(self.sequence[name], actor, **fields), received_at=self.now)

    def shoot(self, *, relative: bool, target: int | None = None) -> tinclock.Ruling:
        """A shot of ada's at somebody's chest, from where her screen shows her eye on the cart."""
        history, view = self.referee.history, self.view()
        rig = history.rigs["gardener"]
        seen = self.now - 0.1
        eye = history.bones_at(self.ada, view)[rig.eye_bone, :3] + np.array([0.0, 0.0, 0.0])
        eye = np.array(history.eye_now(self.ada)) - self.rider_at(self.now) + self.rider_at(seen)
        to = history.bones_at(target or self.bob, view)[2 if target is None else 0, :3] - eye
        way = tuple((to / np.linalg.norm(to)).tolist())
        place = eye - self.cart_at(seen)[0] if relative else np.array(history.eye_now(self.ada))
        return self.rule(
            "ada", ShotClaim, weapon="grit_rifle", origin=tuple(place.tolist()), direction=way, view=view,
            relative_to=self.cart if relative else None,
        )  # fmt: skip


# -- riders ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("cart", [CART, WALL], ids=["takes_damage", "blocks_only"])
def test_a_riders_shots_pass_its_vehicle_and_other_bodies_shots_hit_it(tmp_path, cart):
    """The shield before the rider stops ada's shots until the server says that she rides it, and bob's always."""
    with Ride(tmp_path, cart_rules(cart), speed=0.0) as ride:
        ride.server.set_position(ride.ada, (0.0, 0.0, 0.0), ride.now)
        ahead = (1.0, 0.0, 0.0)
        eye = ride.referee.history.eye_now(ride.ada)
        shots = []
        for riding in (False, True, False):
            ride.server.set_vehicle(ride.ada, ride.cart if riding else None, ride.now)
            ride.run(1.0)
            shots.append(
                ride.rule("ada", ShotClaim, weapon="grit_rifle", origin=eye, direction=ahead, view=ride.view())
            )
        assert [shot.stopped_by is None for shot in shots] == [False, True, False]
        assert {shot.stopped_by.entity for shot in shots[::2]} == {ride.cart}
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        start = ride.referee.history.eye_now(ride.bob)
        way = np.array([1.0, 0.0, 1.2]) - start
        aim = tuple((way / np.linalg.norm(way)).tolist())
        shot = ride.rule("bob", ShotClaim, weapon="grit_rifle", origin=start, direction=aim, view=ride.view())
        assert shot.stopped_by.entity == ride.cart
        assert (shot.damage > 0.0) == (cart is CART)


@pytest.mark.parametrize("speed", [4.0, 15.0])
def test_a_passengers_shot_is_ruled_from_where_its_screen_shows_the_vehicle(tmp_path, speed):
    """At 15 m/s her screen shows her 1.5 m behind; a shot relative to the cart hits, and makes no finding."""
    with Ride(tmp_path, cart_rules(), speed) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        ride.run(0.3)
        hits = []
        for _ in range(4):
            shot = ride.shoot(relative=True)
            assert codes(shot) == []
            hits += [hit.victim for hit in shot.hits]
            ride.run(0.4)
        assert hits == [ride.bob] * 4


def test_a_riders_place_relative_to_its_vehicle_is_where_the_vehicle_is(tmp_path):
    """Moves that name the seat on a turning cart are accepted where the cart is now, at any speed."""
    with Ride(tmp_path, cart_rules(), speed=15.0, turn=1.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        for _ in range(20):
            ride.run(1 / 16)
            stamp = ride.now + 49.99
            ruling = ride.rule("ada", MoveClaim, position=(0.5, 0.0, 0.2), client_time=stamp, relative_to=ride.cart)
            assert codes(ruling) == []
            place, heading = ride.cart_at(ride.now)
            seat = place + (0.5 * math.cos(heading), 0.5 * math.sin(heading), 0.2)
            np.testing.assert_allclose(ruling.position, seat, atol=2e-3)


def test_a_rider_who_claims_to_be_elsewhere_is_put_back(tmp_path):
    """A place further off than `movement.ride_reach_m` and what the cart's own way explains is `off_vehicle`."""
    with Ride(tmp_path, cart_rules(), speed=15.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        ride.run(1 / 16)
        for aside, expected in ((0.0, []), (20.0, ["off_vehicle"]), (0.5, [])):
            ride.run(1 / 16)
            place = ride.rider_at(ride.now) + (0.0, aside, 0.0)
            ruling = ride.rule("ada", MoveClaim, position=tuple(place.tolist()), client_time=ride.now + 49.99)
            assert codes(ruling) == expected
            assert math.dist(ruling.position, ride.rider_at(ride.now)) < 6.0


@pytest.mark.parametrize("mode", ["live", "shadow"])
def test_a_rider_whose_screen_is_late_has_no_finding_for_its_status_or_its_moves(tmp_path, mode):
    """At 15 m/s a passenger believes to be 4.5 m behind; that is the line's, live and beside another server."""
    with Ride(tmp_path, cart_rules(match=msgspec.structs.replace(GARDEN.match, mode=mode)), speed=15.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        for k in range(10):
            ride.run(1 / 16)
            stamp, late = ride.now + 49.99, tuple(ride.rider_at(ride.now - 0.3).tolist())
            told = ride.rule("ada", StatusClaim, position=late, client_time=stamp, view=ride.view())
            seat = (0.0, 0.0, 9.0 if k == 5 else 0.2)
            moved = ride.rule("ada", MoveClaim, position=seat, client_time=stamp, relative_to=ride.cart)
            assert (codes(told), codes(moved)) == ([], ["off_vehicle"] if k == 5 else [])
            assert math.dist(ride.referee.position(ride.ada), ride.rider_at(ride.now)) < 6.0


def test_a_rider_does_not_get_through_a_wall_that_its_vehicle_stands_at(tmp_path):
    """A place beyond a wall, near enough to the vehicle, is cut back to the vehicle's side; one before it is not."""
    wall = tinclock.Level.from_boxes([[0.0, 0.9, 1.5]], [[20.0, 0.2, 3.0]])
    with Ride(tmp_path, cart_rules(), speed=0.0, level=wall) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        for aside, found in ((0.4, []), (1.3, ["through_wall"]), (-1.3, []), (9.0, ["through_wall", "off_vehicle"])):
            ride.run(1 / 16)
            told = ride.rule("ada", MoveClaim, position=(0.0, aside, 0.2), client_time=ride.now + 49.99)
            assert codes(told) == found
            assert told.position[1] < 0.8


def test_a_driver_far_ahead_of_the_server_has_no_finding(tmp_path):
    """A driver predicts the cart half a round trip ahead of the server, and her places there are accepted."""
    with Ride(tmp_path, cart_rules(), speed=15.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        for _ in range(10):
            ride.run(1 / 16)
            place = tuple(ride.rider_at(ride.now + 0.05).tolist())
            assert codes(ride.rule("ada", MoveClaim, position=place, client_time=ride.now + 49.99)) == []


def test_who_gets_off_stands_where_it_was_and_may_not_leap(tmp_path):
    """After the ride the body begins at rest where it was; a report still on the way counts, one from afar does not."""
    with Ride(tmp_path, cart_rules(), speed=0.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        ride.run(0.5)
        ride.rule("ada", MoveClaim, position=(0.0, 0.0, 0.2), client_time=ride.now + 49.99)
        ride.server.set_vehicle(ride.ada, None, ride.now)
        ride.run(1 / 16)
        late = ride.rule("ada", MoveClaim, position=SEAT, client_time=ride.now + 49.99, relative_to=ride.cart)
        assert codes(late) == []
        ride.run(1.0)
        far = ride.rule("ada", MoveClaim, position=(60.0, 0.0, 0.0), client_time=ride.now + 49.99)
        assert codes(far) == ["teleport"]
        assert far.position == pytest.approx(SEAT)
        stranger = ride.rule("ada", MoveClaim, position=SEAT, client_time=ride.now + 50.0, relative_to=ride.cart)
        assert (stranger.outcome, codes(stranger)) == ("rejected", ["not_its_vehicle"])


def test_a_vehicle_that_leaves_sets_its_riders_down(tmp_path):
    """Removal of the cart, a new life and a departure end the ride, and the state says so."""
    with Ride(tmp_path, cart_rules(), speed=0.0) as ride:
        for end in (
            lambda: ride.server.spawn(ride.ada, ride.now),
            lambda: ride.server.set_vehicle(ride.ada, None, ride.now),
            lambda: ride.server.remove(ride.cart, ride.now),
        ):
            ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
            assert ride.referee.state().entity(ride.ada).vehicle == ride.cart
            end()
            assert ride.referee.state().entity(ride.ada).vehicle == 0
        with pytest.raises(UnknownNameError):
            ride.server.set_vehicle(ride.ada, ride.cart, ride.now)


def test_nobody_rides_a_rider(tmp_path):
    """A vehicle that rides something, or a rider that carries somebody, is refused, and nothing changes."""
    with Ride(tmp_path, cart_rules(), speed=0.0) as ride:
        ride.server.set_vehicle(ride.ada, ride.cart, ride.now)
        before = ride.referee.state()
        for entity, vehicle in ((ride.bob, ride.ada), (ride.cart, ride.bob), (ride.bob, ride.bob)):
            with pytest.raises(BadNumberError, match="an entity that rides nothing"):
                ride.server.set_vehicle(entity, vehicle, ride.now)
        assert ride.referee.state() == before


def test_a_riders_projectile_passes_its_vehicle(tmp_path):
    """A pebble that is let fly from behind the shield leaves the cart, as it would not without the ride."""
    with Ride(tmp_path, cart_rules(), speed=0.0) as ride:
        ride.server.set_weapon(ride.ada, "pebble_sling", ride.now)
        ends = []
        for riding in (True, False):
            ride.server.set_vehicle(ride.ada, ride.cart if riding else None, ride.now)
            ride.run(1.5)
            ride.referee.events()
            launch = ride.rule(
                "ada", LaunchClaim, weapon="pebble_sling", origin=ride.referee.history.eye_now(ride.ada),
                direction=(1.0, 0.0, 0.0), view=ride.view(),
            )  # fmt: skip
            assert codes(launch) == []
            ride.run(0.25)
            ends.append({event.victim for event in ride.referee.events() if event.kind == "end"})
        assert ends == [set(), {ride.cart}]


# -- stances --------------------------------------------------------------------------------------------------


def test_a_stance_has_its_own_limits_and_a_client_time_to_hear_of_it():
    """Sprinting allows 9 m/s and crouching 2; the faster of both holds until the client can know of a change."""
    stances = {"sprint": StanceRules(speed_m_s=9.0), "crouch": StanceRules(speed_m_s=2.0, centre_up_m=0.5)}
    rigs = {**GARDEN.rigs, "gardener": msgspec.structs.replace(GARDEN.rigs["gardener"], stances=stances)}
    runner = Runner(rules_with(rigs=rigs, movement=HEADWAY))
    for stance, fair, unfair in (("", 6.0, 7.0), ("sprint", 9.0, 10.0), ("crouch", 2.0, 4.0)):
        runner.referee.set_stance(runner.entity, stance, runner.now)
        runner.go((9.0 if stance == "crouch" else 0.0, 0.0, 0.0), 1 / 32)
        assert runner.found == []
        runner.go((0.0, 0.0, 0.0), 0.5)
        runner.go((fair, 0.0, 0.0), 1.0)
        assert runner.found == []
        runner.go((unfair, 0.0, 0.0), 1.0)
        assert set(runner.found) == {"too_fast"}
        runner.found.clear()
    assert runner.referee.state().entity(runner.entity).stance == "crouch"
    with pytest.raises(UnknownNameError, match="unknown stance 'crawl'"):
        runner.referee.set_stance(runner.entity, "crawl")
    with pytest.raises(RulesError, match="need \\[movement\\]"):
        tinclock.Referee(rules_with(rigs=rigs, movement=None))


# -- bodies that the server moves -------------------------------------------------------------------------------


@pytest.mark.parametrize("way_in", ["data", "bytes"])
def test_inputs_are_acknowledged_and_predictions_compared(tmp_path, way_in):
    """The server simulates each input; receipts say which one was last, and a wrong prediction is flagged."""
    rules = rules_with(movement=msgspec.structs.replace(HEADWAY, moved_by="server"))
    referee = tinclock.Referee(rules, seed=2)
    with Recorder(tmp_path / "match", referee) as server:
        ada = server.admit(connection="ada", account="ada", rig="gardener")
        server.set_position(ada, (0.0, 0.0, 0.0), 0.0)
        x, seen = 0.0, []
        for number in range(1, 40):
            now = number / 32
            predicted = x + 6.0 / 32 + (0.5 if number == 20 else 0.0)
            push = (3.0, 4.0, 0.0) if number == 30 else (1.0, 0.0, 0.0)
            claim: Any = MoveClaim(number, ada, (predicted, 0.0, 0.0), now, push)
            if way_in == "bytes":
                claim = msgspec.json.encode(claim)
            ruling = server.rule("ada", claim, received_at=now)
            assert ruling.state.input == number - 1
            seen.append(codes(ruling))
            assert math.hypot(*ruling.direction) <= 1.0 + 1e-9
            x += 6.0 / 32
            server.set_position(ada, (x, 0.0, 0.0), now, input=number)
    assert [k + 1 for k, found in enumerate(seen) if found] == [21, 30]
    assert (seen[20], seen[29]) == (["prediction_differs"], ["input_too_long"])
    assert replay(Recording(tmp_path / "match")).as_recorded


# -- the game's own checks ----------------------------------------------------------------------------------------

NO_MANA = {"no_mana": GameFindingRules(text="the shooter has no mana"), "odd": GameFindingRules(action="flag")}


def test_a_check_of_the_games_own_is_recorded_and_never_called_again(tmp_path):
    """A callable sees claim and preview, its findings reject or flag, and a replay rules the same without it."""
    asked: list[tuple[int, str]] = []

    def check(claim: Any, ruling: tinclock.Ruling) -> list[GameFinding]:
        asked.append((claim.sequence, ruling.kind))
        assert ruling.number == 0
        found = [GameFinding("odd", 1.0, 2.0, "m")] if claim.sequence % 2 else []
        return [*found, GameFinding("no_mana", detail="3 of 5")] if claim.sequence == 3 else found

    referee = tinclock.Referee(cart_rules(game_findings=NO_MANA), seed=4, game_check=check)
    with Recorder(tmp_path / "match", referee) as server:
        ada = server.admit(connection="ada", account="ada", rig="gardener")
        server.set_position(ada, (0.0, 0.0, 0.0), 0.0)
        place, outcomes = (0.0, 0.0, 0.0), []
        sent = [("ada", MoveClaim(k, ada, place, k / 16), k / 16) for k in range(1, 5)]
        for ruling in (server.rule(sent[0][0], sent[0][1], received_at=sent[0][2]), *server.rule_many(sent[1:])):
            outcomes.append((ruling.outcome, codes(ruling)))
        again = server.rule("ada", sent[2][1], received_at=0.4)
    assert outcomes == [
        ("accepted", ["odd"]), ("accepted", []), ("rejected", ["odd", "no_mana"]), ("accepted", []),
    ]  # fmt: skip
    assert codes(again) == ["repeated_sequence"]
    assert asked == [(k, "move") for k in range(1, 5)]
    result = replay(Recording(tmp_path / "match"))
    assert result.as_recorded
    assert len(asked) == 4


@pytest.mark.parametrize("kind", ["shot", "move", "melee", "launch", "status", "use"])
def test_a_preview_changes_nothing_and_foretells_the_ruling(tmp_path, kind):
    """The state stays bit for bit as it was, and the ruling that follows has the previewed outcome and findings."""
    with Ride(tmp_path, cart_rules(), speed=0.0) as ride:
        ride.run(0.5)
        referee, eye = ride.referee, ride.referee.history.eye_now(ride.ada)
        aimed = {"origin": eye, "direction": (0.0, 1.0, 0.0), "view": ride.view()}
        claims: dict[str, Any] = {
            "shot": ShotClaim(1, ride.ada, "grit_rifle", damage=900.0, **aimed),
            "melee": MeleeClaim(1, ride.ada, "trowel", **aimed),
            "launch": LaunchClaim(1, ride.ada, "pebble_sling", **aimed),
            "move": MoveClaim(1, ride.ada, (7.0, 0.0, 0.0), ride.now + 49.99),
            "status": StatusClaim(1, ride.ada, health=40.0),
            "use": UseClaim(1, ride.ada, "oil_can"),
        }
        before = checkpoint_of(referee)
        preview = referee.preview("ada", claims[kind], received_at=ride.now)
        assert checkpoint_of(referee) == before
        ruling = ride.server.rule("ada", claims[kind], received_at=ride.now)
        assert preview.kind == ruling.kind
        if kind != "shot":
            assert (preview.outcome, codes(preview)) == (ruling.outcome, codes(ruling))
        assert referee.preview("ada", claims[kind], received_at=ride.now) is None
        assert referee.preview("nobody", claims[kind], received_at=ride.now) is None
        assert referee.preview("ada", b"\xff", received_at=ride.now) is None


def test_findings_of_the_games_own_have_names_of_their_own():
    """An unknown code, connection or number raises; a name of ours in `[game_findings]` is a mistake of the rules."""
    referee = tinclock.Referee(rules_with(game_findings=NO_MANA))
    referee.admit(connection="ada", account="ada", rig="gardener")
    with pytest.raises(UnknownNameError, match="unknown game finding 'no_man'"):
        referee.add_finding("ada", 1, "no_man")
    with pytest.raises(UnknownNameError):
        referee.add_finding("bob", 1, "no_mana")
    with pytest.raises(BadNumberError):
        referee.add_finding("ada", 0, "no_mana")
    with pytest.raises(RulesError, match=r"game_findings\.too_fast"):
        tinclock.Referee(rules_with(game_findings={"too_fast": GameFindingRules()}))


@pytest.mark.parametrize("item", [False, True], ids=["weapon", "item"])
def test_conditions_on_counters_and_effects_reject_without_spending(tmp_path, item):
    """`requires` needs a counter and leaves it; `blocked_by` rejects during an effect, and both say so."""
    keys = {"requires": {"stamina": 5.0}, "blocked_by": ["speed"]}
    tables: dict[str, Any] = {"counters": {"stamina": CounterRules(start=4.0)}}
    if item:
        tables["items"] = {**GARDEN.items, "oil_can": msgspec.structs.replace(GARDEN.items["oil_can"], **keys)}
    else:
        rifle = msgspec.structs.replace(GARDEN.weapons["grit_rifle"], **keys)
        tables["weapons"] = {**GARDEN.weapons, "grit_rifle": rifle}
    with Ride(tmp_path, cart_rules(**tables), speed=0.0) as ride:
        ride.server.damage(ride.ada, 50.0, server_time=ride.now)

        def act() -> list[str]:
            ride.run(1.0)
            if item:
                return codes(ride.rule("ada", UseClaim, item="oil_can"))
            return codes(ride.shoot(relative=False))

        assert act() == ["condition_not_met"]
        ride.server.set_counter(ride.ada, "stamina", 5.0, server_time=ride.now)
        ride.server.set_effect(ride.ada, "speed", 1.5, 1.2, server_time=ride.now)
        assert act() == ["condition_not_met"]
        ride.run(1.0)
        assert act() == []
        assert ride.referee.state().entity(ride.ada).counters == {"stamina": 5.0}


# -- beside a server in another language ----------------------------------------------------------------------------


MORE = """
[movement]
speed_m_s = 6.0
moved_by = "server"

[game_findings.no_mana]

[rigs.cart]
eye = { bone = "tray" }
bones = [{ name = "tray" }]
parts = [{ name = "floor", bone = "tray", zone = "torso", shape = "box", half_size_m = [0.9, 1.0, 0.1] }]
"""


def test_the_service_takes_riders_inputs_and_findings_of_the_games_own():
    """`call`, `query` and the reply of a claim carry what Python's calls do."""
    ask = Asker(Hub())
    garden = re.sub(r"(?ms)^\[movement\].*?(?=^\[)", "", data_file("garden.toml").read_text(encoding="utf-8"))
    assert ask("open", rules=garden + MORE)["ok"]

    def call(name: str, **arguments: Any) -> Any:
        reply = ask("call", call=name, arguments=arguments)
        assert reply["ok"], reply
        return reply.get("answer")

    ada = call("admit", connection="a", account="a", rig="gardener")
    cart = call("add_entity", rig="cart")
    call("set_vehicle", entity=ada, vehicle=cart)
    assert ask("state")["state"]["entities"][0]["vehicle"] == cart
    call("set_vehicle", entity=ada, vehicle=None)
    call("set_position", entity=ada, position=[0.0, 0.0, 0.0])
    claim = {"kind": "move", "sequence": 1, "actor": ada, "position": [1.0, 0.0, 0.0], "client_time": 0.1}
    claim["push"] = [3.0, 4.0, 0.0]
    about = {"what": "preview", "connection": "a", "claim": claim, "received_at": 0.2}
    previewed = ask("query", about=about)["answer"]
    assert [one["code"] for one in previewed["findings"]] == ["input_too_long"]
    assert ask("query", about={**about, "claim": {"kind": "nothing"}}).get("answer") is None
    call("add_finding", connection="a", sequence=2, code="no_mana", detail="0 of 5")
    sent = [("a", 0.2, msgspec.msgpack.encode({**claim, "sequence": k})) for k in (1, 2)]
    first, second = ask("claims", claims=sent)["rulings"]
    assert first["input"] == pytest.approx([0.6, 0.8, 0.0])
    assert (second["outcome"], second["findings"][-1]["code"]) == ("rejected", "no_mana")
    assert second["receipt"]["outcome"] == "rejected"
    assert "no_mana" not in str(second["receipt"])
