"""What an independent attack once broke: one message, one clock, one call of the server's that took anything."""

from __future__ import annotations

import math
import time
from typing import Any

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes
from hypothesis import given
from hypothesis import strategies as st
from test_launches import armed, launch

import tinclock
from tinclock.core.rules.contradictions import contradictions
from tinclock.core.rules.weapons import DamageOverTimeRules
from tinclock.core.ruling.claims import exact
from tinclock.core.timeline.instants import CATCH_UP_S
from tinclock.errors import BadNameError, BadNumberError, RulesError, UnknownNameError
from tinclock.garden.scenario import data_file
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import replay
from tinclock.wire import codec
from tinclock.wire.gateway import Gateway
from tinclock.wire.messages import Join

View = tinclock.View
RULES = tinclock.load_rules(data_file("garden.toml"))


# -- one message ----------------------------------------------------------------------------------------------------


def test_a_huge_whole_number_in_a_float_field_is_a_rejected_ruling():
    """540 bytes of JSON must not end a match, whatever the decoder makes of them."""
    here = Range(RULES, None)
    text = '{"kind":"move","sequence":1,"actor":1,"position":[%s,0,0],"client_time":1.0}' % ("9" * 450)
    for claim in (codec.decode_claim(text.encode()), msgspec.json.decode(text)):
        ruling = here.referee.rule("s", claim, received_at=here.now)
        assert (ruling.outcome, codes(ruling)) == ("rejected", ["malformed"])


@pytest.mark.parametrize("error", [SystemError, MemoryError, AssertionError, msgspec.ValidationError])
def test_whatever_a_decoder_raises_is_caught(monkeypatch, error):
    """Some decoders raise what no documentation names; the gateway and the referee take it for "no claim"."""

    class Broken:
        def decode(self, _: bytes) -> object:
            raise error("from inside the decoder")

    for name in ("_CLAIM_JSON", "_CLAIM_PACKED", "_OURS_JSON", "_OURS_PACKED", "_ANY_JSON", "_ANY_PACKED"):
        monkeypatch.setattr(codec, name, Broken())
    monkeypatch.setattr(msgspec, "convert", lambda *_: (_ for _ in ()).throw(error("from inside convert")))
    assert isinstance(codec.decode_message(b"{}"), codec.Unreadable)
    here = Range(RULES, None)
    assert codes(here.referee.rule("s", {"kind": "shot"}, received_at=here.now)) == ["malformed"]
    claim = tinclock.claims.MoveClaim(1, 1, (0.0, 0.0, 0.0), 1.0)
    assert exact(claim) is claim


# -- one clock ------------------------------------------------------------------------------------------------------


def with_held_trigger(**weapon: Any) -> Range:
    here = Range(
        changed(RULES, "weapons", "hose", magazine=None, reload_s=0.0, reload_when_empty=False, **weapon), None
    )
    here.referee.set_weapon(here.shooter, "hose")
    view = View(here.tick - 9, here.tick - 9, 0.0)
    held = here.say(tinclock.claims.TriggerClaim, weapon="hose", held=True, direction=(1.0, 0.0, 0.0), view=view)
    assert held.outcome == "accepted"
    return here


@pytest.mark.parametrize("leap_s", [1.5, 3600.0, 86400.0, 9e7])
def test_a_leap_of_the_servers_clock_is_bounded_and_told(leap_s):
    """Triggers lapse, flights end, lasting damage is summed: an hour is caught up on with a second's work."""
    here = with_held_trigger()
    began = time.process_time()
    fired = here.referee.advance(here.now + leap_s)
    assert time.process_time() - began < 2.0
    shots = [ruling for ruling in fired if ruling.kind == "shot"]
    assert len(shots) <= 2.0 * CATCH_UP_S / 0.05
    (lapsed,) = [ruling for ruling in fired if ruling.kind == "trigger"]
    assert (lapsed.outcome, lapsed.account) == ("rejected", "shooter")
    assert "behind the server's clock by" in lapsed.explain()
    assert here.referee.advance(here.now + leap_s + 1.0) == []


def test_a_hitch_within_a_second_fires_every_shot_at_its_own_instant():
    """What is due within the bound is still fired, shot by shot."""
    fired = with_held_trigger().referee.advance(40 / 64 + 0.9)
    assert len([ruling for ruling in fired if ruling.kind == "shot"]) == 19


def test_what_flies_ends_with_a_leap_and_everybody_is_told():
    """A flight whose poses are long gone can't be flown on; its end says why."""
    here = armed(speed_m_s=5.0, lifetime_s=60.0)
    launch(here, direction=(0.0, -1.0, 0.0))
    here.referee.events()
    here.tick += 64 * 600
    here.referee.record(here.tick, here.now, [1, 2], [here.pose(-9, 3), here.pose(0, 3)])
    here.referee.advance(here.now)
    assert [(event.kind, event.cause) for event in here.referee.events()] == [("end", "clock leapt")]


