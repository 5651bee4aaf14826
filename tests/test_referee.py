"""The referee: what each check refuses, what a hit does, and that nothing a client sends raises."""

from __future__ import annotations

import math
import threading

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes
from hypothesis import given
from hypothesis import strategies as st

import tinclock
import tinclock.garden.scenario
from tinclock.core.combat.accounts import Blow
from tinclock.core.findings import DEFAULTS, FINDINGS
from tinclock.core.rules.actions import ALWAYS_REJECTED
from tinclock.errors import AlreadyKnownError, BadArrayError, BadNumberError, RulesError, UnknownNameError

View = tinclock.View


def test_an_honest_shot_is_accepted_with_the_servers_damage(shooting):
    """An honest shot is accepted with the server's damage."""
    ruling = shooting.shoot(victim=shooting.runner, part="chest", damage=17.0)
    assert (ruling.outcome, codes(ruling)) == ("accepted", [])
    hit = ruling.hits[0]
    assert (hit.victim, hit.part, hit.zone, hit.damage) == (shooting.runner, "chest", "torso", 17.0)
    assert shooting.referee.ledger.health(shooting.runner) == 83.0
    assert [event.kind for event in shooting.referee.events()] == ["joined", "spawn", "joined", "spawn", "health"]
    assert shooting.referee.events() == []
    receipt = ruling.receipt()
    assert (receipt.sequence, receipt.outcome) == (1, "accepted")
    assert list(msgspec.to_builtins(receipt.hits)) == [{"victim": shooting.runner, "part": "chest", "damage": 17.0}]


def test_the_victim_is_met_where_the_view_had_it_and_not_where_it_is_now(shooting):
    """The victim is met where the view had it and not where it is now."""
    old = View(shooting.tick - 21, shooting.tick - 19, 0.0)
    assert shooting.shoot(view=old).hits[0].part == "chest"
    aim = shooting.aimed(view=old)
    fresh = msgspec.structs.replace(aim, view=View(shooting.tick - 1, shooting.tick - 1, 0.0))
    assert shooting.referee.rule("s", fresh, received_at=shooting.now + 0.1).hits == ()


def test_damage_falls_off_with_distance_and_is_multiplied_by_zone(shooting):
    """Damage falls off with distance and is multiplied by zone."""
    shooting.tick += 2 - shooting.tick % 2
    poses = [shooting.pose(-9.0, 3.0), shooting.pose(15.0, 3.0)]
    shooting.referee.record(shooting.tick, shooting.now, [shooting.shooter, shooting.runner], poses)
    shooting.referee.snapshot_sent(shooting.tick)
    head = shooting.shoot(view=View(shooting.tick, shooting.tick, 0.0), bone=4).hits[0]
    assert (head.zone, head.distance_m > 20.0) == ("head", True)
    assert head.damage == pytest.approx(17.0 * (1.0 - 0.5 * (head.distance_m - 12.0) / 28.0) * 2.5)


REFUSED = {
    "another's entity": ({"actor": 2}, "wrong_actor"),
    "an unknown weapon": ({"weapon": "rake"}, "unknown_weapon"),
    "a direction with NaN": ({"direction": (math.nan, 0.0, 1.0)}, "malformed"),
    "a direction of length 2": ({"direction": (2.0, 0.0, 0.0)}, "direction_not_unit"),
    "a view of the future": ({"view": View(400, 402, 0.5)}, "view_ahead"),
    "a view between ticks never sent": ({"view": View(29, 31, 0.5)}, "view_unknown"),
    "a fraction beyond its snapshots": ({"view": View(28, 30, 1.5)}, "view_unknown"),
    "a view that runs backwards": ({"view": View(30, 28, 0.5)}, "view_unknown"),
    "a leap in the sequence": ({"sequence": 5000}, "skipped_sequence"),
    "no sequence": ({"sequence": 0}, "malformed"),
    "a sequence that is a text": ({"sequence": "1"}, "malformed"),
    "an enormous origin": ({"origin": (1e300, 0.0, 0.0)}, "malformed"),
    "an origin that is a text": ({"origin": "here"}, "malformed"),
    "a weapon that is a list": ({"weapon": ["grit_rifle"]}, "malformed"),
    "a weapon that is a number": ({"weapon": 7}, "malformed"),
    "a huge actor": ({"actor": 10**30}, "malformed"),
    "a part that is a list": ({"part": ["chest"]}, "malformed"),
    "infinite damage": ({"damage": math.inf}, "malformed"),
    "a view that is a text": ({"view": "now"}, "malformed"),
}


