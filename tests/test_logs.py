"""Another server's logs: read as a mapping says, ruled, recorded; and what is wrong with a row, told by its place."""

from __future__ import annotations

import json
import shutil
import tomllib
from collections import Counter

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import tinclock
from tinclock.cli.main import main
from tinclock.errors import LogError, RulesError
from tinclock.garden.foreign import write_foreign_logs
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import data_file
from tinclock.intake.logs.frame import LogFrame
from tinclock.intake.logs.mapping import handed, load_log_map, parse_log_map
from tinclock.intake.logs.reading import read_logs
from tinclock.recordings.from_logs import record_logs

AXES = [
    (a, b, c)
    for a in ("x", "y", "z", "-x", "-y", "-z") for b in ("x", "y", "z", "-x", "-y", "-z")
    for c in ("x", "y", "z", "-x", "-y", "-z") if len({a[-1], b[-1], c[-1]}) == 3
]  # fmt: skip
LEAST = {
    "rules": "garden.toml", "players": {"rig": {"value": "gardener"}, "account": {"value": "a"}},
    "poses": {"file": "poses.csv", "time": "t", "position": ["x", "y", "z"], "yaw": "yaw", "pitch": "pitch"},
}  # fmt: skip


def mapping(**changes):
    return parse_log_map({**LEAST, **changes})


@pytest.fixture(scope="module")
def evening(tmp_path_factory):
    """A fair match, and the same as somebody else logged it."""
    folder = tmp_path_factory.mktemp("foreign")
    simulate_match(seed=7, seconds=5.0, players=4, cheats={}, record_to=folder / "evening")
    recording = tinclock.recordings.Recording(folder / "evening")
    return recording, write_foreign_logs(recording, folder / "logs")


def test_a_match_through_foreign_logs_is_ruled_as_it_was(evening, tmp_path):
    """Left-handed centimetres and words of another server come to the same hits on the same parts."""
    recording, file = evening
    said = load_log_map(file)
    rules = tinclock.load_rules(file.parent / said.rules)
    level = tinclock.load_level(file.parent / said.level)
    found = record_logs(read_logs(said, file.parent, rules), rules, tmp_path / "ruled", level=level, seed=said.seed)
    before = {(r.connection, r.sequence): r for r in recording.rulings() if r.kind == "shot" and r.account}
    assert len(found.rulings) == len(before) > 30
    unexplained = 0
    for where, ruling in found.rulings:
        old = before[ruling.connection, ruling.sequence]
        codes = {finding.code for finding in (*old.findings, *ruling.findings)}
        if codes & {"view_inconsistent", "view_unexplained"}:
            unexplained += 1  # logs don't tell what screens showed before a shot
            continue
        assert ruling.outcome == old.outcome, where
        assert [(h.victim, h.part) for h in ruling.hits] == [(h.victim, h.part) for h in old.hits], where
        assert [h.distance_m for h in ruling.hits] == pytest.approx([h.distance_m for h in old.hits], abs=1e-3)
    assert unexplained <= 2
    again = tinclock.recordings.replay(tinclock.recordings.Recording(tmp_path / "ruled"))
    assert again.as_recorded


@given(st.sampled_from(AXES), st.sampled_from(AXES), st.integers(0, 2**32 - 1), st.sampled_from(["xyzw", "wxyz"]))
def test_turning_and_converting_may_be_swapped(world, body, seed, order):
    """A body's point, turned by their rotation and converted, is the converted point turned by the converted one."""
    if handed(world) != handed(body):
        with pytest.raises(RulesError, match="mirror image"):
            mapping(axes={"world": list(world), "body": list(body)})
        return
    frame = LogFrame(mapping(axes={"world": list(world), "body": list(body), "quaternion": order}))
    rng = np.random.default_rng(seed)
    theirs, point = Rotation.random(random_state=rng), rng.normal(size=3)
    quaternion = theirs.as_quat()[[0, 1, 2, 3] if order == "xyzw" else [3, 0, 1, 2]]
    ours = Rotation.from_quat(frame.turns(quaternion[None])[0])
    signs = np.array([[(-1.0 if axis.startswith("-") else 1.0) * (axis[-1] == one) for one in "xyz"] for axis in body])
    told = frame.places(theirs.apply(point)[None])[0]
    assert ours.apply(signs @ point) == pytest.approx(told, abs=1e-9)


