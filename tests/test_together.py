"""Claims alone and together, numbers that become words late, and the rows that kernels read."""

from __future__ import annotations

import math
import pickle
from collections import Counter, deque
from itertools import pairwise
from pathlib import Path
from statistics import fmean
from typing import Any

import msgspec
import numpy as np
import pytest
import test_refusals
from conftest import Range
from hypothesis import example, given
from hypothesis import strategies as st
from test_refusals import everything

import tinclock
import tinclock.errors
from tinclock.core.analysis.ruling_diff import told as compared
from tinclock.core.findings import DEFAULTS, FINDINGS
from tinclock.core.kernels.dtypes import LINE
from tinclock.core.kernels.facts import FINDING, MEASURE
from tinclock.core.kernels.lengths import length_of
from tinclock.core.rules.actions import ALWAYS_REJECTED, NEVER_REJECTED
from tinclock.core.ruling import pipeline
from tinclock.core.ruling.check_results import Measure
from tinclock.core.ruling.claims import MoveClaim, StatusClaim, WeaponActionClaim
from tinclock.core.ruling.records import brief_of
from tinclock.core.ruling.trace import _WORDS
from tinclock.core.timeline.lag import LagTracker, Said
from tinclock.core.timeline.least import Least
from tinclock.core.timeline.queue import NumberQueue
from tinclock.recordings import Recording, replay
from tinclock.sample import data_file

json = msgspec.json.encode
numbers = st.floats(-1e6, 1e6, allow_nan=False).filter(lambda x: x == 0.0 or abs(x) > 1e-100)


def mail(here: Range) -> list[tuple[str, object, float]]:
    """What two clients send in half a second: shots, moves, what is no claim, repeats, reloads and a stranger's."""
    dice, out = np.random.default_rng(5), []
    for k in range(80):
        at = here.now + k / 160
        shot = here.aimed(bone=int(dice.integers(0, 6)))
        choice = int(dice.integers(0, 10))
        if choice < 4:
            out.append(("s", shot, at))
            continue
        here.sequence -= choice > 7
        odd = [
            msgspec.structs.replace(shot, victim=here.runner, damage=1e6),
            MoveClaim(
                shot.sequence,
                here.shooter,
                (-9.0 + 0.01 * k, 3.0, 0.0),
                at - 0.01 * float(dice.random()),
                None,
                shot.view,
            ),
            WeaponActionClaim(shot.sequence, here.shooter, "gravel_scatter" if k % 2 else "grit_rifle", "draw"),
            StatusClaim(shot.sequence, here.shooter, health=100.0),
            {"kind": "shot"},
            msgspec.structs.replace(shot, direction=(0.0, 0.0, 2.0)),
        ][choice - 4]
        out.append(("nobody" if k == 33 else "s", odd, at))
        if k % 11 == 0:
            out.append(out[-1])
    return out


def scene(rules: tinclock.Rules, level: tinclock.Level, record_to: Path | None = None, **settings: Any) -> Range:
    """A range whose shooter may report moves, and whose runner dies of the second hit or so."""
    limits = {"fire_rate": {"tolerance_s": 0.4}, "view": {"max_rewind_s": 0.155}, **settings}
    here = Range(rules, level, record_to=record_to, **limits)
    here.server.set_position(here.shooter, (-9.0, 3.0, 0.0), here.now)
    here.server.damage(here.runner, 85.0, server_time=here.now)
    return here


def told(here: Range, rulings: list[tinclock.Ruling]) -> list[bytes]:
    """Everything that came of claims: rulings, receipts, events and the state after them."""
    rulings_told = [json(one) + json(one.receipt()) for one in rulings]
    return [*rulings_told, *map(json, here.referee.events()), json(here.referee.state())]


