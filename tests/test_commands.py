"""One kind of command: whatever changes a match is one, and survives a recording."""

from __future__ import annotations

import inspect
from typing import get_args

import msgspec
import numpy as np
import pytest

import tinclock
from tinclock.core.rules.game import CounterRules, GameFindingRules, PhaseRules
from tinclock.core.rules.movement import StanceRules
from tinclock.core.ruling.calls import MatchCalls
from tinclock.core.ruling.commands import (
    CHANGES,
    KINDS,
    Command,
    Damage,
    MarkTeleport,
    SetPosition,
    name_of,
    read_change,
)
from tinclock.errors import BadNumberError, ReadOnlyError
from tinclock.garden.scenario import load_garden
from tinclock.recordings.history_slice import history_around
from tinclock.serve.requests import Call

ASKS = {
    "welcome",
    "state",
    "events",
    "clock",
    "display_delays",
    "view_bounds",
    "view_window",
    "melee_targets",
    "has_connection",
    "account_of",
    "position",
    "spread_key",
    "scoreboard",
    "preview",
    "game_findings",
}
"""Methods of the referee that change nothing a ruling looks at (`events` moves its own reader's mark on)."""
EXTRAS = {
    "add_entity": {"rig": "sprinkler", "weapon": "sprinkler_jet"},
    "admit_spectator": {"connection": "c-9", "account": "idle"}, "remove": {"entity": 3},
    "hand_over": {"entity": 4, "connection": "c-1"}, "spawn": {"entity": 2}, "mark_teleport": {"entity": 2},
    "damage": {"entity": 2, "points": np.float64(3.5)}, "set_weapon": {"entity": 1, "weapon": "trowel"},
    "set_position": {"entity": np.int64(1), "position": (0.5, 0.0, 0.0)}, "set_homing_target": {"projectile": 1,
    "entity": 2},
    "set_interpolation": {"connection": "c-1", "interpolation": tinclock.Interpolation(between="nearest")},
    "ping": {"connection": "c-1", "sent_at": 0.2}, "pong": {"connection": "c-1", "nonce": 1e300,
             "client_time": "x", "received_at": 0.3},
    "report_view": {"connection": "c-1", "view": (0, 8, 0.5), "client_time": 7.25, "received_at": 0.35},
    "act": {"entity": 5, "claim": {"kind": "weapon_action", "weapon": "sprinkler_jet", "action": "stop"},
    "server_time": 0.4},
    "change_rules": {"rules": None},
    "heal": {"entity": 2, "health": 2.0, "armour": 5.0, "by": 1}, "set_team": {"entity": 2, "team": "copper"},
    "set_health": {"entity": 1, "health": 50.0, "armour": 10.0, "max_health": 120.0},
    "give_weapon": {"entity": 1, "weapon": "hose", "magazine": 3}, "take_weapon": {"entity": 1, "weapon": "trowel"},
    "set_item": {"entity": 1, "item": "oil_can", "count": 3}, "push": {"entity": 1, "velocity": (3.0, 0.0, 2.0)},
    "set_effect": {"entity": 1, "effect": "speed", "duration_s": 2.0, "amount": 1.5},
    "add_score": {"points": 5.0, "entity": 1}, "set_counter": {"entity": 1, "counter": "coins", "value": 3.0},
    "set_vehicle": {"entity": 1, "vehicle": 4}, "set_stance": {"entity": 1, "stance": "crouch"},
    "add_finding": {"connection": "c-1", "sequence": 9, "code": "no_mana", "observed": 1.0},
    "set_phase": {"phase": "freeze"}, "reset_round": {"scores": True},
    "report_server_result": {"connection": "c-1", "sequence": 1, "hits": ((2, 5.0),)},
    "advance": {"server_time": 0.5}, "dismiss": {"connection": "c-2"}, "snapshot_sent": {"tick": 12},
}  # fmt: skip


def stand(server: MatchCalls, tick: int, places: dict[int, float]) -> None:
    """Bodies upright at places along x, and the snapshot of it."""
    rig = tinclock.Rig("gardener", load_garden().rules.rigs["gardener"])
    roots = [[x, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0] for x in places.values()]
    server.record(tick, tick / 64, list(places), tinclock.rooted_bones(rig, roots))
    server.snapshot_sent(tick)


def rules_with_everything() -> tinclock.Rules:
    """The garden's rules with a counter, a phase, a stance and a finding of the game's own."""
    garden = load_garden().rules
    gardener = msgspec.structs.replace(garden.rigs["gardener"], stances={"crouch": StanceRules(speed_m_s=2.0)})
    tables = {
        "counters": {"coins": CounterRules(max_value=9.0)}, "phases": {"freeze": PhaseRules(weapons=False)},
        "rigs": {**garden.rigs, "gardener": gardener}, "game_findings": {"no_mana": GameFindingRules()},
    }  # fmt: skip
    return msgspec.structs.replace(garden, **tables)


def every_command(server: MatchCalls) -> set[str]:
    """A match that is made of each command at least once."""
    rules = load_garden().rules
    for k in (1, 2):
        server.admit(connection=f"c-{k}", account=f"a-{k}", rig="gardener", weapons=list(rules.weapons))
    server.add_entity("shed_door")
    server.add_entity("sprinkler", weapon="sprinkler_jet")
    server.set_position(1, (0.0, 0.0, 0.0))
    for tick in range(12):
        stand(server, tick, {1: 0.0, 2: 4.0})
    launch = tinclock.claims.LaunchClaim(
        1, 1, "pebble_sling", (0.11, 0.0, 1.65), (1.0, 0.0, 0.0), tinclock.View(8, 10, 0.5)
    )
    server.set_weapon(1, "pebble_sling")
    server.rule("c-1", launch, received_at=0.19)
    referee = server if isinstance(server, tinclock.Referee) else server.referee
    rig = referee.history.rigs["gardener"]
    server.record(12, 12 / 64, [1], tinclock.rooted_bones(rig, [[0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0]]))
    for name, arguments in {**EXTRAS, "change_rules": {"rules": rules_with_everything()}}.items():
        getattr(server, name)(**arguments)
    return {"admit", "record", "rule", *EXTRAS}