@given(st.floats(-720, 720), st.floats(-89, 89))
def test_angles_and_directions_agree(yaw, pitch):
    """A body that faces a yaw, with its eye raised by a pitch, looks where an aim at those angles goes."""
    frame = LogFrame(mapping(axes={"world": ["z", "-x", "y"], "ahead": "z", "quarter": "x", "raised": "-y"}))
    yaws, pitches = np.array([yaw]), np.array([pitch])
    body = Rotation.from_quat(frame.facing(yaws)[0]) * Rotation.from_quat(frame.raised(yaws, pitches)[0])
    assert body.apply([1.0, 0.0, 0.0]) == pytest.approx(frame.aims(yaws, pitches)[0], abs=1e-9)


def duel(folder, extra=""):
    """Two bodies as rows of angles, six metres apart, one shot from the middle of the first one's eyes, in CSV."""
    (folder / "garden.toml").write_bytes(data_file("garden.toml").read_bytes())
    rows = [f"{k / 64},{who},{x},0,0,{yaw},0" for k in range(65) for who, x, yaw in (("a", 0, 0), ("b", 6, 180))]
    (folder / "poses.csv").write_text("\n".join(["t,who,x,y,z,yaw,pitch", *rows]) + "\n")
    eye = tinclock.Rig("g", tinclock.load_rules(folder / "garden.toml").rigs["gardener"])
    at = eye.rest[eye.eye_bone] + eye.eye_at
    (folder / "shots.csv").write_text(
        f"t,who,gun,x,y,z,yaw,pitch,shown\n0.7,a,rifle,{at[0]},{at[1]},{at[2]},0,-2,0.5\n"
    )
    (folder / "map.toml").write_text(
        """
rules = "garden.toml"
[players]
rig = { value = "gardener" }
[poses]
file = "poses.csv"
player = "who"
time = "t"
position = ["x", "y", "z"]
yaw = "yaw"
pitch = "pitch"
sent_every = 2
[[claims]]
file = "shots.csv"
kind = "shot"
player = "who"
time = "t"
weapon = { column = "gun", words = { rifle = "grit_rifle" } }
origin = ["x", "y", "z"]
yaw = "yaw"
pitch = "pitch"
view_time = "shown"
"""
        + extra
    )
    return folder / "map.toml"


def rule(*arguments):
    return CliRunner().invoke(main, ["import-logs", *map(str, arguments)])


def test_bodies_without_bones_are_ruled_in_their_rest_pose(tmp_path):
    """Places and angles are enough: no bones, no ids, no sequence numbers, no teams, no pings."""
    told = rule(duel(tmp_path), tmp_path / "ruled", "--json")
    assert told.exit_code == 0, told.output
    report = json.loads(told.output)
    assert (report["outcomes"], report["rows"]) == ({"accepted": 1}, {"poses.csv": 130, "shots.csv": 1})
    (ruling,) = tinclock.recordings.Recording(tmp_path / "ruled").rulings()
    assert ruling.hits[0].victim == report["entities"]["b"]
    assert (ruling.view, ruling.hits[0].zone) == (tinclock.View(32, 34, 0.0), "torso")