@given(st.sets(st.integers(0, 90), max_size=6))
def test_one_claim_many_and_any_split_of_the_many_are_ruled_alike(rules, level, cuts):
    """Whether claims come one by one, all at once or in any parts, every byte of what comes of them is the same."""
    alone, together = scene(rules, level), scene(rules, level)
    sent = mail(alone)
    one_by_one = [alone.referee.rule(name, claim, received_at=at) for name, claim, at in sent]
    edges = [0, *sorted(cut for cut in cuts if cut < len(sent)), len(sent)]
    parts = [ruling for begin, end in pairwise(edges) for ruling in together.referee.rule_many(sent[begin:end])]
    assert {one.outcome for one in parts} == {"accepted", "adjusted", "rejected"}
    assert told(together, parts) == told(alone, one_by_one)


def test_what_a_move_says_of_the_line_holds_for_the_shot_right_behind_it(rules, level):
    """A move that came up faster than any before bounds the stamp of the next shot, also within one kernel call."""
    alone, together = scene(rules, level), scene(rules, level)
    shot, sent = alone.aimed(), list[tuple[str, object, float]]()
    for k in range(1, 15):
        stamp, trip = alone.now + k / 64, 0.05 if k < 14 else 0.02
        view = msgspec.structs.replace(shot.view, fraction=0.01 * k)
        sent.append(("s", MoveClaim(k, alone.shooter, (-9.0, 3.0, 0.0), stamp, None, view), stamp + trip))
    sent.append(("s", msgspec.structs.replace(shot, sequence=15), sent[-1][2]))
    one_by_one = [alone.referee.rule(name, claim, received_at=at) for name, claim, at in sent]
    assert "display delay" in [step.name for step in one_by_one[-1].checks]
    assert told(together, together.referee.rule_many(sent)) == told(alone, one_by_one)


@pytest.mark.parametrize("tolerance_s", [0.0, 0.4])
@pytest.mark.parametrize("does", ["flag", "adjust", "reject"])
def test_the_short_way_rules_as_the_long_one_does(rules, level, does, tolerance_s, monkeypatch):
    """Plain claims, as data, that a kernel commits, and the same that go check by check: every byte is the same."""
    codes = {code: does for code in DEFAULTS if code not in (ALWAYS_REJECTED if does != "reject" else NEVER_REJECTED)}
    short, long = (
        scene(rules, level, actions=codes, fire_rate={"tolerance_s": tolerance_s}, movement={"speed_m_s": 1.0})
        for _ in range(2)
    )
    sent, found, brief = mail(short), set[str](), Counter[str]()
    for name, claim, at in sent:
        plain = msgspec.to_builtins(claim) if isinstance(claim, msgspec.Struct) else claim
        quick = short.referee.rule(name, plain, received_at=at)
        with monkeypatch.context() as nothing_is_plain:
            nothing_is_plain.setattr(pipeline, "PACKS", {})
            slow = long.referee.rule(name, claim, received_at=at)
        brief["lethal" if any(hit.lethal for hit in slow.hits) else slow.outcome] += brief_of(quick) is not None
        assert compared(quick) == compared(slow)
        assert json(quick) + json(quick.receipt()) == json(slow) + json(slow.receipt())
        found |= {finding.code for finding in quick.findings}
    assert brief["rejected"] > 0, "they took the short way too"
    assert brief["lethal"] > 0 or does == "reject", "nothing hits then"
    assert {"over_rewind_limit", "too_fast"} < found
    assert told(short, []) == told(long, [])
    monkeypatch.setattr(test_refusals, "MEMORY", test_refusals.MEMORY | {"at", "said_at"})  # where rows lie in memory
    monkeypatch.setattr(test_refusals, "NOTED", [*test_refusals.NOTED, LINE.claim_ring, LINE.pong_ring])
    assert everything(short.referee) == everything(long.referee)
    lines = [here.referee._roster.connections["s"] for here in (short, long)]
    assert lines[0].highest_sequence == lines[1].highest_sequence
    assert [one is None for one in lines[0].receipts] == [one is None for one in lines[1].receipts]