@given(st.floats(1.0, 1e5), st.integers(1, 400))
def test_lasting_damage_is_the_same_sum_after_a_leap(leap_s, times):
    """However long the server slept, what was due is done once, and no more than was due."""
    dealt = []
    for steps in (1, 50):
        ledger = Range(RULES, None).referee._pipeline.ledger
        ledger.linger(1, DamageOverTimeRules(damage=0.1, every_s=0.25, times=times), 0.0, tinclock_blow())
        for step in range(1, steps + 1):
            ledger.advance(leap_s * step / steps)
        dealt.append(100.0 - ledger.health(1))
    assert dealt[0] == pytest.approx(dealt[1], abs=1e-6)
    assert dealt[0] == pytest.approx(0.1 * min(times, math.floor(leap_s / 0.25 + 1e-9)), abs=0.11)


def test_a_leap_of_the_clock_costs_one_blow_and_not_one_for_each_instant():
    """Damage over time that fell due during a leap is one event, so that an hour costs no more than a second."""
    ledger = Range(RULES, None).referee._pipeline.ledger
    ledger.linger(1, DamageOverTimeRules(damage=0.1, every_s=0.25, times=400), 0.0, tinclock_blow())
    before = ledger.bulletin.next
    ledger.advance(3600.0)
    assert ledger.bulletin.next - before < 12


def tinclock_blow() -> Any:
    from tinclock.core.combat.accounts import Blow

    return Blow("damage_over_time", 2, "hose")


NO_TIMES = {
    "NaN": (math.nan, "finite number of seconds"),
    "infinity": (math.inf, "finite number of seconds"),
    "a text": ("1.0", "a number of seconds"),
    "nothing at all": (None, "a number of seconds"),
    "true": (True, "a number of seconds"),
    "the seconds since 1970": (1.7e9, "since the match began; this looks like the seconds since 1970"),
    "milliseconds": (1.7e12, "since the match began; this looks like milliseconds"),
    "a huge whole number": (10**400, "finite number of seconds"),
}
CALLS: dict[str, Any] = {
    "damage": lambda r, t: r.damage(1, 5.0, server_time=t),
    "spawn": lambda r, t: r.spawn(1, t),
    "set_position": lambda r, t: r.set_position(1, (0.0, 0.0, 0.0), t),
    "admit": lambda r, t: r.admit(connection="n", account="n", rig="gardener", server_time=t),
    "add_entity": lambda r, t: r.add_entity("sprinkler", server_time=t),
    "dismiss": lambda r, t: r.dismiss("r", t),
    "hand_over": lambda r, t: r.hand_over(1, "r", t),
    "set_weapon": lambda r, t: r.set_weapon(1, "hose", t),
    "record": lambda r, t: r.record(99, t, [], np.zeros((0, 19, 7))),
    "snapshot_sent": lambda r, t: r.snapshot_sent(39, t),
    "advance": lambda r, t: r.advance(t),
    "ping": lambda r, t: r.ping("s", t),
    "pong": lambda r, t: r.pong("s", 1, 1.0, t),
    "rule": lambda r, t: r.rule("s", b"", received_at=t),
    "act": lambda r, t: r.act(1, {"kind": "status"}, server_time=t),
}


@pytest.mark.parametrize("name", CALLS)
@pytest.mark.parametrize("case", NO_TIMES)
def test_a_server_time_that_cant_be_one_is_refused_before_anything_changes(name, case):
    """The message says what was given, what was expected and the likely mistake; the match is as it was."""
    value, message = NO_TIMES[case]
    if value is None and name in (
        "damage",
        "spawn",
        "set_position",
        "admit",
        "add_entity",
        "dismiss",
        "hand_over",
        "set_weapon",
        "snapshot_sent",
    ):
        return  # None is "now" there
    here = Range(RULES, None)
    here.referee.events()
    before, place = here.referee.state(), here.referee.position(1)
    with pytest.raises(BadNumberError, match=message):
        CALLS[name](here.referee, value)
    assert (here.referee.state(), here.referee.position(1), here.referee.events()) == (before, place, [])
    assert here.shoot().outcome == "accepted"


BAD_NAMES = ["x" * 201, "nul\0", "half \ud83d", 7, None, b"bytes"]


