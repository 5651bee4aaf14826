"""What damage does to whom: armour, shields, friends, oneself, trades, credit, streaks and points."""

from __future__ import annotations

import msgspec
import pytest
from conftest import Range, changed, codes, step
from hypothesis import given
from hypothesis import strategies as st

import tinclock
from tinclock.core.combat.accounts import Blow
from tinclock.core.combat.ledger import Ledger
from tinclock.core.rules.ruleset import DamageRules, ScoreRules
from tinclock.core.rules.weapons import DamageOverTimeRules
from tinclock.garden.scenario import data_file

RULES = tinclock.load_rules(data_file("garden.toml"))


def books(players: str = "ab", teams: str = "", **rules: object) -> Ledger:
    """A ledger with players 1, 2, ... of the teams given by one letter each, all alive at 0 s."""
    damage = {k: v for k, v in rules.items() if k in DamageRules.__struct_fields__}
    score = {k: v for k, v in rules.items() if k in ScoreRules.__struct_fields__}
    ledger = Ledger(100.0, DamageRules(**damage), ScoreRules(**score))
    for entity, name in enumerate(players, start=1):
        ledger.open(entity, name=name, team=teams[entity - 1].strip() if teams else "")
        ledger.spawn(entity, 0.0)
    return ledger


def hurt(ledger: Ledger, victim: int, amount: float, at: float, by: int, covered: float = 0.0) -> bool:
    return ledger.wound(victim, amount, at, Blow("shot", by, "gun", "chest", covered)).lethal


def row(ledger: Ledger, entity: int) -> tuple[float, int, int, int, int]:
    one = ledger.scores.rows[entity]
    return one.score, one.kills, one.deaths, one.assists, one.streak


@given(st.floats(0.0, 1.0), st.floats(0.0, 80.0), st.lists(st.floats(0.0, 60.0), max_size=8))
def test_armour_takes_its_share_until_it_is_gone_and_nothing_gets_lost(share, armour, blows):
    """Armour takes its share until it is gone, and nothing gets lost."""
    ledger = books(armour=armour, max_armour=100.0)
    for amount in blows:
        before = ledger.health(2) + ledger.armour(2)
        was_alive, had = ledger.alive(2), ledger.armour(2)
        hurt(ledger, 2, amount, 1.0, 1, share)
        lost = before - ledger.health(2) - ledger.armour(2)
        assert had - ledger.armour(2) == pytest.approx(min(had, amount * share) if was_alive else 0.0)
        assert lost == pytest.approx(amount if ledger.alive(2) and was_alive else lost)
        assert 0.0 <= ledger.health(2) <= 100.0


def test_armour_covers_the_zones_of_its_rig_and_piercing_passes_it():
    """Armour covers the zones of its rig and piercing passes it."""
    damage = {"armour": 50.0, "armour_fraction": 0.5}
    chest = changed(RULES, "rigs", "gardener", armour_zones=["torso"])
    assert Range(chest, None, damage=damage).shoot().damage == 8.5
    assert Range(chest, None, damage=damage).shoot(bone=4).damage == 42.5
    piercing = changed(chest, "weapons", "grit_rifle", armour_piercing=1.0)
    assert Range(piercing, None, damage=damage).shoot().damage == 17.0


@pytest.mark.parametrize("covered", [["head"], ["torso"], ["leg"], []])
def test_armour_takes_what_pellets_do_to_each_zone_that_it_covers(covered):
    """Pellets of one shot meet head and body: armour on one of them takes the points of that one alone."""
    rules = changed(RULES, "rigs", "gardener", armour_zones=covered)
    rules = changed(rules, "weapons", "gravel_scatter", pellets=60, falloff=[], zones={"head": 2.5}, range_m=100.0)
    here = Range(
        rules, None, damage={"armour": 2000.0, "max_armour": 2000.0, "armour_fraction": 1.0}, match={"health": 2000.0}
    )
    here.server.set_weapon(here.shooter, "gravel_scatter")
    hits = here.shoot(weapon="gravel_scatter", bone=4).hits
    points = {zone: sum(hit.damage for hit in hits if hit.zone == zone) for zone in ("head", "torso")}
    assert min(points.values()) > 0.0
    expected = sum(hit.damage for hit in hits if not covered or hit.zone in covered)
    assert 2000.0 - here.referee.ledger.armour(here.runner) == pytest.approx(expected)
    assert 2000.0 - here.referee.ledger.health(here.runner) == pytest.approx(sum(hit.damage for hit in hits) - expected)


