"""Many settings ruled in one pass over a recording, against a pass for each of them."""

from __future__ import annotations

from collections import Counter
from itertools import chain, cycle
from typing import Any

import msgspec
import numpy as np
import pytest
import test_refusals
from conftest import Range
from test_refusals import everything
from test_together import mail, scene

import tinclock
from tinclock.core.analysis.ruling_diff import told
from tinclock.core.analysis.tally import tally
from tinclock.core.combat import connections
from tinclock.core.kernels.checks.sender import FURTHEST_SKIP
from tinclock.core.kernels.dtypes import LINE
from tinclock.core.ruling.abreast import Abreast
from tinclock.core.ruling.claims import MoveClaim
from tinclock.core.ruling.short_way import Counted
from tinclock.recordings import (
    Recorder,
    Recording,
    diff_rulings,
    replay,
    replay_sweep,
    sides,
    sweeps,
    with_setting,
    without_deaths,
)
from tinclock.sample import simulate_match


@pytest.fixture(scope="module")
def garden(tmp_path_factory) -> Recording:
    """A match of eight gardeners that die, fly things, open the shed's door and report their moves."""
    folder = tmp_path_factory.mktemp("sweeps") / "match"
    simulate_match(seed=5, seconds=9.0, players=8, record_to=folder)
    return Recording(folder)