@pytest.mark.parametrize("lie", REFUSED)
def test_a_bad_claim_is_rejected_with_a_finding_and_changes_nothing(shooting, lie):
    """A bad claim is rejected with a finding and changes nothing."""
    fields, code = REFUSED[lie]
    claim = msgspec.structs.replace(shooting.aimed(), **fields)
    ruling = shooting.referee.rule("s", claim, received_at=shooting.now)
    assert (ruling.outcome, codes(ruling), ruling.hits, ruling.damage) == ("rejected", [code], (), 0.0)
    assert shooting.referee.ledger.health(shooting.runner) == 100.0
    assert ruling.checks[-1].verdict == "reject"
    assert code in ruling.explain()
    assert code not in str(msgspec.to_builtins(ruling.receipt()))


LEAVES = st.none() | st.booleans() | st.integers() | st.floats() | st.text() | st.binary()
TREES = st.recursive(LEAVES, lambda x: st.lists(x, max_size=4) | st.dictionaries(st.text(), x, max_size=4))
VALUES = LEAVES | st.lists(st.floats(), max_size=4)


@given(TREES)
def test_nothing_that_a_client_sends_raises(anything):
    """Nothing that a client sends raises."""
    ruling = RANGE.referee.rule("s", anything, received_at=RANGE.now)
    assert (ruling.outcome, codes(ruling)) == ("rejected", ["malformed"])


@given(st.dictionaries(st.sampled_from(tinclock.claims.ShotClaim.__struct_fields__), VALUES))
def test_any_value_in_any_field_gives_a_ruling(fields):
    """Any value in any field gives a ruling."""
    claim = msgspec.structs.replace(RANGE.aimed(), **fields)
    ruling = RANGE.referee.rule("s", claim, received_at=RANGE.now)
    assert ruling.outcome in ("accepted", "adjusted", "rejected")
    assert ruling.explain()


RANGE = Range(tinclock.load_rules(tinclock.garden.scenario.data_file("garden.toml")), None)


def test_a_stranger_is_rejected_and_noted(shooting):
    """A stranger is rejected and noted."""
    ruling = shooting.referee.rule("nobody", shooting.aimed(), received_at=shooting.now)
    assert (ruling.outcome, codes(ruling), ruling.entity) == ("rejected", ["unknown_connection"], 0)


def test_a_repeat_gets_the_first_rulings_receipt_and_is_not_applied_again(shooting):
    """A repeat gets the first ruling's receipt and is not applied again."""
    claim = shooting.aimed(victim=shooting.runner)
    first, again = (shooting.referee.rule("s", claim, received_at=shooting.now + t) for t in (0.0, 0.5))
    assert (again.outcome, codes(again)) == ("rejected", ["repeated_sequence"])
    assert again.receipt() == first.receipt()
    assert shooting.referee.ledger.health(shooting.runner) == 83.0


def test_one_wild_sequence_number_does_not_lock_its_sender_out(shooting):
    """One wild sequence number doesn't lock its sender out."""
    for wild in (4_000_000, 2**53):
        for nonsense in ({}, {"direction": (9.0, 9.0, 9.0)}):
            claim = msgspec.structs.replace(shooting.aimed(), sequence=wild, **nonsense)
            assert codes(shooting.referee.rule("s", claim, received_at=shooting.now)) == ["skipped_sequence"]
    assert shooting.shoot(sequence=1).outcome == "accepted"


def test_a_burst_of_late_packets_passes_and_a_faster_trigger_does_not(rules, level):
    """A burst of late packets passes and a faster trigger doesn't."""
    burst = Range(rules, level)
    times = [0.18 * k for k in range(6)]
    held_back = [max(t, 0.1) for t in times]  # the first one was held up for 0.1 s
    assert not any("fires_too_fast" in codes(burst.shoot(late=t)) for t in held_back)
    macro = Range(rules, level)
    fired = [codes(macro.shoot(late=0.12 * k))[0:1] for k in range(40)]
    assert fired.count(["fires_too_fast"]) == pytest.approx(40 / 3, abs=2)  # a third is more than the weapon can do


def test_the_held_weapon_counts(shooting):
    """The held weapon counts."""
    with pytest.raises(UnknownNameError, match="unknown weapon 'rake'; known: 'grit_rifle'"):
        shooting.referee.set_weapon(shooting.shooter, "rake")