@pytest.mark.parametrize("blows", [1, 255, 256, 2000])
def test_an_assist_counts_by_time_and_not_by_how_many_blows_came_between(blows):
    """Damage within `assist_window_s` of a death is an assist, whatever number of small hits follow it."""
    ledger = books("abc", assist_window_s=10.0, min_assist_damage=20.0, credit_window_s=5.0)
    hurt(ledger, 3, 25.0, 0.0, 1)
    for k in range(blows):
        hurt(ledger, 3, 0.001, 0.1 + k * 1e-4, 2)
    hurt(ledger, 3, 100.0, 2.0, 2)
    assert row(ledger, 1)[3] == 1
    ledger.spawn(3, 3.0)
    hurt(ledger, 3, 25.0, 4.0, 1)
    hurt(ledger, 3, 1.0, 14.1, 2)
    hurt(ledger, 3, 100.0, 14.2, 2)
    assert row(ledger, 1)[3] == 1
    assert len(ledger._accounts[3].damaged) == 2


def test_nobody_is_harmed_after_a_spawn_until_it_fires():
    """Nobody is damaged after a spawn until it fires."""
    here = Range(RULES, None, damage={"spawn_shield_s": 5.0})
    first = here.shoot()
    assert (first.damage, step(first, "victim")) == (0.0, "shielded")
    back = here.referee.history.eye_now(here.runner)
    here.referee.rule("r", here.aimed(actor=here.runner, origin=back, sequence=1), received_at=here.now)
    assert here.shoot(late=0.2).damage == 17.0
    assert next(e.until for e in here.referee.events() if e.kind == "effect" and e.cause == "fired") <= here.now


@pytest.mark.parametrize(("mode", "share", "victim_loses", "shooter_loses"), [
    ("none", 1.0, 0.0, 0.0), ("scaled", 0.5, 8.5, 0.0), ("reflected", 0.5, 0.0, 8.5), ("scaled", 0.0, 0.0, 0.0),
])  # fmt: skip
def test_friendly_fire_does_what_the_rules_say(mode, share, victim_loses, shooter_loses):
    """Friendly fire does what the rules say."""
    here = Range(RULES, None, team="copper", damage={"friendly_fire": mode, "friendly_fraction": share})
    ruling = here.shoot()
    ledger = here.referee.ledger
    assert ruling.damage == victim_loses
    assert (100.0 - ledger.health(2), 100.0 - ledger.health(1)) == (victim_loses, shooter_loses)
    assert [e.cause for e in here.referee.events() if e.kind == "health"] == (
        ["reflected"] if shooter_loses else ["shot"] if victim_loses else []
    )


def test_without_teams_everybody_is_against_everybody():
    """Without teams everybody is against everybody."""
    here = Range(RULES, None)
    alone = [here.referee.admit(connection=c, account=c, rig="gardener") for c in "xy"]
    assert not here.referee.ledger.friends(*alone)
    assert here.referee.ledger.friends(here.shooter, here.shooter)


def test_damage_that_lasts_comes_at_its_instants_whatever_the_tick_rate_and_a_new_life_ends_it():
    """Damage that lasts comes at its instants whatever the tick rate and a new life ends it."""
    lasting = DamageOverTimeRules(damage=5.0, every_s=0.5, times=3)
    for rate in (7, 64):
        here = Range(changed(RULES, "weapons", "grit_rifle", damage_over_time=lasting), None)
        here.shoot()
        for k in range(1, 4 * rate):
            here.referee.advance(here.now + k / rate)
        told = [e for e in here.referee.events() if e.kind == "health"]
        assert [e.after for e in told] == [83.0, 78.0, 73.0, 68.0]
        assert [e.server_time - here.now for e in told] == pytest.approx([0.0, 0.5, 1.0, 1.5])
        assert {e.actor for e in told} == {here.shooter}
    here.shoot(late=9.0, view=tinclock.View(38, 38, 0.0))
    here.referee.spawn(here.runner, here.now + 9.1)
    here.referee.advance(here.now + 20.0)
    assert here.referee.ledger.health(here.runner) == 100.0


def test_kills_assists_streaks_points_and_the_leader_change_together():
    """Kills, assists, streaks, points and the leader change together."""
    ledger = books("abcd", "rrbb")
    hurt(ledger, 3, 30.0, 0.0, 2)
    hurt(ledger, 3, 19.0, 0.0, 4)  # a team-mate's: no assist
    assert hurt(ledger, 3, 90.0, 1.0, 1)
    assert row(ledger, 1) == (100.0, 1, 0, 0, 1)
    assert row(ledger, 2) == (50.0, 0, 0, 1, 0)
    assert row(ledger, 3) == (0.0, 0, 1, 0, 0)
    assert (ledger.scores.teams, ledger.scores.leader) == ({"r": 150.0}, 1)
    hurt(ledger, 4, 30.0, 2.0, 2)
    assert hurt(ledger, 4, 90.0, 13.0, 1)  # too long ago for an assist
    assert hurt(ledger, 1, 100.0, 14.0, 1)
    assert row(ledger, 1) == (150.0, 2, 1, 0, 0)
    assert row(ledger, 2)[3] == 1