@pytest.fixture(scope="module")
def gathering(rules, level, tmp_path_factory) -> Recording:
    """People come and go all the time, ticks come five times as fast as the rules say, poses are kept at half size."""
    folder, dice = tmp_path_factory.mktemp("sweeps") / "gathering", np.random.default_rng(3)
    slow = msgspec.structs.replace(rules, match=msgspec.structs.replace(rules.match, tick_rate_hz=64.0, history_s=0.5))
    server = Recorder(folder, tinclock.Referee(slow, level=level, seed=4, storage="half"))
    rest = server.referee.history.rigs["gardener"].rest
    here: dict[int, str] = {}
    sent: dict[int, int] = {}
    for tick in range(400):
        at = tick / 320
        if tick % 9 == 0 and len(here) < 14:
            name = f"c{tick}"
            team = ("one", "two")[tick % 2]
            here[server.admit(connection=name, account=name, team=team, rig="gardener", weapon="grit_rifle")] = name
            server.pong(name, server.ping(name, at), at + 5.0, at + 0.002)
        if tick % 31 == 30:
            entity = int(dice.choice(list(here)))
            server.dismiss(here.pop(entity), server_time=at)
        places = {entity: (3.0 * (entity % 5), 2.0 * (entity // 5), 0.0) for entity in here}
        poses = [np.hstack([rest + place, np.tile([0.0, 0.0, 0.0, 1.0], (len(rest), 1))]) for place in places.values()]
        server.record(tick, at, list(here), poses)
        if tick % 2 == 0:
            server.snapshot_sent(tick)
        if tick > 40 and tick % 3 == 0:
            shooter, victim = (int(entity) for entity in dice.choice(list(here), 2, replace=False))
            eye = np.array(server.referee.history.eye_now(shooter) or (0.0, 0.0, 1.5))
            way = np.array(places[victim]) + (0.0, 0.0, 1.2) - eye
            number = sent[shooter] = sent.get(shooter, 0) + 1
            server.rule(here[shooter], tinclock.claims.ShotClaim(
                number, shooter, "grit_rifle", tuple(eye.tolist()), tuple((way / np.linalg.norm(way)).tolist()),
                tinclock.View(tick - tick % 2 - 20, tick - tick % 2 - 18, 0.5), victim=victim if tick % 4 else None,
            ), received_at=at)  # fmt: skip
        if server.referee.ledger.dead and tick % 40 == 0:
            server.spawn(min(server.referee.ledger.dead), server_time=at)
        server.advance(at)
    server.close()
    return Recording(folder)


def one_by_one(source: Recording, rules: tinclock.Rules) -> tuple[Any, ...]:
    """What a pass of its own says of a setting, in the fields of `SweepResult`."""
    found = replay(source, rules=rules)
    steps = [step for flush in source.flushes for step in source.piece("rulings", flush)["call_number"].to_pylist()]
    flips = diff_rulings(list(source.rulings()), steps, found.rulings, found.call_numbers).flips
    kills = sum(event.kind == "death" for event in found.events)
    damage = pytest.approx(sum(ruling.damage for ruling in found.rulings))
    return (*tally(found.rulings)["outcomes"].values(), damage, kills, len(flips), len(found.refused))


def without(rules: tinclock.Rules, weapon: str) -> tinclock.Rules:
    """The same rules, but for the weapon that everybody comes with, so that nobody can be admitted."""
    return msgspec.structs.replace(rules, weapons={name: one for name, one in rules.weapons.items() if name != weapon})


SETTINGS: dict[str, Any] = {
    "nobody can join": lambda rules: without(rules, "grit_rifle"),
    "as recorded": lambda rules: rules,
    "a young view": lambda rules: with_setting(rules, "view.max_rewind_s", 0.08),
    "deadly": lambda rules: with_setting(rules, "weapons.grit_rifle.damage", 1000.0),
    "harmless": lambda rules: with_setting(rules, "weapons.grit_rifle.damage", 0.0),
    "slow": lambda rules: with_setting(rules, "movement.speed_m_s", 2.0),
    "long memory": lambda rules: with_setting(rules, "match.history_s", 2.0),
    "weak": lambda rules: with_setting(rules, "match.health", 20.0),
    "nothing enforced": lambda rules: with_setting(rules, "match.mode", "shadow"),
}


@pytest.mark.parametrize("match", ["garden", "gathering"])
def test_a_range_in_one_pass_gives_what_a_pass_for_each_setting_gives(match, request):
    """Outcomes, damage, deaths, flips and refused calls are the same, whoever dies, comes and goes by each setting."""
    source = request.getfixturevalue(match)
    rules = source.require_header().rules
    tried = {name: change(rules) for name, change in SETTINGS.items()}
    found = dict(zip(tried, replay_sweep(source, list(tried.values())), strict=True))
    assert {name: tuple(found[name]) for name in tried} == {name: one_by_one(source, tried[name]) for name in tried}
    assert found["as recorded"].flipped == 0
    assert found["deadly"].flipped > 0
    assert found["nobody can join"].accepted == 0
    assert len({(one.accepted, one.damage) for one in found.values()}) >= 5, "settings that change nothing show nothing"
    undying_rules = without_deaths(rules)
    assert replay_sweep(source, [undying_rules], against=undying_rules)[0].flipped == 0


def test_poses_are_stored_once_for_all_settings_that_store_alike(gathering, monkeypatch):
    """Only a setting that remembers longer has a history of its own, and one in which nobody joins is ruled alone."""
    rules, histories, alone = gathering.require_header().rules, [], []
    monkeypatch.setattr(sweeps, "history_for", lambda *given: histories.append(one := kept(*given)) or one)
    monkeypatch.setattr(sides, "history_for", lambda *given: alone.append(one := kept(*given)) or one)
    replay_sweep(gathering, [change(rules) for change in SETTINGS.values()])
    assert [history.history_s for history in histories] == [0.5, 2.0]
    assert len(alone) == 1
    assert histories[0].capacity > 0.5 * 64 + 2, "the ring had to grow"


kept = sweeps.history_for


def test_who_left_tells_two_matches_apart(rules):
    """Columns are known to be alike by a number for who came and went, in order."""
    layouts = set()
    for gone in (1, 2, 3):
        history = kept(rules, "full")
        for entity in (1, 2, 3):
            history.add(entity, "gardener")
        history.remove(gone)
        layouts.add(history.columns.layout)
    assert len(layouts) == 3


def post(here: Range) -> list[tuple[str, Any, float]]:
    """What two clients send, shots with stamps, and one that leaps ahead, comes again, and then is no leap any more."""
    sent: list[tuple[str, Any, float]] = []
    for name, claim, at in mail(here):
        stamped = type(claim) is tinclock.claims.ShotClaim
        sent.append((name, msgspec.structs.replace(claim, client_time=at + 1.95) if stamped else claim, at))
    at, number = sent[-1][2] + 0.05, here.sequence
    far = number + FURTHEST_SKIP + 2
    numbers = enumerate((number + 1, far, far, number + 9, far, far + 1))
    return sent + [("s", step_of(here, number, at + k / 50), at + k / 50) for k, number in numbers]


def step_of(here: Range, sequence: int, at: float) -> MoveClaim:
    """A report that the shooter stands where it stands, and sees what was 150 ms ago."""
    view = tinclock.View(here.tick - 11, here.tick - 9, 0.5)
    return MoveClaim(sequence, here.shooter, (-9.0, 3.0, 0.0), client_time=at + 1.95, view=view)


@pytest.mark.parametrize("first", ["plain", "another weapon", "ahead"])
def test_claims_that_are_only_counted_leave_what_they_leave_when_they_are_ruled(rules, level, monkeypatch, first):
    """Rows that one referee packed serve another that shoots with something else, or had a later claim already."""
    monkeypatch.setattr(test_refusals, "MEMORY", test_refusals.MEMORY | {"at", "said_at"})  # where rows lie in memory
    monkeypatch.setattr(test_refusals, "NOTED", [*test_refusals.NOTED, LINE.claim_ring, LINE.pong_ring])
    monkeypatch.setattr(connections, "MAX_AT_ONCE", 4)  # so that there is soon no more room for what stamps say
    sent = post(scene(rules, level))
    pairs = [(scene(rules, level), scene(rules, level)) for _ in range(4)]
    for way, pair in zip((first, "another weapon", "plain", "ahead"), pairs, strict=True):
        for one in pair:
            if way == "another weapon":
                one.referee.set_weapon(one.shooter, "hose", one.now)
            elif way == "ahead":
                for number in range(60, 76):
                    one.referee.rule("s", step_of(one, number, one.now + number / 200), received_at=one.now)
    together, kinds, at = Abreast(), Counter[type](), 0
    for size in chain([1, 2, 3] * ((len(sent) - 6) // 6), cycle([1])):
        part = sent[at : (at := at + size)]
        if not part:
            break
        if at == len(sent):
            part = [*part, (part[0][0], msgspec.structs.replace(part[0][1]), part[0][2])]  # the same once more
        found = together.count(part, [counting.referee._pipeline for counting, _ in pairs])
        for (_, ruling), counted in zip(pairs, found, strict=True):
            kinds.update(map(type, counted))
            ruled = [told(one) for one in ruling.referee.rule_many(part)]
            assert [one if isinstance(one, Counted) else told(one) for one in counted] == ruled
    for counting, ruling in pairs:
        assert everything(counting.referee) == everything(ruling.referee)
    assert min(kinds[Counted], kinds[tinclock.Ruling]) > 40
