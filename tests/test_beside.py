"""A match whose rules change while it runs, and one that is ruled beside a live game without being enforced."""

from __future__ import annotations

import json
from typing import Any

import msgspec
import pytest
from click.testing import CliRunner
from test_serving import RULES, Asker, shot

import tinclock
from tinclock.cli.main import main
from tinclock.core.analysis.own_results import agreement
from tinclock.errors import RulesError
from tinclock.garden.scenario import load_garden
from tinclock.intake.settings import with_setting
from tinclock.recordings import Recording, history_around, replay
from tinclock.serve.hub import Hub
from tinclock.testing import Stage
from tinclock.wire import client_rules


@pytest.fixture(scope="module")
def rules():
    return load_garden().rules


def duel(rules: Any, record_to: Any = None) -> Stage:
    """Two who stand five metres apart, a second into the match."""
    stage = Stage(rules, record_to=record_to)
    stage.enter("ada", (0.0, 0.0, 0.0), weapon="grit_rifle", team="copper")
    stage.enter("bob", (5.0, 0.0, 0.0), weapon="grit_rifle", team="pewter")
    stage.run(1.0)
    return stage


def server_of(stage: Stage) -> Any:
    return stage._server


def test_other_rules_hold_from_the_next_tick_on_and_everybody_is_told(rules, tmp_path):
    """The same shot does the old damage until a tick is recorded, then the new; the recording rules again as it was."""
    double = with_setting(rules, "weapons.grit_rifle.damage", 2.0 * rules.weapons["grit_rifle"].damage)
    double = with_setting(double, "weapons.grit_rifle.range_m", 77.0)
    with duel(rules, tmp_path / "r") as stage:
        first = stage.shoot("ada", "bob", part="chest")
        server_of(stage).change_rules(double)
        again = server_of(stage).rule("ada", b"{}", received_at=stage.now)
        assert again.outcome == "rejected"
        assert stage.referee.rules is rules
        stage.run(0.5)
        assert stage.referee.rules == double
        second = stage.shoot("ada", "bob", part="chest")
        told = [event for event in stage.referee.events(since=0) if event.kind == "rules"]
    assert second.hits[0].damage == 2.0 * first.hits[0].damage > 0.0
    assert [event.digests for event in told] == [client_rules(double).digests]
    assert told[0].digests != client_rules(rules).digests
    assert "other rules hold from now on" in told[0].explain()
    source = Recording(tmp_path / "r")
    assert replay(source).as_recorded
    assert history_around(source, source.ruling(second.number)).rules == double
    assert history_around(source, source.ruling(first.number)).rules == rules
    other = replay(source, rules=with_setting(rules, "view.max_rewind_s", 0.3))
    assert [refused.call for refused in other.refused] == ["change_rules"]


def test_magazines_stay_cut_down_to_what_other_rules_allow(rules):
    """Nobody is given rounds by a change, and nobody keeps more than there is room for."""
    stage = duel(rules)
    held = stage.referee._roster.actors[1].weapons["gravel_scatter"]
    server_of(stage).set_weapon(1, "gravel_scatter")
    stage.run(1.0)
    assert stage.shoot("ada", "bob").outcome == "accepted"
    seen = [held.magazine]
    for rounds in (3, 5):
        server_of(stage).change_rules(with_setting(rules, "weapons.gravel_scatter.magazine", rounds))
        stage.run(0.1)
        seen.append(held.magazine)
    assert seen == [4, 3, 3]
    stage.run(1.0)
    assert stage.shoot("ada", "bob").outcome == "accepted"
    assert held.magazine == 2


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("match.tick_rate_hz", 30.0), r"match.tick_rate_hz: is 64.0 and can't become 30.0 while a match runs"),
        (("rigs.gardener.health", 7.0), r"rigs.gardener: differs; the history holds bodies"),
        (("match.mode", "shadow"), r"match.mode: is 'live'"),
        (("view.max_rewind_s", 99.0), r"history_s"),
    ],
)
def test_what_a_running_match_cant_change_is_refused_and_changes_nothing(rules, change, why):
    """All that is wrong is named, and the match goes on by its rules."""
    stage = duel(rules)
    with pytest.raises(RulesError, match=why):
        server_of(stage).change_rules(with_setting(rules, *change))
    without = msgspec.structs.replace(
        rules, weapons={name: one for name, one in rules.weapons.items() if name != "grit_rifle"}
    )
    with pytest.raises(RulesError, match=r"weapons\.grit_rifle: somebody carries it"):
        server_of(stage).change_rules(without)
    stage.run(0.2)
    assert stage.referee.rules is rules
    assert stage.shoot("ada", "bob").outcome == "accepted"


