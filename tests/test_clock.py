"""The clock estimate: what it learns from honest answers, and what dishonest ones can't do to it."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tinclock


def exchange(clock, at, up, down, offset):
    """One ping that takes `down` to the client and `up` back; returns what became of the answer."""
    return clock.pong(clock.ping(at), at + down + offset, at + down + up)


@given(st.floats(0.001, 0.3), st.floats(0.001, 0.3), st.floats(-1e4, 1e4), st.integers(0, 2**31))
def test_the_offsets_error_is_within_its_bound_and_that_within_half_the_round_trip(up, down, offset, seed):
    """The offset's error is within its bound, and that within half the round trip."""
    rng = np.random.default_rng(seed)
    clock = tinclock.types.ClockEstimate(b"k")
    for k in range(30):
        late = rng.exponential(0.01, 2).tolist()
        exchange(clock, k * 1.0, up + late[0], down + late[1], offset + 1e-4 * k)
    truth = offset + 1e-4 * 29
    assert abs(clock.offset_s - truth) <= clock.offset_bound_s + 1e-6
    assert (
        clock.offset_bound_s
        <= clock.round_trip_s / 2 + clock.settings.max_drift_fraction * clock.settings.window_s + 1e-6
    )


def test_jitter_is_the_estimator_of_rfc_3550_by_the_servers_clock_alone():
    """Jitter is RFC 3550's, of round trips by one direction's share, and no stamp of the client's moves it."""
    rng = np.random.default_rng(3)
    clock, expected, before = tinclock.types.ClockEstimate(), 0.0, None
    for k in range(40):
        up = 0.05 + float(rng.exponential(0.01))
        exchange(clock, k * 0.25, up, 0.03, 5.0 + float(rng.uniform(-0.02, 0.02)))
        trip = up + 0.03
        if before is not None:
            expected += (abs(trip - before) / math.sqrt(2) - expected) / 16
        before = trip
    assert clock.jitter_s == pytest.approx(expected, rel=1e-9)


def test_a_burst_of_delay_moves_nothing_and_a_new_route_is_taken_up():
    """A burst of delay moves nothing and a new route is taken up."""
    clock = tinclock.types.ClockEstimate()
    for k in range(20):
        exchange(clock, k * 0.25, 0.02, 0.02, 0.0)
    for k in range(20, 24):
        exchange(clock, k * 0.25, 0.12, 0.02, 0.0)
    assert clock.round_trip_s == pytest.approx(0.04)
    for k in range(24, 32):
        exchange(clock, k * 0.25, 0.06, 0.06, 0.0)
    assert clock.round_trip_s == pytest.approx(0.12)
    assert clock.min_round_trip_s == pytest.approx(0.04)  # what could have arrived is still bounded by the old route


def test_a_client_can_delay_an_answer_but_never_hurry_one():
    """A client can delay an answer but never hurry one."""
    clock = tinclock.types.ClockEstimate(b"secret")
    nonce = clock.ping(1.0)
    for guess in (nonce + 1, -1, 2**60, 0):
        assert clock.pong(guess, 5.0, 1.01) == "unknown_nonce"
    for junk in ("7", None, 1.5, True):
        assert clock.pong(junk, 5.0, 1.01) == "malformed"
    for junk in ("5", math.nan, math.inf, 1e300, 10**400):
        assert clock.pong(clock.ping(1.02), junk, 1.02) == "malformed"
    assert clock.pong(nonce, 5.0, 1.05) == "used"
    assert clock.pong(nonce, 5.0, 1.06) == "repeated_nonce"
    assert clock.samples == 1
    assert clock.pong(clock.ping(2.0), 6.0, 4.5) in ("late", "unknown_nonce", "repeated_nonce")


@pytest.mark.parametrize("number", [np.float64, np.float32, np.int64])
def test_a_server_that_computes_with_numpy_gets_a_clock_and_a_lag(shooting, number):
    """NumPy's numbers in a pong or a view are taken as claims take them, by a referee and by a recorder alike."""
    referee = shooting.referee
    assert referee.pong("s", np.int64(referee.ping("s", shooting.now)), number(50.0), shooting.now + 0.1) == "used"
    shown = [np.int64(shooting.tick - 11), np.int32(shooting.tick - 9), np.float64(0.5)]
    for view in (shown, tuple(shown), tinclock.View(*shown)):
        assert referee.report_view("s", view, number(51.0), shooting.now + 0.2)
    assert referee.pong("s", np.float64(3.0), number(50.0), shooting.now) == "malformed"
    assert not referee.report_view(
        "s", [np.str_("a"), np.bool_(True), np.datetime64("nat")], number(52.0), shooting.now
    )


def test_nonces_differ_by_key_and_never_repeat():
    """Nonces differ by key and never repeat."""
    one, other = tinclock.types.ClockEstimate(b"a"), tinclock.types.ClockEstimate(b"b")
    nonces = [clock.ping(k * 0.1) for clock in (one, other) for k in range(300)]
    assert len(set(nonces)) == 600


def test_loss_and_confidence_fall_with_unanswered_pings():
    """Loss and confidence fall with unanswered pings."""
    steady, lossy = tinclock.types.ClockEstimate(), tinclock.types.ClockEstimate()
    for k in range(40):
        exchange(steady, k * 0.25, 0.03, 0.03, 0.0)
        if k % 2:
            exchange(lossy, k * 0.25, 0.03, 0.03, 0.0)
        else:
            lossy.ping(k * 0.25)
    assert steady.loss == 0.0
    assert lossy.loss == pytest.approx(0.5, abs=0.15)
    assert lossy.confidence < 0.7 * steady.confidence


def test_a_clock_that_jumps_is_noticed_and_followed():
    """A clock that jumps is noticed and followed."""
    clock = tinclock.types.ClockEstimate()
    for k in range(20):
        exchange(clock, k * 0.25, 0.02, 0.02, 0.0 if k < 12 else 30.0)
    assert clock.restarts == 1
    assert clock.offset_s == pytest.approx(30.0, abs=0.03)


def test_twelve_hours_drift_nowhere():
    """Twelve hours drift nowhere."""
    clock = tinclock.types.ClockEstimate()
    for k in range(12 * 3600 // 2):
        exchange(clock, 2.0 * k, 0.02, 0.03, 7.0 + 5e-5 * 2.0 * k)
    assert clock.offset_s == pytest.approx(7.0 + 5e-5 * 12 * 3600, abs=0.01)
    assert clock.ping(3.0) > 0  # a loop that is behind its network thread: time stands, and nothing is lost
    assert clock.offset_s == pytest.approx(7.0 + 5e-5 * 12 * 3600, abs=0.01)


@pytest.mark.parametrize(("late_s", "verdict"), [(1.999, "used"), (2.001, "late")])
def test_a_pong_is_late_after_two_seconds(late_s, verdict):
    """An answer that was held back for longer says nothing about the line, and is not used."""
    clock = tinclock.types.ClockEstimate()
    nonce = clock.ping(0.0)
    assert clock.pong(nonce, 5.0, late_s) in (verdict, "repeated_nonce")
    assert clock.answers == (verdict == "used")