def test_every_command_survives_a_recording_bit_for_bit(tmp_path):
    """The recorder, the replay and the service list nothing by themselves: a command that is new is kept too."""
    referee = tinclock.Referee(rules_with_everything(), seed=5)
    with tinclock.recordings.Recorder(tmp_path / "all", referee) as recorder:
        assert every_command(recorder) == set(KINDS)
    recording = tinclock.recordings.Recording(tmp_path / "all")
    again = tinclock.recordings.replay(recording)
    assert again.as_recorded
    assert again.refused == []
    tables = (recording.table(name)["call"].to_pylist() for name in ("calls", "pings"))
    assert {call for table in tables for call in table} == set(CHANGES)
    plain = tinclock.Referee(rules_with_everything(), seed=5)
    every_command(plain)
    assert plain.state() == referee.state()


def test_every_public_method_of_the_referee_that_changes_something_is_a_command():
    """What isn't a command isn't recorded, and a recording without it rules otherwise."""
    methods = {
        name for name, one in inspect.getmembers(tinclock.Referee, inspect.isfunction) if not name.startswith("_")
    }
    assert methods == {*KINDS, *ASKS, "apply", "rule_many"}
    assert {name_of(kind) for kind in (MarkTeleport(1), Damage(1, 2.0), SetPosition(1, (0.0, 0.0, 0.0)))} == {
        "mark_teleport",
        "damage",
        "set_position",
    }
    assert set(KINDS.values()) == set(get_args(Command))
    for name in KINDS:
        assert getattr(tinclock.recordings.Recorder, name) is getattr(MatchCalls, name), name


def test_a_teleport_that_is_cut_is_ruled_again_as_it_was(tmp_path):
    """Nothing is interpolated across a teleport: neither live, nor again, nor in the window around the shot."""
    referee = tinclock.Referee(load_garden().rules, seed=1)
    with tinclock.recordings.Recorder(tmp_path / "teleported", referee) as recorder:
        shooter = recorder.admit(connection="c-1", account="a-1", team="copper", rig="gardener", weapon="grit_rifle")
        target = recorder.admit(connection="c-2", account="a-2", team="pewter", rig="gardener")
        for tick in range(21):
            if tick == 20:
                recorder.mark_teleport(target)
            stand(recorder, tick, {shooter: 0.0, target: 8.0 if tick < 20 else 4.0})
        eye = referee.history.eye_now(shooter)
        for sequence, toward in ((1, 6.0), (2, 8.0)):
            way = np.array([toward, 0.0, 1.2]) - eye
            view, aim = tinclock.View(19, 20, 0.5), tuple(way / np.linalg.norm(way))
            claim = tinclock.claims.ShotClaim(sequence, shooter, "grit_rifle", eye, aim, view, target)
            recorder.rule("c-1", claim, received_at=0.33 + 0.3 * sequence)
    recording = tinclock.recordings.Recording(tmp_path / "teleported")
    assert tinclock.recordings.replay(recording).as_recorded
    ruling = recording.ruling(1)
    past = history_around(recording, ruling)
    assert past.history.epoch_of(target) == referee.history.epoch_of(target)
    boxes = [h.hitboxes_at(target, tinclock.View(19, 20, 0.5)) for h in (referee.history, past.history)]
    assert np.array_equal(*(tinclock.hitboxes_frame(box)[["x_m", "y_m", "z_m"]].to_numpy() for box in boxes))


def test_a_command_that_is_none_or_has_fields_that_it_doesnt_take_is_refused():
    """Whoever reads commands from a file or a socket is told what there is."""
    with pytest.raises(
        msgspec.ValidationError,
        match=r"no call 'fly'; there are: act, add_entity, add_finding, add_score, admit, admit_spectator,",
    ):
        read_change("fly", {})
    with pytest.raises(msgspec.ValidationError, match=r"damage: .*`str`.*`\$.points`"):
        read_change("damage", {"entity": 1, "points": "lots"})
    with pytest.raises(msgspec.ValidationError, match=r"mark_teleport: .*unknown field `server_tim`"):
        read_change("mark_teleport", {"entity": 1, "server_tim": 2.0})
    with pytest.raises(
        BadNumberError,
        match=r"ruling\.commands \(act, add_entity, add_finding, add_score, admit, admit_spectator, advance",
    ):
        tinclock.Referee(load_garden().rules).apply(Call(1, "m", "mark_teleport"))


def test_what_a_referee_shows_of_itself_can_only_be_read():
    """History and ledger show the match as it is now; a change through them raises and names its command."""
    referee = tinclock.Referee(load_garden().rules)
    entity = referee.admit(connection="c-1", account="ada", rig="gardener", server_time=0.0)
    assert referee.ledger.health(entity) == 100.0
    for shown in (referee.history, referee.ledger):
        changing = [name for name in vars(type(shown)) if not name.startswith("_")]
        assert len(changing) >= 5
        for name in changing:
            with pytest.raises(ReadOnlyError, match=r"would change a match past its recorder; call \w+"):
                getattr(shown, name)(entity)
    referee.damage(entity, 30.0, cause="fall", server_time=0.1)
    assert referee.ledger.health(entity) == 70.0