def test_beside_a_live_game_everything_is_ruled_and_nothing_applied(rules, tmp_path):
    """Damage is what it would be, health stays until the server itself takes it, a move that is refused is followed."""
    with duel(with_setting(rules, "match.mode", "shadow"), tmp_path / "r") as stage:
        first = stage.shoot("ada", "bob", part="chest")
        (hit,) = first.hits
        assert (first.outcome, hit.damage > 0.0, hit.health_after < hit.health_before) == ("accepted", True, True)
        assert stage.referee.ledger.health(2) == hit.health_before
        assert not [e for e in stage.referee.events(since=0) if e.kind == "health"]
        server = server_of(stage)
        server.report_server_result("ada", first.sequence, [(2, hit.damage)])
        stage.run(0.5)
        second = stage.shoot("ada", "bob", part="chest")
        server.report_server_result("ada", second.sequence)
        server.damage(2, 30.0, cause="shot")
        assert stage.referee.ledger.health(2) == hit.health_before - 30.0
        server.set_position(1, (0.0, 0.0, 0.0))
        for k, x in enumerate((0.02, 9.0, 9.02)):
            move = tinclock.claims.MoveClaim(900 + k, 1, (x, 0.0, 0.0), 100.0 + stage.now)
            ruling = server.rule("ada", msgspec.msgpack.encode(move), received_at=stage.now)
            stage.run(0.1)
        assert (ruling.outcome, stage.referee.position(1)[0]) == ("accepted", 9.02)
    assert replay(Recording(tmp_path / "r")).as_recorded
    told = CliRunner().invoke(main, ["compare-server", str(tmp_path / "r"), "--json"])
    report = json.loads(told.stdout)
    assert report["agreement"] == {
        "same": 1, "other damage": 0, "other victims": 0, "only the server's": 0, "only the ruling's": 1
    }  # fmt: skip
    assert (report["differing"][0]["ruling"], report["differing"][0]["server"]) == (second.number, [])
    said = CliRunner().invoke(main, ["compare-server", str(tmp_path / "r")]).output
    assert "1 of 2 claims came out as your server has them (50.0%)" in said
    assert "nobody" in said


@pytest.mark.parametrize(
    ("own", "word"),
    [
        ([], "only the ruling's"), ([(2, 0.0)], "only the ruling's"), ([(3, 10.0)], "other victims"),
        ([(2, 3.0)], "other damage"),
    ],
)  # fmt: skip
def test_how_results_differ_has_a_word(rules, own, word):
    """A hit for no damage is none; the sum over a victim's parts counts."""
    hit = duel(rules).shoot("ada", "bob", part="chest")
    assert agreement(hit, own) == word
    whole = hit.hits[0].damage
    assert agreement(hit, [(2, whole / 2), (2, whole / 2)]) == "same"
    miss = duel(rules).shoot("ada", (5.0, 0.0, 9.0))
    assert (agreement(miss, []), agreement(miss, [(2, 1.0)])) == ("same", "only the server's")


@pytest.mark.parametrize("form", ["msgpack", "json"])
def test_a_server_that_parses_nothing_hands_on_bytes(rules, form):
    """Join, claim, repeat, pong and news go through each connection's gateway; strangers are answered with nothing."""
    encode, decode = getattr(msgspec, form).encode, getattr(msgspec, form).decode
    ask = Asker(Hub())
    ask.play(ticks=14)
    now = 13 / 64

    def send(*messages: tuple[str, bytes]) -> tuple[list[Any], list[str]]:
        told = ask("messages", messages=[(name, now + 0.03, data) for name, data in messages])
        assert told["ok"], told
        sent = [(name, decode(data)) for name, data in told.get("outgoing", [])]
        return sent, [one["outcome"] for one in told.get("rulings", [])]

    def deliver(**more: bool) -> list[Any]:
        return [decode(data) for _, data in ask("outgoing", server_time=now, **more).get("outgoing", [])]

    join = {"kind": "join", "versions": [2], "digests": client_rules(rules).digests}
    claim = encode(msgspec.msgpack.decode(shot()))
    assert send(("stranger", encode(join)), ("c0", claim)) == (
        [("c0", {"kind": "join_refused", "reason": "not_a_join", "versions": [2]})], []
    )  # fmt: skip
    ((_, joined),), _ = send(("c0", encode(join)))
    assert (joined["kind"], joined["entity"], joined["same_rules"]) == ("join_accepted", 1, True)
    ((_, first),), outcomes = send(("c0", claim))
    assert (first["receipt"]["outcome"], outcomes) == ("accepted", ["accepted"])
    ((_, again),), outcomes = send(("c0", claim))
    assert (again["receipt"]["hits"], outcomes) == (first["receipt"]["hits"], ["rejected"])
    news, ping = deliver(ping=True)
    assert [event["kind"] for event in news["events"]] == ["health"]
    pong = {"kind": "pong", "nonce": ping["nonce"], "client_time": 5.0}
    assert send(("c0", encode(pong))) == ([], [])
    assert ask("query", about={"what": "connection", "connection": "c0"})["answer"]["answers"] == 1
    assert deliver() == []
    assert send(("c0", b"x" * 5000), ("c0", b"\xff"))[1] == ["rejected"]
    assert ask("list_matches")["matches"][0]["dropped"] == 1
    assert ask("call", call="change_rules", arguments={"rules": RULES.replace("health = 100", "health = 80")})["ok"]
    ask.tick("m", 14)
    assert deliver()[0]["events"][0]["kind"] == "rules"
    assert send(("c0", encode({**join, "digests": {}})))[0][0][1]["same_rules"] is False
    assert ask("call", call="dismiss", arguments={"connection": "c0"})["ok"]
    assert send(("c0", claim)) == ([], [])