def test_a_muzzle_behind_a_wall_is_rejected(rules):
    """A muzzle behind a wall is rejected."""
    wall = tinclock.Level.from_boxes([[-8.8, 3.0, 1.0]], [[0.05, 2.0, 1.0]])
    ruling = Range(rules, wall).shoot(origin=(-8.6, 3.0, 1.6))
    assert codes(ruling) == ["muzzle_blocked"]


def test_a_shot_stops_at_the_first_wall(rules):
    """A shot stops at the first wall."""
    wall = tinclock.Level.from_boxes([[-4.0, 3.0, 1.0]], [[0.1, 4.0, 1.0]], surfaces=[tinclock.types.Surface("brick")])
    ruling = Range(rules, wall).shoot()
    assert (ruling.hits, ruling.stopped_by.name) == ((), "brick")
    assert ruling.reached_m == pytest.approx(4.8, abs=0.1)


def test_too_old_a_view_is_ruled_at_the_cap_and_adjusted(shooting):
    """Too old a view is ruled at the cap and adjusted."""
    shooting.run(20)
    old = View(shooting.tick - 51, shooting.tick - 49, 0.0)
    ruling = shooting.shoot(view=old, late=0.1)
    assert (ruling.outcome, codes(ruling)) == ("adjusted", ["over_rewind_limit"])
    assert ruling.rewound_s == pytest.approx(0.4)
    finding = ruling.findings[0]
    assert finding.margin == pytest.approx(finding.observed - 0.4)


def test_more_damage_than_the_weapon_does_is_compared_and_never_used(shooting):
    """More damage than the weapon does is compared and never used."""
    ruling = shooting.shoot(damage=9000.0)
    assert (ruling.outcome, codes(ruling), ruling.damage) == ("adjusted", ["damage_differs"], 17.0)


def test_a_wrong_victim_or_part_is_adjusted_to_what_was_hit(shooting):
    """A wrong victim or part is adjusted to what was hit."""
    assert codes(shooting.shoot(victim=77)) == ["victim_differs"]
    assert codes(shooting.shoot(victim=shooting.runner, part="head", late=0.2)) == ["part_differs"]


def test_nobody_hits_itself_or_team_mates_unless_the_rules_say_so(rules):
    """Nobody hits itself or team-mates unless the rules say so."""
    friends = Range(rules, None, team="copper")
    ruling = friends.shoot()
    assert (ruling.hits[0].victim, ruling.damage) == (friends.runner, 0.0)
    half = Range(rules, None, team="copper", damage={"friendly_fire": "scaled", "friendly_fraction": 0.5})
    assert half.shoot().damage == 8.5


def test_death_ends_a_life_and_a_shot_at_the_old_one_harms_nobody(shooting):
    """Death ends a life and a shot at the old one damages nobody."""
    for _ in range(6):
        shooting.run(12)
        last = shooting.shoot()
    assert last.hits[0].lethal
    assert not shooting.referee.ledger.alive(shooting.runner)
    kinds = [e.kind for e in shooting.referee.events()]
    assert kinds[kinds.index("death") - 1 :][:3] == ["health", "death", "score"]
    corpse = shooting.shoot(late=0.19)
    assert (corpse.outcome, corpse.damage, len(corpse.hits)) == ("accepted", 0.0, 1)
    assert any(step.name == "victim" and step.observed == "died since the view" for step in corpse.checks)
    view = View(shooting.tick - 3, shooting.tick - 1, 0.5)
    shooting.referee.spawn(shooting.runner, shooting.now + 0.2)
    shooting.run(20)
    again = shooting.shoot(view=view)
    assert any(step.observed == "respawned since the view" for step in again.checks)
    assert shooting.referee.ledger.health(shooting.runner) == 100.0


def test_the_dead_and_the_absent_do_not_shoot(rules, level):
    """The dead and the absent don't shoot."""
    shooting = Range(rules, level, damage={"trade_window_s": 0.0})
    claim = shooting.aimed()
    shooting.referee._pipeline.ledger.wound(shooting.shooter, 500.0, shooting.now, Blow("shot", shooting.runner))
    assert codes(shooting.referee.rule("s", claim, received_at=shooting.now)) == ["dead_actor"]
    shooting.referee.spawn(shooting.shooter)
    shooting.referee.record(shooting.tick + 1, shooting.now + 0.01, [shooting.runner], [shooting.pose(0, 2)])
    again = msgspec.structs.replace(claim, sequence=2)
    assert codes(shooting.referee.rule("s", again, received_at=shooting.now)) == ["actor_missing"]