@pytest.mark.parametrize("wrong", BAD_NAMES)
@pytest.mark.parametrize("field", ["account", "connection", "name", "team"])
def test_names_that_no_store_holds_are_refused_at_the_door(field, wrong):
    """One account with a NUL or of 201 characters must not make a whole match unweighable later."""
    here = Range(RULES, None)
    before = here.referee.state()
    who = {"connection": "n", "account": "n", "rig": "gardener", "name": "n", "team": "t", field: wrong}
    with pytest.raises((BadNameError, UnknownNameError)):
        here.referee.admit(**who)
    assert here.referee.state() == before
    assert here.referee.admit(**{**who, field: "ü" * 200}) == 3


def test_a_drawing_that_is_none_is_refused():
    """`set_interpolation(None)` would fail at that connection's next claim; it fails at once."""
    here = Range(RULES, None)
    for wrong in (None, {}, tinclock.Interpolation(math.nan), tinclock.Interpolation(between="sometimes")):
        with pytest.raises(BadNumberError, match="interpolation"):
            here.referee.set_interpolation("s", wrong)
    assert here.shoot().outcome == "accepted"


def test_numpy_numbers_are_taken_everywhere_and_recorded_as_they_were(tmp_path):
    """A server that computes in arrays hands over array scalars; the recording still rules again bit for bit."""
    referee = tinclock.Referee(RULES, seed=3)
    with tinclock.recordings.Recorder(tmp_path / "m", referee) as server:
        one = server.admit(connection="s", account="s", rig="gardener", server_time=np.float64(0.0))
        two = server.admit(
            connection="r", account="r", rig="gardener", interpolation=tinclock.Interpolation(np.float32(0.1))
        )
        rest = referee.history.rigs["gardener"].rest
        pose = np.hstack([rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(rest), 1))])
        for tick in np.arange(20):
            server.record(
                tick, tick / np.float64(64), np.array([one, two]), np.stack([pose, pose + [3, 0, 0, 0, 0, 0, 0]])
            )
            server.snapshot_sent(tick, np.float64(tick / 64))
            server.advance(np.float64(tick / 64))
        server.set_position(np.int64(one), np.array([1.0, 2.0, 0.0]), np.float64(0.3))
        server.damage(np.int64(two), np.float32(5.0), server_time=np.float64(0.3))
        nonce = server.ping("s", np.float64(0.3))
        server.pong("s", nonce, np.float64(9.0), np.float64(0.35))
        eye = np.array(referee.history.eye_now(one))
        aim = tuple(np.array([1.0, 0.0, 0.0]))
        shot = tinclock.claims.ShotClaim(np.int64(1), np.int64(one), "grit_rifle", tuple(eye), aim,
                                  View(np.int64(18), np.int64(19), np.float64(0.5)))  # fmt: skip
        assert server.rule("s", shot, received_at=np.float64(0.36)).outcome == "accepted"
        server.spawn(np.int64(two), np.float64(0.4))
    assert replay(Recording(tmp_path / "m")).as_recorded


def test_a_pong_that_was_stamped_before_the_last_ping_is_taken():
    """The network thread stamps, the loop pings: a millisecond out of order is no mistake of anybody's."""
    referee = tinclock.Referee(RULES, seed=1)
    referee.admit(connection="c", account="a", rig="gardener")
    gateway = Gateway(referee, "c", account="a")
    gateway.receive(msgspec.msgpack.encode(Join((2,))), 0.0)
    first = referee.ping("c", 1.000)
    second = referee.ping("c", 1.041)
    for nonce, at in ((first, 1.040), (second, 1.0405)):
        pong = msgspec.msgpack.encode({"kind": "pong", "nonce": nonce, "client_time": 5.0})
        assert gateway.receive(pong, at) is None
    clock = referee.clock("c")
    assert (clock.answers, clock.round_trip_s) == (1, pytest.approx(0.040))
    referee.ping("c", 1.0)  # and a loop that is behind its network thread pings without an error


TOO_MUCH = {
    "pellets": ("gravel_scatter", {"pellets": 10_000_000}, r"weapons\.gravel_scatter\.pellets"),
    "a magazine": ("hose", {"magazine": 2**70}, r"weapons\.hose\.magazine"),
    "an interval": ("hose", {"interval_s": 1e-9}, r"weapons\.hose\.interval_s"),
    "victims": ("trowel", {"victims": 10**9}, r"weapons\.trowel\.victims"),
}


@pytest.mark.parametrize("case", TOO_MUCH)
def test_rules_that_no_server_could_carry_out_are_refused_with_their_key(case, tmp_path):
    """A legal number must not cost twenty seconds a shot: bounds, each with its key path."""
    weapon, fields, message = TOO_MUCH[case]
    tables = msgspec.to_builtins(RULES)
    tables["weapons"][weapon] |= fields
    with pytest.raises(RulesError, match=message):
        tinclock.parse_rules(tables, "rules")
    assert contradictions(RULES) == []