def test_a_recording_is_ruled_alike_together_and_one_by_one():
    """Ruling again takes claims together unless somebody looks at each; the digests are those of the recording."""
    looked, source = [], Recording(Path(str(data_file("sample"))))
    alone = replay(source, on_ruling=lambda referee, ruling, claim: looked.append(ruling.number))
    together = replay(source)
    assert alone.as_recorded
    assert together.as_recorded
    assert len(looked) == len(together.rulings)


def test_claims_together_are_recorded_as_claims_one_by_one(rules, level, tmp_path):
    """Every table is the same, with the step of each claim, ruling and event, and it rules again bit for bit."""
    alone, together = (scene(rules, level, tmp_path / name) for name in ("alone", "together"))
    sent = mail(alone)
    one_by_one = [alone.server.rule(name, claim, received_at=at) for name, claim, at in sent]
    assert list(map(json, together.server.rule_many(sent))) == list(map(json, one_by_one))
    for here in (alone, together):
        here.run(2)
        here.server.close()
    first, second = Recording(tmp_path / "alone"), Recording(tmp_path / "together")
    for name in ("claims", "rulings", "events", "ticks", "calls"):
        assert second.piece(name, second.flushes[-1]).to_pylist() == first.piece(name, first.flushes[-1]).to_pylist()
    assert len({row["call_number"] for row in first.piece("events", first.flushes[-1]).to_pylist()}) > 5
    assert replay(second).as_recorded


def test_shots_as_arrays_are_ruled_as_the_same_claims(rules, level):
    """A server that keeps shots in arrays gets the rulings that the claims themselves would get."""
    here, there = scene(rules, level), scene(rules, level)
    claims = [here.aimed(bone=k % 6) for k in range(20)]
    now = here.now
    arrays = tinclock.types.ShotBatch(
        ["s"] * 20, "grit_rifle", [one.sequence for one in claims], here.shooter, [one.origin for one in claims],
        [one.direction for one in claims], [one.view.from_tick for one in claims],
        [one.view.to_tick for one in claims], [one.view.fraction for one in claims], now,
    )  # fmt: skip
    listed = here.referee.rule_many([("s", claim, now) for claim in claims])
    assert told(there, there.referee.rule_many(arrays)) == told(here, listed)
    with pytest.raises(tinclock.errors.BadArrayError, match="origins"):
        there.referee.rule_many(arrays._replace(origins=[[0.0, 0.0]] * 20))
    with pytest.raises(tinclock.errors.BadNumberError, match="received_at"):
        there.referee.rule_many([("s", claims[0], math.nan)])


def test_a_ruling_says_the_same_before_and_after_somebody_read_it(rules, level):
    """Steps are made when they are read: equality, JSON, pickles and repeats don't depend on when that is."""
    here = scene(rules, level)
    claim, now = here.aimed(), here.now
    ruling = here.referee.rule("s", claim, received_at=now)
    again = pickle.loads(pickle.dumps(ruling))
    assert "steps" not in vars(scene(rules, level).referee.rule("s", claim, received_at=now))
    names = [step.name for step in ruling.checks]
    assert [*names[:2], names[-1]] == ["sequence", "form", "damage"]
    assert "fire rate" in names
    assert again == ruling
    assert msgspec.json.decode(json(ruling), type=tinclock.Ruling) == ruling
    assert again.explain() == ruling.explain()
    here.referee.set_weapon(here.shooter, "trowel", now)
    assert here.referee.rule("s", claim, received_at=now).receipt() == ruling.receipt()
    with pytest.raises(AttributeError, match="nonsense"):
        ruling.nonsense  # noqa: B018


@pytest.mark.parametrize("field", ["sequence", "actor", "weapon", "origin", "direction", "view", "client_time", "shot",
                                   "charge", "victim", "part", "damage"])  # fmt: skip
def test_claims_of_odd_python_things_never_raise(rules, level, field):
    """What no message can hold, but Python can, is refused or read as the number that it is, alone and together."""
    for odd in (np.array([1.0, 2.0]), np.array(["grit_rifle"]), object(), True, 10**400, math.nan, -math.inf, "", [1]):
        alone, together = scene(rules, level), scene(rules, level)
        claim = msgspec.structs.replace(alone.aimed(), **{field: odd})
        ruling = alone.referee.rule("s", claim, received_at=alone.now)
        assert ruling.outcome in ("rejected", "adjusted", "accepted")
        assert told(together, together.referee.rule_many([("s", claim, alone.now)])) == told(alone, [ruling])