def test_a_fall_soon_after_somebodys_damage_is_that_ones_kill_and_later_ones_own_fault():
    """A fall soon after somebody's damage is that one's kill, and later one's own fault."""
    for after, kills, score in ((4.9, 1, 0.0), (5.1, 0, -50.0)):
        ledger = books("ab")
        hurt(ledger, 2, 10.0, 0.0, 1)
        ledger.wound(2, 500.0, after, Blow("fall"))
        assert (row(ledger, 1)[1], row(ledger, 2)[0]) == (kills, score)
    mates = books("ab", "rr")
    hurt(mates, 2, 500.0, 0.0, 1)
    assert row(mates, 1) == (-100.0, 0, 0, 0, 0)


def test_two_shots_that_kill_each_other_both_count_within_the_trade_window_only():
    """Two shots that kill each other both count within the trade window only."""
    for window, late, dies in ((0.1, 0.05, True), (0.1, 0.15, False), (0.0, 0.0, False)):
        here = Range(changed(RULES, "weapons", "grit_rifle", damage=200.0), None, damage={"trade_window_s": window})
        assert here.shoot().hits[0].lethal
        eye = here.referee.history.eye_now(here.runner)
        answer = here.aimed(view=tinclock.View(here.tick - 5, here.tick - 3, 0.5), actor=here.runner, origin=eye)
        target = here.referee.history.bones_at(here.shooter, tinclock.View(38, 38, 0.0))[2, :3] - eye
        length = float((target @ target) ** 0.5)
        answer = msgspec.structs.replace(answer, sequence=1, direction=tuple((target / length).tolist()))
        ruling = here.referee.rule("r", answer, received_at=here.now + late)
        assert here.referee.ledger.alive(here.shooter) != dies
        assert codes(ruling) == ([] if dies else ["dead_actor"])


def test_one_who_died_on_its_own_screen_first_does_not_trade():
    """Somebody who died on its own screen first doesn't trade."""
    here = Range(changed(RULES, "weapons", "grit_rifle", damage=200.0), None, damage={"trade_window_s": 0.5})
    died = here.now
    here.referee._pipeline.ledger.wound(here.shooter, 500.0, died, Blow("shot", here.runner))
    here.run(14)
    eye = (-8.89, 3.0, 1.65)
    claim = tinclock.claims.ShotClaim(1, 1, "grit_rifle", eye, (1.0, 0.0, 0.0), tinclock.View(50, 52, 0.5))
    ruling = here.referee.rule("s", claim, received_at=here.now)
    assert codes(ruling) == ["dead_actor"]
    assert step(ruling, "seen before its death by") < 0.0


def test_nobody_is_repaired_who_is_dead_or_whole():
    """Healing does nothing for the dead, and nothing for a body whose health is full."""
    here = Range(RULES, None)
    ledger = here.referee._pipeline.ledger
    assert ledger.repair(here.runner, 10.0, here.now, here.shooter, "oil_can") == 0.0
    ledger.wound(here.runner, 30.0, here.now, Blow("fall"))
    assert ledger.repair(here.runner, 50.0, here.now, here.shooter, "oil_can") == 30.0
    ledger.wound(here.runner, 500.0, here.now, Blow("fall"))
    here.referee.events()
    assert ledger.repair(here.runner, 50.0, here.now, here.shooter, "oil_can") == 0.0
    assert (ledger.health(here.runner), here.kinds()) == (0.0, [])


def test_a_lethal_hit_leaves_no_damage_over_time_for_the_next_life():
    """A body that died of the hit itself doesn't burn on after it has respawned."""
    lasting = DamageOverTimeRules(damage=5.0, every_s=0.5, times=3)
    rules = changed(RULES, "weapons", "grit_rifle", damage=500.0, damage_over_time=lasting)
    here = Range(rules, None)
    assert here.shoot().hits[0].lethal
    here.referee.spawn(here.runner, here.now + 0.1)
    here.run(80)
    here.referee.advance(here.now)
    assert here.referee.ledger.health(here.runner) == 100.0


def test_damage_over_time_is_not_applied_beside_a_server_that_applies_its_own():
    """With mode = "shadow" a hit leaves nothing behind that would be applied later."""
    lasting = DamageOverTimeRules(damage=5.0, every_s=0.5, times=3)
    here = Range(changed(RULES, "weapons", "grit_rifle", damage_over_time=lasting), None, match={"mode": "shadow"})
    assert here.shoot().hits
    assert here.referee._pipeline.ledger._lasting == []
