"""Weapons in hand: magazines, reloads, draws, charges, bursts, triggers, and the shared stream of spread."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes, step
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

import tinclock
from tinclock.core.combat.held import Held
from tinclock.core.combat.spread_stream import draws
from tinclock.core.combat.weapons import Weapon
from tinclock.core.rules.weapons import BurstRules, RecoilRules, SpreadRules
from tinclock.garden.scenario import data_file

RULES = tinclock.load_rules(data_file("garden.toml"))
RIFLE = "grit_rifle"
PATIENT = {"match": {"history_s": 20.0}, "view": {"max_rewind_s": 20.0}}  # so that views may be as old as they like
OPEN = {"falloff": [], "zones": {}, "range_m": 100.0}


def armed(**fields: object) -> Range:
    """A range on open ground with a changed grit rifle in the shooter's hands."""
    return Range(changed(RULES, "weapons", RIFLE, **fields), None, **PATIENT)


def handle(here: Range, action: str, late: float, weapon: str = RIFLE) -> tinclock.Ruling:
    return here.say(tinclock.claims.WeaponActionClaim, weapon=weapon, action=action, late=late)


def test_a_magazine_empties_reloads_in_its_time_and_the_reserve_runs_out():
    """A magazine empties, reloads in its time, and the reserve runs out."""
    here = armed(interval_s=0.1, magazine=2, reserve=3, reload_s=1.0)
    assert [codes(here.shoot(late=t)) for t in (0.0, 0.1, 0.2)] == [[], [], ["no_ammunition"]]
    assert handle(here, "reload", 0.3).outcome == "accepted"
    assert codes(here.shoot(late=0.9)) == ["no_ammunition"]
    told = here.shoot(late=1.3).receipt().state
    assert (told.magazine, told.reserve, told.shots) == (1, 1, 3)
    assert codes(handle(here, "reload", 1.4)) == []
    assert codes(here.shoot(late=1.5)) == ["reloading"]
    assert codes(here.shoot(late=2.3)) == []  # 0.1 s early, which late packets explain
    here.shoot(late=2.5)
    assert codes(handle(here, "reload", 2.6)) == ["no_effect"]
    assert here.referee.welcome("s").next_sequence == here.sequence + 1


def test_an_interruptible_reload_is_broken_off_by_a_shot_and_one_may_begin_by_itself():
    """An interruptible reload is broken off by a shot and one may begin by itself."""
    here = armed(interval_s=0.1, magazine=3, reload_s=1.0, reload_interruptible=True)
    here.shoot()
    handle(here, "reload", 0.1)
    assert here.shoot(late=0.2).receipt().state.magazine == 1
    assert here.shoot(late=1.5).receipt().state.magazine == 0  # the reload was lost, not only paused
    alone = armed(interval_s=0.1, magazine=1, reload_s=0.5, reload_when_empty=True)
    assert [codes(alone.shoot(late=t))[:1] for t in (0.0, 0.2, 0.5)] == [[], ["no_ammunition"], []]


def test_a_weapon_fires_only_once_drawn_and_the_old_one_is_put_away():
    """A weapon fires only once drawn and the old one is put away."""
    here = Range(changed(RULES, "weapons", "hose", draw_s=0.5, **OPEN), None, **PATIENT)
    assert codes(handle(here, "draw", 0.0, "rake")) == ["unknown_weapon"]
    assert codes(handle(here, "draw", 0.0)) == ["no_effect"]
    assert handle(here, "draw", 0.0, "hose").outcome == "accepted"
    assert here.kinds()[-1:] == ["weapon"]
    early = here.shoot(weapon="hose", late=0.2)
    assert (codes(early), step(early, "still to draw for")) == (["not_drawn"], pytest.approx(0.3))
    assert codes(here.shoot(late=0.5)) == ["weapon_not_held"]
    assert codes(here.shoot(weapon="hose", late=0.5)) == []
    assert codes(here.shoot(weapon="trowel", late=0.6)) == ["weapon_not_held"]


def test_a_charge_needs_its_time_and_scales_the_damage():
    """A charge needs its time and scales the damage."""
    here = armed(charge_s=1.0, min_charge_fraction=0.25, interval_s=0.1, **OPEN)
    assert codes(here.shoot()) == ["undercharged"]
    handle(here, "charge", 0.0)
    assert codes(here.shoot(late=0.1)) == ["undercharged"]
    half = here.shoot(late=0.5, charge=0.5)
    assert (codes(half), half.damage) == ([], 8.5)
    assert codes(here.shoot(late=0.7)) == ["undercharged"]  # each shot needs a charge of its own
    handle(here, "charge", 0.8)
    boast = here.shoot(late=1.18, charge=1.0)
    assert (codes(boast), boast.damage) == (["overcharged"], pytest.approx(17.0 * 0.5))
    handle(here, "charge", 2.0)
    handle(here, "stop", 2.5)
    assert codes(here.shoot(late=3.0)) == ["undercharged"]