def test_those_who_left_are_gone_at_once(shooting):
    """Those who left are gone at once."""
    shooting.referee.dismiss("r")
    claim = tinclock.claims.ShotClaim(
        1, 1, "grit_rifle", shooting.referee.history.eye_now(1), (1.0, 0.0, 0.0), View(28, 30, 0.5)
    )
    assert shooting.referee.rule("s", claim, received_at=shooting.now).hits == ()
    assert codes(shooting.referee.rule("r", claim, received_at=shooting.now)) == ["unknown_connection"]
    back = shooting.referee.admit(connection="r", account="runner", team="pewter", rig="gardener")
    assert back == 2, "the entity that it left"
    stranger = shooting.referee.admit(connection="x", account="stranger", team="pewter", rig="gardener")
    assert stranger == 3, "an id is never given to another account"


def test_a_claim_cannot_arrive_sooner_than_the_shortest_round_trip_after_its_snapshot(rules):
    """A claim can't arrive sooner than the shortest round trip after its snapshot."""
    shooting = Range(changed(rules, "weapons", "grit_rifle", interval_s=0.01), None)
    shooting.referee.set_interpolation("s", tinclock.Interpolation(interpolation_delay_s=0.0))
    for at in np.arange(-1.0, 0.5, 0.1).tolist():
        shooting.referee.pong("s", shooting.referee.ping("s", at), 100.04 + at, at + 0.080)
    latest = View(38, 38, 0.0)
    assert codes(shooting.shoot(view=latest, late=0.030)) == ["view_ahead"]
    assert codes(shooting.shoot(view=latest, late=0.075)) == ["display_delay_unreported"]
    assert codes(shooting.shoot(view=View(26, 28, 0.0), late=0.120))[0] == "view_late"


def test_actions_can_be_softened_but_not_where_nothing_is_left_to_rule_on(rules):
    """Actions can be softened but not where nothing is left to rule on."""
    soft = Range(rules, None, actions={"muzzle_far": "adjust"})
    ruling = soft.shoot(origin=(-7.0, 3.0, 1.6))
    assert (ruling.outcome, codes(ruling)) == ("adjusted", ["muzzle_far"])
    assert ruling.origin == soft.referee.history.eye_now(soft.shooter)
    for table, problem in (
        ({"muzle_far": "flag"}, "did you mean 'muzzle_far'"),
        ({"malformed": "flag"}, "must be 'reject'"),
    ):
        with pytest.raises(RulesError, match=problem):
            tinclock.Referee(msgspec.structs.replace(rules, actions=table))


def test_every_finding_has_a_action_and_words():
    """Every finding has a action and words."""
    assert {*DEFAULTS, "flooded"} == set(FINDINGS)  # a flood is dropped at the gateway, before there is a claim
    assert set(DEFAULTS) >= ALWAYS_REJECTED


def test_the_same_input_gives_the_same_rulings(rules, level):
    """The same input gives the same rulings."""

    def play() -> bytes:
        one = Range(rules, level)
        return msgspec.json.encode([one.shoot(late=0.1 * k) for k in range(20)])

    assert play() == play()


def test_programmers_mistakes_raise(shooting):
    """Programmers' mistakes raise."""
    with pytest.raises(AlreadyKnownError, match="connection 's' is already there"):
        shooting.referee.admit(connection="s", account="x", team="", rig="gardener")
    with pytest.raises(UnknownNameError, match="unknown connection 'x'"):
        shooting.referee.dismiss("x")
    with pytest.raises(BadNumberError, match="received_at"):
        shooting.referee.rule("s", None, received_at=math.nan)
    with pytest.raises(BadArrayError, match=r"expected shape \(1, bones, 7\)"):
        shooting.referee.record(99, 9.0, [shooting.shooter], shooting.pose(0, 0))


def test_several_threads_may_read_a_fresh_ruling(shooting):
    """A field that another thread is just working out is worked out here too, instead of missing."""
    ruling, reading, read = shooting.shoot(), threading.Event(), threading.Event()
    late = ruling.__dict__["late"]

    class Slow:
        """Takes its time when it is asked first."""

        def fields(self):
            if not reading.is_set():
                reading.set()
                assert read.wait(10.0)
            return late.fields()

    ruling.__dict__["late"] = Slow()
    seen = []
    thread = threading.Thread(target=lambda: seen.append(ruling.damage))
    thread.start()
    assert reading.wait(10.0)
    seen.append(ruling.damage)
    read.set()
    thread.join()
    seen.append(ruling.damage)
    assert seen == [seen[0]] * 3
    assert seen[0] > 0.0
