"""One kind of command: whatever changes a match is one, and survives a recording."""

from __future__ import annotations

import inspect
from typing import get_args

import msgspec
import numpy as np
import pytest

import tinclock
from tinclock.core.ruling.calls import MatchCalls
from tinclock.core.ruling.commands import CHANGES, KINDS, Command, Cut, Harm, Put, name_of, read_change
from tinclock.errors import BadNumberError, ReadOnlyError
from tinclock.garden.scenario import load_garden
from tinclock.recordings.past import past_of
from tinclock.serve.requests import Call

ASKS = {
    "welcome",
    "state",
    "events",
    "clock",
    "lags",
    "view_bounds",
    "view_choice",
    "in_reach",
    "knows",
    "account_of",
    "position",
    "spread_key",
}
"""Methods of the referee that change nothing a ruling looks at (`events` moves its own reader's mark on)."""
EXTRAS = {
    "place": {"rig": "sprinkler", "weapon": "sprinkler_jet"},
    "admit_spectator": {"connection": "c-9", "account": "idle"}, "remove": {"entity": 3},
    "hand_over": {"entity": 4, "connection": "c-1"}, "spawn": {"entity": 2}, "cut": {"entity": 2},
    "harm": {"entity": 2, "damage": np.float64(3.5)}, "wield": {"entity": 1, "weapon": "trowel"},
    "put": {"entity": np.int64(1), "position": (0.5, 0.0, 0.0)}, "guide": {"projectile": 1, "entity": 2},
    "set_drawing": {"connection": "c-1", "drawing": tinclock.Drawing(between="nearest")},
    "ping": {"connection": "c-1", "sent_at": 0.2}, "pong": {"connection": "c-1", "nonce": 1e300,
             "client_time": "x", "received_at": 0.3},
    "seen": {"connection": "c-1", "view": (0, 8, 0.5), "client_time": 7.25, "received_at": 0.35},
    "act": {"entity": 5, "claim": {"kind": "handle", "weapon": "sprinkler_jet", "action": "stop"}, "server_time": 0.4},
    "change_rules": {"rules": load_garden().rules},
    "own_result": {"connection": "c-1", "sequence": 1, "hits": ((2, 5.0),)},
    "advance": {"server_time": 0.5}, "dismiss": {"connection": "c-2"}, "published": {"tick": 12},
}  # fmt: skip


def stand(server: MatchCalls, tick: int, places: dict[int, float]) -> None:
    """Bodies upright at places along x, and the snapshot of it."""
    rig = tinclock.Rig("gardener", load_garden().rules.rigs["gardener"])
    roots = [[x, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0] for x in places.values()]
    server.record(tick, tick / 64, list(places), tinclock.rooted_bones(rig, roots))
    server.published(tick)


def every_command(server: MatchCalls) -> set[str]:
    """A match that is made of each command at least once."""
    rules = load_garden().rules
    for k in (1, 2):
        server.admit(connection=f"c-{k}", account=f"a-{k}", rig="gardener", weapons=list(rules.weapons))
    server.place("shed_door")
    server.place("sprinkler", weapon="sprinkler_jet")
    server.put(1, (0.0, 0.0, 0.0))
    for tick in range(12):
        stand(server, tick, {1: 0.0, 2: 4.0})
    launch = tinclock.LaunchClaim(1, 1, "pebble_sling", (0.11, 0.0, 1.65), (1.0, 0.0, 0.0), tinclock.View(8, 10, 0.5))
    server.wield(1, "pebble_sling")
    server.rule("c-1", launch, received_at=0.19)
    referee = server if isinstance(server, tinclock.Referee) else server.referee
    rig = referee.history.rigs["gardener"]
    server.record(12, 12 / 64, [1], tinclock.rooted_bones(rig, [[0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0]]))
    for name, arguments in EXTRAS.items():
        getattr(server, name)(**arguments)
    return {"admit", "record", "rule", *EXTRAS}


def test_every_command_survives_a_recording_bit_for_bit(tmp_path):
    """The recorder, the replay and the service list nothing by themselves: a command that is new is kept too."""
    referee = tinclock.Referee(load_garden().rules, seed=5)
    with tinclock.recordings.Recorder(tmp_path / "all", referee) as recorder:
        assert every_command(recorder) == set(KINDS)
    recording = tinclock.recordings.Recording(tmp_path / "all")
    again = tinclock.recordings.rerule(recording)
    assert again.as_recorded
    assert again.refused == []
    tables = (recording.table(name)["call"].to_pylist() for name in ("calls", "pings"))
    assert {call for table in tables for call in table} == set(CHANGES)
    plain = tinclock.Referee(load_garden().rules, seed=5)
    every_command(plain)
    assert plain.state() == referee.state()


def test_every_public_method_of_the_referee_that_changes_something_is_a_command():
    """What isn't a command isn't recorded, and a recording without it rules otherwise."""
    methods = {
        name for name, one in inspect.getmembers(tinclock.Referee, inspect.isfunction) if not name.startswith("_")
    }
    assert methods == {*KINDS, *ASKS, "apply", "rule_many"}
    assert {name_of(kind) for kind in (Cut(1), Harm(1, 2.0), Put(1, (0.0, 0.0, 0.0)))} == {"cut", "harm", "put"}
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
                recorder.cut(target)
            stand(recorder, tick, {shooter: 0.0, target: 8.0 if tick < 20 else 4.0})
        eye = referee.history.eye_now(shooter)
        for sequence, toward in ((1, 6.0), (2, 8.0)):
            way = np.array([toward, 0.0, 1.2]) - eye
            view, aim = tinclock.View(19, 20, 0.5), tuple(way / np.linalg.norm(way))
            claim = tinclock.ShotClaim(sequence, shooter, "grit_rifle", eye, aim, view, target)
            recorder.rule("c-1", claim, received_at=0.33 + 0.3 * sequence)
    recording = tinclock.recordings.Recording(tmp_path / "teleported")
    assert tinclock.recordings.rerule(recording).as_recorded
    ruling = recording.ruling(1)
    past = past_of(recording, ruling)
    assert past.history.epoch_of(target) == referee.history.epoch_of(target)
    boxes = [h.hitboxes_at(target, tinclock.View(19, 20, 0.5)) for h in (referee.history, past.history)]
    assert np.array_equal(*(tinclock.hitboxes_frame(box)[["x_m", "y_m", "z_m"]].to_numpy() for box in boxes))


def test_a_command_that_is_none_or_has_fields_that_it_doesnt_take_is_refused():
    """Whoever reads commands from a file or a socket is told what there is."""
    with pytest.raises(msgspec.ValidationError, match=r"no call 'fly'; there are: act, admit, admit_spectator,"):
        read_change("fly", {})
    with pytest.raises(msgspec.ValidationError, match=r"harm: .*`str`.*`\$.damage`"):
        read_change("harm", {"entity": 1, "damage": "lots"})
    with pytest.raises(msgspec.ValidationError, match=r"cut: .*unknown field `server_tim`"):
        read_change("cut", {"entity": 1, "server_tim": 2.0})
    with pytest.raises(BadNumberError, match=r"ruling\.commands \(act, admit, admit_spectator, advance"):
        tinclock.Referee(load_garden().rules).apply(Call(1, "m", "cut"))


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
    referee.harm(entity, 30.0, cause="fall", server_time=0.1)
    assert referee.ledger.health(entity) == 70.0