def test_whoever_was_away_comes_back_to_a_new_life(tmp_path):
    """Without a table of spawns, a second without rows ends a life."""
    file = duel(tmp_path)
    poses = tmp_path / "poses.csv"
    late = [f"{2.5 + k / 64},b,6,0,0,180,0" for k in range(3)]
    poses.write_text(poses.read_text() + "\n".join(late) + "\n")
    assert rule(file, tmp_path / "ruled").exit_code == 0
    events = tinclock.recordings.replay(tinclock.recordings.Recording(tmp_path / "ruled")).events
    assert Counter(e.entity for e in events if e.kind == "spawn" and e.server_time > 0.0) == {2: 1}


BROKEN = [
    ("poses.csv", "0.5,a,0,0", "0.5,a,no,0", "poses.csv, line 66, column 'x': expected a number, got 'no'"),
    ("poses.csv", "0.5,a,0,0,0,0", "0.5,,0,0,0,0", "poses.csv, line 66, column 'who': expected a player, got nothing"),
    ("poses.csv", "0.5,b,6,0,0,180,0", "0.5,a,6,0,0,180,0", "poses.csv, line 66: 'a' at tick 32 has more than one row"),
    ("poses.csv", "0.5,b,6,0,0,180,0", "0.5,b,6", "poses.csv, line 67: expected 7 cells, got 3"),
    ("shots.csv", "0.7,a", "0.7,c", "shots.csv, line 2, column 'who': 'c' is no player that the logs bring in"),
    ("shots.csv", "0.7,a", "soon,a", "shots.csv, line 2, column 't': expected a time, got 'soon'"),
    ("shots.csv", "gun,x", "gun,ex", "shots.csv, column 'x': is not there; it has t, who, gun, ex, y, z"),
    ("map.toml", 'time = "t"\nposition', "position", "poses: neither time nor tick"),
    ("map.toml", 'view_time = "shown"', "", "claims[0] (shot): nothing says what the screen showed"),
    ("map.toml", 'view_time = "shown"', 'view_time = "shown"\nitem = "x"', "claims[0] (shot).item: a shot has none;"),
    ("map.toml", 'value = "gardener"', 'value = "gnome"', "expected one of the rules' rigs (gardener"),
    ("map.toml", "poses.csv", "poses.xls", "is no table this reads; expected .csv"),
    ("map.toml", 'kind = "shot"', 'kind = "stare"', "claims[0].kind: got 'stare' (str), expected one of 'shot'"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "told"), BROKEN, ids=range(len(BROKEN)))
def test_what_cannot_be_used_is_told_by_file_row_and_column(tmp_path, name, old, new, told):
    """What can't be used is told by file, row and column."""
    file = duel(tmp_path)
    text = (tmp_path / name).read_text()
    assert old in text
    (tmp_path / name).write_text(text.replace(old, new, 1))
    result = rule(file, "--check")
    assert result.exit_code == 1
    assert told in result.output


def test_rows_after_a_broken_line_are_still_told_by_their_own_line(tmp_path):
    """And what a mapping says nothing about is told before anything is read."""
    file = duel(tmp_path)
    shots = tmp_path / "shots.csv"
    shots.write_text(
        shots.read_text() + "0.8,a\n" + shots.read_text().splitlines()[1].replace("0.7,a", "0.9,zoe") + "\n"
    )
    told = rule(file, "--check").output
    assert "shots.csv, line 3: expected 9 cells, got 2" in told
    assert "shots.csv, line 4, column 'who': 'zoe' is no player" in told
    file.write_text(file.read_text().replace('column = "gun", words = { rifle = "grit_rifle" }', ""))
    assert "claims[0].weapon: neither column nor value" in rule(file, "--check").output