@given(st.lists(st.floats(0.0, 0.4), max_size=80), st.floats(0.0, 0.2), st.booleans())
def test_no_timing_of_packets_fires_faster_over_time_than_the_weapon(waits, allowance, bursts):
    """No timing of packets fires faster over time than the weapon."""
    burst = BurstRules(shots=3, interval_s=0.05) if bursts else None
    table = msgspec.structs.replace(RULES.weapons[RIFLE], interval_s=0.3, burst=burst)
    held, now, fired = Held(Weapon(RIFLE, table), b"key"), 0.0, []
    for wait in waits:
        now += wait
        if held.fire_rate.ready_at - now <= allowance:
            held.spend(now)
            fired.append(now)
    mean = (2 * 0.05 + 0.3) / 3 if bursts else 0.3
    ahead = 3 if bursts else 1
    for k, at in enumerate(fired):
        count = sum(at <= other for other in fired[k:])
        assert count <= (fired[-1] - at + allowance) / mean + ahead + 1e-6


@pytest.mark.parametrize("rate_hz", [10.0, 30.0, 64.0, 240.0])
def test_a_held_trigger_fires_at_the_same_instants_whatever_the_tick_rate(rate_hz):
    """Bursts, an empty magazine and its reload included; the instants are worked out by hand."""
    burst = BurstRules(shots=3, interval_s=0.05)
    here = armed(interval_s=0.3, burst=burst, magazine=7, reload_s=1.0, **OPEN)
    start = here.now
    here.say(
        tinclock.claims.TriggerClaim, weapon=RIFLE, held=True, direction=here.aimed().direction, view=View(38, 38, 0.0)
    )
    fired, at = [], start
    while at < start + 2.5:
        at += 1.0 / rate_hz
        fired += [ruling.received_at - start for ruling in here.referee.advance(at)]
    wanted = [0.0, 0.05, 0.10, 0.40, 0.45, 0.50, 0.80, 1.85, 1.90, 1.95, 2.25, 2.30, 2.35]
    assert fired == pytest.approx([t for t in wanted if t <= at - start], abs=1e-9)


View = tinclock.View


def test_the_server_fires_for_a_client_that_only_says_what_it_wants():
    """The server fires for a client that only says what it wants."""
    here = armed(interval_s=0.25, automatic=False, **OPEN)
    aim = here.aimed().direction
    press = {"weapon": RIFLE, "direction": aim, "view": View(28, 30, 0.5)}
    assert here.say(tinclock.claims.TriggerClaim, held=True, **press).outcome == "accepted"
    first = here.referee.advance(here.now + 1.0)
    assert [(r.connection, r.damage, r.hits[0].part) for r in first] == [("s", 17.0, "chest")]  # once a pull
    here.say(tinclock.claims.TriggerClaim, held=False, late=1.1, **press)
    here.say(tinclock.claims.TriggerClaim, held=True, late=1.2, **press)
    assert len(here.referee.advance(here.now + 1.3)) == 1
    assert codes(here.say(tinclock.claims.TriggerClaim, held=True, late=1.4, **{**press, "weapon": "hose"})) == [
        "weapon_not_held"
    ]
    here.referee.dismiss("s")
    assert here.referee.advance(here.now + 9.0) == []


def test_letting_go_stops_the_fire_at_that_instant_and_death_lets_go():
    """Letting go stops the fire at that instant and death lets go."""
    here = armed(interval_s=0.1, **OPEN)
    press = {"weapon": RIFLE, "direction": (-1.0, 0.0, 0.0), "view": View(38, 38, 0.0)}
    here.say(tinclock.claims.TriggerClaim, held=True, **press)
    here.say(
        tinclock.claims.TriggerClaim, held=False, late=0.35, **press
    )  # shots at 0, 0.1, 0.2, 0.3 are fired by then
    assert len(here.referee.advance(here.now + 1.0)) == 4
    here.say(tinclock.claims.TriggerClaim, held=True, late=1.0, **press)
    from tinclock.core.combat.accounts import Blow

    here.referee._pipeline.ledger.wound(here.shooter, 500.0, here.now + 1.15, Blow("fall"))
    assert len(here.referee.advance(here.now + 2.0)) == 0


# -- spread -------------------------------------------------------------------------------------------------------

SPREAD = SpreadRules(base_deg=1.0, per_shot_deg=0.5, recovery_deg_per_s=3.0, moving_deg=2.0, moving_at_m_s=4.0)
RECOIL = RecoilRules(pattern_deg=[(0.0, 0.0), (1.0, -0.5), (2.0, 0.5)], reset_s=0.3)


