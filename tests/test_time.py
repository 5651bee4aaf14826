"""Views: what they may be, how clients draw, what follows from a client time, and long or uneven matches."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import Range
from scipy.spatial.transform import Rotation, Slerp
from test_history import mixed_rig, still

import tinclock
from tinclock.core.timeline.drawn import derived_view, drawn_view

View, Interpolation = tinclock.View, tinclock.Interpolation


def moving_history(times: list[float], every: int = 1) -> tinclock.PoseHistory:
    """One body whose x is its server time, a tick at each of the times, every so many published."""
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=64, history_s=2.0)
    history.add(1, "mixed")
    for tick, time in enumerate(times):
        history.record(tick, time, [1], [still(time)])
        if tick % every == 0:
            history.publish(tick)
    return history


def test_uneven_ticks_and_a_hitch_of_300_ms_need_no_special_case():
    """Uneven ticks and a hitch of 300 ms need no special case."""
    rng = np.random.default_rng(5)
    times = np.cumsum(rng.uniform(0.004, 0.03, 60))
    times[30:] += 0.3
    history = moving_history(times.tolist(), every=3)
    for at in rng.uniform(times[3], times[57], 200).tolist():
        view = history.view_at(at)
        assert history.time_of(view) == pytest.approx(at, abs=1e-12)
        assert history.bones_at(1, view)[0, 0] == pytest.approx(at, abs=1e-6)


def test_a_match_of_twelve_hours_does_not_drift():
    """A match of twelve hours doesn't drift."""
    start = 12 * 3600.0
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=64)
    history.add(1, "mixed")
    first = int(start * 64)
    for tick in range(first, first + 64):
        history.record(tick, tick / 64, [1], [still(tick / 64 - start)])
        history.publish(tick)
    for at in np.linspace(0.2, 0.9, 50):
        assert history.bones_at(1, history.view_at(start + at))[0, 0] == pytest.approx(at, abs=1e-6)


def test_each_way_of_drawing_is_reproduced():
    """Each way of drawing is reproduced."""
    history = moving_history([k / 64 for k in range(40)], every=2)  # the newest snapshot is tick 38
    between = 20.5 / 64
    assert drawn_view(history, Interpolation(), between) == View(20, 22, 0.25)
    assert drawn_view(history, Interpolation(between="nearest"), between) == View(20, 20, 0.0)
    assert drawn_view(history, Interpolation(between="nearest"), 21.0 / 64) == View(22, 22, 0.0)
    late = 40.0 / 64
    assert drawn_view(history, Interpolation(), late) == View(38, 38, 0.0)
    ahead = drawn_view(history, Interpolation(when_late="extrapolate"), late)
    assert history.time_of(ahead) == pytest.approx(late)
    assert history.bones_at(1, ahead)[0, 0] == pytest.approx(late, abs=1e-6)
    held = drawn_view(history, Interpolation(when_late="extrapolate", extrapolate_s=0.01), late)
    assert history.time_of(held) == pytest.approx(38 / 64 + 0.01)
    assert drawn_view(history, Interpolation(), -1.0) is None


def test_a_client_that_draws_the_nearest_snapshot_is_ruled_at_it(rules):
    """A client that draws the nearest snapshot is ruled at it."""
    here = Range(rules, None)
    here.referee.set_interpolation("s", Interpolation(between="nearest"))
    assert here.shoot(view=View(30, 32, 0.4)).view == View(30, 30, 0.0)


def test_only_a_client_that_extrapolates_may_go_beyond_its_newest_snapshot(rules):
    """Only a client that extrapolates may go beyond its newest snapshot."""
    here = Range(rules, None)
    assert [f.code for f in here.shoot(view=View(36, 38, 1.5)).findings] == ["view_unknown"]
    here.referee.set_interpolation("s", Interpolation(when_late="extrapolate", extrapolate_s=0.05))
    assert here.shoot(view=View(36, 38, 1.5), late=0.2).outcome == "accepted"
    assert [f.code for f in here.shoot(view=View(36, 38, 3.5), late=0.4).findings] == ["view_unknown"]


def ping(referee: tinclock.Referee, up: float, down: float, offset: float, at: float) -> None:
    referee.pong("s", referee.ping("s", at), at + down + offset, at + down + up)


@pytest.mark.parametrize("trip", [0.02, 0.06, 0.12])
def test_a_derived_view_is_the_claimed_one_on_a_clean_line(rules, trip):
    """A derived view is the claimed one on a clean line."""
    here = Range(rules, None)
    for at in np.arange(-3.0, 0.3, 0.3).tolist():
        ping(here.referee, trip / 2, trip / 2, 500.0, at)
    line = here.referee._roster.connections["s"]
    fired_at = here.now - trip / 2
    shown = fired_at - trip / 2 - line.interpolation.interpolation_delay_s
    claimed = here.referee.history.view_at(shown)
    derived = derived_view(here.referee.history, line.clock, line.interpolation, fired_at + 500.0)
    history = here.referee.history
    assert history.time_of(derived) == pytest.approx(history.time_of(claimed), abs=1e-9)
    claim = here.aimed(view=claimed)
    by_time = tinclock.claims.ShotClaim(
        1, claim.actor, claim.weapon, claim.origin, claim.direction, client_time=fired_at + 500.0
    )
    ruling = here.referee.rule("s", by_time, received_at=here.now)
    assert (ruling.hits[0].part, ruling.view_time) == ("chest", pytest.approx(shown, abs=1e-9))