def test_every_measure_and_finding_of_the_kernels_has_its_words():
    """What compiled checks measure and find is named in the tables that people read; no number is without words."""
    assert set(FINDING._fields) <= set(FINDINGS)
    plain = {name for name in MEASURE._fields if hasattr(Measure, name.upper())}
    assert set(MEASURE._fields) == plain | set(_WORDS)


@given(numbers, numbers, numbers)
def test_lengths_are_correctly_rounded(x, y, z):
    """A length in the kernels is Python's own to the last bit, so that recordings of other versions are ruled alike."""
    assert length_of(x, y, z) == math.dist((0.0, 0.0, 0.0), (x, y, z))


@given(st.lists(st.floats(0.05, 0.3), min_size=8, max_size=60))
def test_the_tracked_lag_is_the_mean_of_the_middle_half(lags):
    """What a client said of its lag in a second is taken without its outer quarters, exactly rounded."""
    tracker = LagTracker()
    stamps = [2.0 + 0.01 * k for k in range(len(lags))]
    for stamp, lag in zip(stamps, lags, strict=True):
        tracker.take(Said(stamp, stamp - lag, stamp + 0.03 - lag * 0.0, False))
    said = sorted(stamp - (stamp - lag) for stamp, lag in zip(stamps, lags, strict=True))
    outer = len(said) // 4
    forgotten = np.isnan(tracker.lag_s) or tracker.lag_s != fmean(said[outer : len(said) - outer])
    jumps = np.abs(np.diff(lags)).max() > 0.1  # a leap like a clock that was set begins anew
    assert not forgotten or jumps


def test_a_flood_of_messages_moves_the_tracked_lag_no_faster():
    """However often a client says another lag within a second, the mean of that whole second is what it is held to."""
    tracker = LagTracker()
    for k in range(200):
        tracker.take(Said(2.0 + 0.001 * k, 1.9 + 0.001 * k, 2.05 + 0.001 * k, False))
    for k in range(600):  # the same second goes on
        tracker.take(Said(2.2 + 0.001 * k, 2.05 + 0.001 * k, 2.25 + 0.001 * k, False))
    assert tracker.lag_s == pytest.approx(0.1)


@given(st.lists(st.one_of(st.none(), numbers), max_size=300))
def test_a_queue_of_rows_holds_what_a_deque_would(moves):
    """Rows that come in and go, over many moves of their memory, are those of a plain queue, in one piece."""
    queue, model = NumberQueue(2), deque()
    for move in moves:
        if move is not None:
            queue.append((move, -move))
            model.append((move, -move))
        elif model:
            queue.pop()
            model.popleft()
    assert queue.count == len(model)
    held = (
        np.ctypeslib.as_array((np.ctypeslib.ctypes.c_double * (2 * queue.count)).from_address(queue.at))
        if queue.count
        else np.zeros(0)
    )
    assert held.reshape(-1, 2).tolist() == [list(row) for row in model]


@example([(0.01, 0.03)], 1200)
@given(st.lists(st.tuples(st.floats(0.0, 0.05), st.floats(-0.1, 0.1)), max_size=60), st.integers(1, 40))
def test_the_least_of_a_window_is_what_a_plain_list_would_give(steps, each):
    """Least value, count and span are those of all values that the window holds, however often its ring grew."""
    least, held, now = Least(20.0), list[tuple[float, float]](), 0.0
    for k in range(each * len(steps)):
        step, value = steps[k % len(steps)]
        now += step
        value *= 1.0 + (k * 0.7) % 1.0
        held = [one for one in held if one[0] >= now - 20.0] + [(now, value)]
        least.take(now, value)
        assert (least.value, least.count, least.span_s) == (min(v for _, v in held), len(held), now - held[0][0])