def test_a_client_with_its_key_draws_exactly_what_the_server_rules():
    """A client with its key draws exactly what the server rules."""
    here = armed(interval_s=0.1, spread=SPREAD, recoil=RECOIL, kind="pellets", pellets=5, **OPEN)
    welcome = here.referee.welcome("s")
    client = tinclock.client.SpreadStream(bytes.fromhex(welcome.spread_key), RIFLE, here.referee.rules.weapons[RIFLE])
    rng, at = np.random.default_rng(4), 0.0
    for shot in range(1, 30):
        at += 0.1 + float(rng.exponential(0.05))
        arrives = at + float(rng.uniform(0.0, 0.1))  # jitter on the way must not change what is drawn
        claim = here.aimed(shot=shot, client_time=100.0 + at)
        ruling = here.referee.rule("s", claim, received_at=here.now + arrives)
        assert [code for code in codes(ruling) if code != "view_late"] == []
        drawn = client.rays(claim.direction, at, shot)
        assert np.allclose([ray.direction for ray in ruling.rays], drawn, rtol=0.0, atol=1e-9)
        here.run(0)


def test_no_choice_of_shot_numbers_lets_a_client_pick_a_lucky_one():
    """A client that knows its stream and always names the luckiest of the next eight gains nothing by it."""
    spread = SpreadRules(base_deg=5.0)
    plain, picky = (armed(interval_s=0.001, damage=0.0, spread=spread, **OPEN) for _ in range(2))
    key = bytes.fromhex(picky.referee.welcome("s").spread_key)
    off = {"plain": [], "picky": []}
    named, skipped = 0, 0
    for k in range(300):
        best = min(range(named + 1, named + 9), key=lambda n: draws(key, RIFLE, n)[0])
        for name, here, fields in (("plain", plain, {}), ("picky", picky, {"shot": best})):
            ruling = here.shoot(late=0.001 * k, **fields)
            turned = sum(a * b for a, b in zip(ruling.direction, ruling.aim, strict=True))
            off[name].append(math.acos(min(1.0, turned)))
        skipped += best != named + 1
        assert ("shots_skipped" in codes(ruling)) == (best != named + 1)
        named = best
    assert skipped > 200
    in_turn = sum(draws(key, RIFLE, n)[0] ** 0.5 for n in range(1, 301)) / 300
    assert np.mean(off["picky"]) > 0.9 * np.mean(off["plain"])
    assert np.mean(off["plain"]) == pytest.approx(math.radians(5.0) * in_turn, rel=0.01)


def test_a_client_that_lost_packets_is_in_step_again_after_one_shot():
    """A client that lost packets is in step again after one shot."""
    here = armed(interval_s=0.1, spread=SPREAD, **OPEN)
    assert codes(here.shoot(shot=1)) == []
    assert codes(here.shoot(shot=4, late=0.2)) == ["shots_skipped"]
    assert codes(here.shoot(shot=5, late=0.4)) == []
    assert codes(here.shoot(shot=500, late=0.6)) == ["shots_skipped"]
    assert codes(here.shoot(shot=6, late=0.8)) == []


def test_spread_fills_its_cone_evenly_and_pellets_differ():
    """Spread fills its cone evenly and pellets differ."""
    scatter = tinclock.client.SpreadStream(b"key", "gun", msgspec.structs.replace(RULES.weapons[RIFLE],
                               spread=SpreadRules(base_deg=10.0), kind="pellets", pellets=4))  # fmt: skip
    aim = (0.36, 0.48, 0.8)
    ways = np.array([scatter.rays(aim, float(shot), shot) for shot in range(1, 800)]).reshape(-1, 3)
    angle = np.arccos(np.clip(ways @ aim, -1, 1)) / math.radians(10.0)
    assert stats.kstest(angle**2, "uniform").pvalue > 0.01
    left = np.cross([0.0, 0.0, 1.0], aim)
    around = np.arctan2(ways @ np.cross(aim, left), ways @ left)
    assert stats.kstest((around + math.pi) / (2 * math.pi), "uniform").pvalue > 0.01
    assert len(np.unique(ways, axis=0)) == len(ways)