def test_a_derived_view_differs_from_the_screen_by_the_jitter_that_no_ping_escaped(rules):
    """On a path split 30:70 it is exact without jitter, and off by less than the jitter with it, lossy or not."""
    rng, worst = np.random.default_rng(8), {}
    up, down = 0.03, 0.07
    for jitter, loss in ((0.0, 0.0), (0.005, 0.0), (0.02, 0.0), (0.02, 0.4)):
        here = Range(rules, None)
        for at in np.arange(-9.0, 0.3, 0.3).tolist():
            late = rng.exponential(jitter, 2).tolist()
            if rng.random() >= loss:
                ping(here.referee, up + late[0], down + late[1], 40.0, at)
        line, apart = here.referee._roster.connections["s"], []
        for fired_at in rng.uniform(0.35, 0.6, 200).tolist():
            shown = fired_at - down - line.interpolation.interpolation_delay_s
            derived = derived_view(here.referee.history, line.clock, line.interpolation, fired_at + 40.0)
            apart.append(abs(here.referee.history.time_of(derived) - shown))
        worst[jitter, loss] = max(apart)
    assert worst[0.0, 0.0] < 1e-9
    assert all(apart <= jitter for (jitter, _), apart in worst.items() if jitter)


def test_a_client_time_without_a_clock_or_from_nowhere_is_a_finding(rules):
    """A client time without a clock or from nowhere is a finding."""
    here = Range(rules, None)
    claim = tinclock.claims.ShotClaim(
        1, 1, "grit_rifle", here.referee.history.eye_now(1), (1.0, 0.0, 0.0), client_time=5.0
    )
    assert here.referee.rule("s", claim, received_at=here.now).findings[0].code == "view_unknown"
    for sequence, junk in enumerate((float("nan"), "now", 10**400, None), start=2):
        bad = tinclock.claims.ShotClaim(sequence, 1, "grit_rifle", claim.origin, claim.direction, client_time=junk)
        assert here.referee.rule("s", bad, received_at=here.now).findings[0].code == "malformed"


def test_a_fast_spinning_limb_seen_at_30_hz_follows_slerp_within_a_tenth_of_a_millimetre():
    """12 rad/s, a limb of 0.6 m, snapshots every 33 ms: SciPy's Slerp on the bones is the reference."""
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=30)
    history.add(1, "mixed")
    axis, times = np.array([0.3, -0.5, 0.8]) / np.linalg.norm([0.3, -0.5, 0.8]), np.arange(25) / 30
    turns = Rotation.from_rotvec(12.0 * times[:, None] * axis)
    for tick, time in enumerate(times):
        bones = np.hstack([np.zeros((3, 3)), np.tile(turns[tick].as_quat(), (3, 1))])
        history.record(tick, float(time), [1], [bones])
        history.publish(tick)
    reference, limb, worst = Slerp(times, turns), np.array([0.6, 0.0, 0.0]), 0.0
    for at in np.linspace(times[0], times[-1], 400):
        drawn = Rotation.from_quat(history.bones_at(1, history.view_at(float(at)))[0, 3:]).apply(limb)
        worst = max(worst, float(np.linalg.norm(drawn - reference(at).apply(limb))))
    assert worst < 1e-4


@pytest.mark.parametrize(("storage", "worst_m"), [("full", 1e-6), ("half", 1e-4)])
def test_what_storage_costs_in_accuracy(storage, worst_m):
    """The worst error of a point on a limb, half a metre from its bone, over random poses."""
    rng = np.random.default_rng(6)
    history = tinclock.PoseHistory({"mixed": mixed_rig()}, storage=storage)
    history.add(1, "mixed")
    worst = 0.0
    for tick in range(200):
        turns = Rotation.random(3, rng=rng)
        bones = np.hstack([rng.uniform(-0.9, 0.9, (3, 3)) + [5e3, -7e3, 10.0], turns.as_quat()])
        history.record(tick, tick / 64, [1], [bones])
        got = history.bones_at(1, View(tick, tick, 0.0))
        limb = np.array([0.5, 0.0, 0.0])
        ends = Rotation.from_quat(got[:, 3:]).apply(limb) + got[:, :3]
        worst = max(worst, float(np.abs(ends - turns.apply(limb) - bones[:, :3]).max()))
    assert worst < worst_m