def test_what_the_server_fires_for_a_held_trigger_is_ruled_too(tmp_path):
    """A table of triggers: pressed and let go, and the shots in between count as the server's rulings."""
    file = duel(tmp_path)
    text = (
        file.read_text()
        .replace('kind = "shot"', 'kind = "trigger"\nheld = "down"')
        .replace('origin = ["x", "y", "z"]\n', "")
    )
    file.write_text(text)
    lines = ["t,who,gun,yaw,pitch,shown,down", "0.5,a,rifle,0,-2,0.4,true", "0.9,a,rifle,0,-2,0.8,false"]
    (tmp_path / "shots.csv").write_text("\n".join(lines) + "\n")
    report = json.loads(rule(file, tmp_path / "ruled", "--json").stdout)
    assert report["outcomes"] == {"accepted": 5}  # two of the trigger's, three shots, 0.18 s apart
    assert tinclock.recordings.replay(tinclock.recordings.Recording(tmp_path / "ruled")).as_recorded


def test_who_leaves_and_comes_back_is_a_new_entity_of_the_same_account(tmp_path):
    """Two rows of one player: nothing hits it while it is away, its claims count anew, and it is one account."""
    file = duel(tmp_path)
    text = file.read_text().replace('rig = { value = "gardener" }', 'file = "who.csv"\nplayer = "id"\nrig = "rig"\n'
                                    'account = "id"\njoins = "in"\nleaves = "out"')  # fmt: skip
    file.write_text(text)
    (tmp_path / "who.csv").write_text("id,rig,in,out\na,gardener,0,\nb,gardener,0,0.55\nb,gardener,0.8,\n")
    shot = (tmp_path / "shots.csv").read_text()
    late = shot.splitlines()[1].replace("0.7,a", "1.0,a").replace(",0.5", ",0.9")
    (tmp_path / "shots.csv").write_text(f"{shot}{late}\n")
    report = json.loads(rule(file, tmp_path / "ruled", "--json").stdout)
    assert report["entities"] == {"a": 1, "b": 3}
    first, second = tinclock.recordings.Recording(tmp_path / "ruled").rulings()
    assert (first.hits, second.hits[0].victim) == ((), 3)
    (tmp_path / "who.csv").write_text("id,rig,in,out\na,gardener,0,\nb,gardener,0,0.55\nb,gardener,0.5,\n")
    assert "who.csv, line 4, column 'id': 'b' is there twice at once" in rule(file, "--check").output


JUNK = [
    "",
    "nan",
    "inf",
    "1e308",
    "-1",
    "abc",
    "é",
    '"',
    "a,b",
    "\n",
    "99999999999999999999",
    "true",
    "2026-01-01T00:00:00Z",
]
UNLIKE = [None, "", 0, -1, 1.5, True, [], {}, ["x", "y", "z"], "x", "t", {"column": "x"}, {"value": "b"}, {"value": 3},
          "melee", "move", "iso", ["y", "x", "z"], ["x", "y", "z", "x"]]  # fmt: skip


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_whatever_is_in_tables_and_mapping_ends_in_rulings_or_one_clear_error(tmp_path, data):
    """Cells, rows and keys changed at random: nothing but this package's own errors comes out, and no warning."""
    file = duel(tmp_path)
    for name in data.draw(st.lists(st.sampled_from(["poses.csv", "shots.csv"]), max_size=2)):
        lines = (tmp_path / name).read_text().split("\n")
        row = data.draw(st.integers(0, len(lines) - 1))
        cells = lines[row].split(",")
        cells[data.draw(st.integers(0, len(cells) - 1))] = data.draw(st.sampled_from(JUNK))
        lines[row] = ",".join(cells[: data.draw(st.integers(len(cells) - 1, len(cells)))])
        (tmp_path / name).write_text("\n".join(lines))
    tables = tomllib.loads(file.read_text())
    if data.draw(st.booleans()):
        inner = data.draw(st.sampled_from([tables, tables["players"], tables["poses"], tables["claims"][0]]))
        inner[data.draw(st.sampled_from(sorted(inner)))] = data.draw(st.sampled_from(UNLIKE))
    shutil.rmtree(tmp_path / "out", ignore_errors=True)
    rules = tinclock.load_rules(tmp_path / "garden.toml")
    try:
        found = record_logs(read_logs(parse_log_map(tables), tmp_path, rules), rules, tmp_path / "out")
        told = f"{len(found.rulings)} rulings"
    except tinclock.TinClockError as error:
        told = str(error)
    assert told