def test_spread_grows_by_shots_and_speed_recovers_with_time_and_stays_in_the_plane_where_it_is_flat():
    """Spread grows by shots and speed recovers with time and stays in the plane where it is flat."""
    scatter = tinclock.client.SpreadStream(b"k", "gun", msgspec.structs.replace(RULES.weapons[RIFLE], spread=SPREAD))
    assert math.degrees(scatter.spread_rad(0.0, 0.0)) == pytest.approx(1.0)
    assert math.degrees(scatter.spread_rad(0.0, 2.0)) == pytest.approx(2.0)
    for shot in range(1, 4):
        scatter.rays((1.0, 0.0, 0.0), 0.0, shot)
    assert math.degrees(scatter.spread_rad(0.0, 99.0)) == pytest.approx(1.0 + 1.5 + 2.0)
    assert math.degrees(scatter.spread_rad(0.25, 0.0)) == pytest.approx(1.0 + 1.5 - 0.75)
    assert math.degrees(scatter.spread_rad(9.0, 0.0)) == pytest.approx(1.0)
    flat = msgspec.structs.replace(RULES.weapons[RIFLE], spread=SpreadRules(base_deg=5.0, flat=True))
    ways = np.array(
        [tinclock.client.SpreadStream(b"k", "g", flat).rays((0.6, 0.8, 0.0), 0.0, n)[0] for n in range(1, 200)]
    )
    assert np.all(ways[:, 2] == 0.0)
    assert np.ptp(np.arctan2(ways[:, 1], ways[:, 0])) == pytest.approx(2 * math.radians(5.0), rel=0.1)


def test_recoil_follows_its_pattern_and_a_pause_begins_it_anew():
    """Recoil follows its pattern and a pause begins it anew."""
    scatter = tinclock.client.SpreadStream(b"k", "gun", msgspec.structs.replace(RULES.weapons[RIFLE], recoil=RECOIL))
    ups = [math.degrees(math.asin(scatter.rays((1.0, 0.0, 0.0), at, 1)[0][2])) for at in (0.0, 0.1, 0.2, 0.3, 0.9)]
    assert ups == pytest.approx([0.0, 1.0, 2.0, 2.0, 0.0], abs=0.01)


def test_a_runner_shoots_wider_than_one_who_stands():
    """A runner shoots wider than one who stands."""
    here = armed(spread=SpreadRules(base_deg=0.5, moving_deg=4.0, moving_at_m_s=4.0), **OPEN)
    still = here.shoot()
    eye = here.referee.history.eye_now(here.runner)
    running = here.referee.rule("r", here.aimed(actor=here.runner, origin=eye), received_at=here.now)
    assert step(still, "spread") == pytest.approx(math.radians(0.5))
    assert step(running, "spread") == pytest.approx(math.radians(4.5), rel=0.01)  # 4 m/s, measured by the server


def test_pellets_wound_once_and_count_each_part():
    """Pellets wound once and count each part."""
    here = armed(kind="pellets", pellets=12, damage=5.0, spread=SpreadRules(base_deg=1.2), **OPEN)
    ruling = here.shoot(bone=2)
    assert sum(hit.times for hit in ruling.hits) <= 12
    assert ruling.damage == pytest.approx(sum(hit.damage for hit in ruling.hits))
    assert ruling.damage == pytest.approx(5.0 * sum(hit.times for hit in ruling.hits))
    assert here.kinds().count("health") == 1
    assert len({(hit.health_before, hit.health_after) for hit in ruling.hits}) == 1


@given(st.lists(st.floats(0.0, 0.12), min_size=30, max_size=30))
def test_an_allowance_is_not_gained_anew_with_every_reload(earlier):
    """Reloads and shots that always come as early as they are let: over time no faster than the tables."""
    here = armed(interval_s=0.2, magazine=2, reload_s=0.5, **OPEN)
    at, fired, view = 0.0, [], {"view": View(38, 38, 0.0)}
    for k, early in enumerate(earlier):
        due = at + (0.5 if k % 2 == 0 and k else 0.2)
        if k and k % 2 == 0:
            handle(here, "reload", at)
        at = max(at, due - early)
        while codes(here.shoot(late=at, **view)):
            at += 0.01
        fired.append(at)
    assert fired[-1] - fired[0] >= 15 * 0.2 + 14 * 0.5 - 0.12 - 0.011


def test_a_held_trigger_charges_and_fires_at_full_charge_and_letting_go_loses_it():
    """A held trigger charges and fires at full charge and letting go loses it."""
    here = armed(interval_s=0.1, charge_s=0.5, **OPEN)
    press = {"weapon": RIFLE, "direction": here.aimed().direction, "view": View(28, 30, 0.5)}
    here.say(tinclock.claims.TriggerClaim, held=True, **press)
    fired = here.referee.advance(here.now + 1.25)
    assert [ruling.received_at - here.now for ruling in fired] == pytest.approx([0.5, 1.1])
    here.say(tinclock.claims.TriggerClaim, held=False, late=1.3, **press)
    here.say(tinclock.claims.TriggerClaim, held=True, late=1.4, **press)
    assert [r.received_at - here.now for r in here.referee.advance(here.now + 2.0)] == pytest.approx([1.9])