def test_a_delay_that_nobody_logged_is_worked_out_though_the_route_changes(tmp_path):
    """Ten seconds of 40 ms, then twenty of 140: the screen is 100 ms behind all along, and views say just that."""
    file = duel(tmp_path, '[pings]\nfile = "trips.csv"\nplayer = "who"\ntime = "t"\nround_trip = "trip"\n')
    ticks = range(30 * 16)
    trip = [0.04 if k < 160 else 0.14 for k in ticks]
    rows = [f"{k / 16},{who},{x},0,0,0,0" for k in ticks for who, x in (("a", 0), ("b", 6))]
    (tmp_path / "poses.csv").write_text("\n".join(["t,who,x,y,z,yaw,pitch", *rows]))
    shots = [f"{k / 16},a,rifle,0,0,1.6,0,0,{k / 16 - trip[k] - 0.1}" for k in range(20, 480, 5)]
    (tmp_path / "shots.csv").write_text("\n".join(["t,who,gun,x,y,z,yaw,pitch,shown", *shots]))
    (tmp_path / "trips.csv").write_text("\n".join(["t,who,trip", *(f"{k / 16},a,{trip[k]}" for k in ticks[::4])]))
    logs = read_logs(load_log_map(file), tmp_path, tinclock.load_rules(tmp_path / "garden.toml"))
    assert logs.players["a"][0].interpolation_delay_s == pytest.approx(0.1, abs=1e-3)
    assert logs.players["b"][0].interpolation_delay_s is None


def test_json_lines_with_nested_values_and_iso_times_read_as_well(tmp_path):
    """A path reaches into objects and lists; times may be dates; a broken line is told by its number."""
    said = mapping(
        units={"time": "iso"},
        poses={"file": "p.jsonl", "player": "who.id", "time": "at", "position": "body.at", "quaternion": "body.turn"},
    )
    line = {"who": {"id": 7}, "at": "2026-05-01T18:20:00.125Z", "body": {"at": [1, 2, 3], "turn": [0, 0, 0, 2]}}
    late = {**line, "at": "2026-05-01T20:20:01.125+02:00"}
    (tmp_path / "p.jsonl").write_text(f"{json.dumps(line)}\n{json.dumps(late)}\n")
    rules = tinclock.load_rules(data_file("garden.toml"))
    logs = read_logs(said, tmp_path, rules)
    assert logs.poses.times.tolist() == [0.0, 1.0]
    assert logs.poses.names == ("7",)
    assert logs.poses.bodies(0)["7"][0] == pytest.approx([*np.add(logs.poses.rigs[0].rest[0], [1, 2, 3]), 0, 0, 0, 1])
    (tmp_path / "p.jsonl").write_text(json.dumps(line) + "\n{oops\n")
    with pytest.raises(LogError, match=r"p.jsonl, line 2: is no JSON object"):
        read_logs(said, tmp_path, rules)


def test_a_missing_bone_is_named(evening, tmp_path):
    """A body that lacks a bone can't be posed; the row, the player, the tick and the bone are told."""
    import pyarrow
    from pyarrow import parquet

    _, file = evening
    for one in file.parent.iterdir():
        (tmp_path / one.name).write_bytes(one.read_bytes())
    rows = parquet.read_table(tmp_path / "poses.parquet").to_pylist()
    lost = next(k for k, row in enumerate(rows) if row["joint"] == "head" and row["step"] == 9)
    parquet.write_table(pyarrow.Table.from_pylist(rows[:lost] + rows[lost + 1 :]), tmp_path / "poses.parquet")
    result = rule(tmp_path / "mapping.toml", "--check")
    assert f"'{rows[lost]['who']}' at tick 9 lacks the bones head" in result.output
