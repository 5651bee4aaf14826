"""Recordings: what was ruled is ruled again bit for bit, a kill loses nothing that was flushed, damage is named."""

from __future__ import annotations

import math
import multiprocessing
import os
import re
import shutil
import threading
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

import tinclock
from tinclock.claims import StatusClaim
from tinclock.cli.main import main
from tinclock.errors import BadArrayError, BadNumberError, RecordingError
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import data_file, load_garden
from tinclock.intake.parquet_file import read_bounded
from tinclock.recordings import writer
from tinclock.recordings.history_slice import claim_of, history_around
from tinclock.recordings.layout import BONE, TABLES
from tinclock.recordings.pieces import TickPoses, pack, parse, pose_rows, poses_table
from tinclock.recordings.recorder import Recorder
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import replay
from tinclock.recordings.rounding import by_tick, to_steps
from tinclock.recordings.writer import Writer
from tinclock.wire.codec import decode_claim, encode_claim

KILLS, PLAYED_S = 6, 20.0
SAMPLE = Path(str(data_file("sample")))


@pytest.fixture(scope="module")
def match(tmp_path_factory):
    path = tmp_path_factory.mktemp("match") / "rec"
    return path, simulate_match(seed=4, seconds=18.0, players=6, record_to=path)


@pytest.fixture
def copy(match, tmp_path):
    return Path(shutil.copytree(match[0], tmp_path / "copy"))


def test_a_replay_that_keeps_nothing_finds_the_same_digests():
    """Without its rulings and events, which grow with the match, the result counts and compares them as before."""
    kept, counted = replay(Recording(SAMPLE)), replay(Recording(SAMPLE), keep=False)
    assert (counted.rulings, counted.call_numbers, counted.events) == ([], [], [])
    assert (counted.ruling_count, counted.event_count) == (len(kept.rulings), len(kept.events))
    assert (counted.sha256, counted.events_sha256, counted.as_recorded) == (kept.sha256, kept.events_sha256, True)
    assert not replay(Recording(SAMPLE), keep=False, until_s=5.0).as_recorded


def test_a_match_is_ruled_again_bit_for_bit_whether_recorded_or_not(match):
    """A match is ruled again bit for bit whether recorded or not."""
    path, played = match
    source = Recording(path)
    first, second = replay(source), replay(Recording(path))
    assert first.as_recorded
    assert first.sha256 == second.sha256 == source.flushes[-1].rulings_sha256
    assert first.rulings == played.rulings == list(simulate_match(seed=4, seconds=18.0, players=6).rulings)
    assert first.events == played.events == list(source.events())
    assert (source.closed, source.ticks, source.verify(), source.unreferenced_files) == (True, 18 * 64, [], [])
    assert len(source.flushes) == 2  # a file a table for each quarter of a minute


def test_the_sample_is_what_this_version_rules():
    """The sample is what this version rules."""
    source = Recording(SAMPLE)
    assert replay(source).as_recorded
    assert source.verify() == []
    size = sum(file.stat().st_size for file in SAMPLE.parent.rglob("sample*/**/*") if file.is_file())
    assert size < 2_000_000
    assert source.nbytes / (4 * 60) < 12_000  # bytes a player-second, everything included


def test_tables_are_read_by_pandas_in_one_line(match):
    """Tables are read by pandas in one line."""
    import pandas

    path, played = match
    rulings = pandas.read_parquet(path / "rulings")
    assert list(rulings["number"]) == [ruling.number for ruling in played.rulings]
    assert set(rulings["outcome"]) == {ruling.outcome for ruling in played.rulings}
    claims = pandas.read_parquet(path / "claims")
    assert all(type(decode_claim(received)).__name__.endswith("Claim") for received in claims["received"])
    poses = pandas.read_parquet(path / "poses")
    bones = np.frombuffer(b"".join(poses["pose"]), BONE).reshape(len(poses), -1)
    assert set(poses["bones"]) == {19, 2, 1}
    assert bones.shape[1] == 19
    lengths = np.linalg.norm(bones["turn"][:, 0] / 4096, axis=1)
    assert np.abs(lengths - 1.0).max() < 0.001
    for table in TABLES:
        assert len(pandas.read_parquet(path / table)) == Recording(path).rows(table)


def test_rounding_costs_less_than_a_millimetre_and_is_done_before_the_ruling(tmp_path, rules):
    """Rounding costs less than a millimetre and is done before the ruling."""
    referee = tinclock.Referee(rules, seed=1)
    rng = np.random.default_rng(3)
    with Recorder(tmp_path / "r", referee) as recorder:
        entities = [recorder.admit(connection=f"c{k}", account=f"a{k}", rig="gardener") for k in range(3)]
        raw = {}
        for tick in range(130):
            bones = rng.normal(0.0, 1.0, (3, 19, 7))
            bones[..., 3:] /= np.linalg.norm(bones[..., 3:], axis=-1, keepdims=True)
            bones[..., :3] += (1234.5, -777.0, 30.0)
            raw[tick] = bones
            recorder.record(tick, tick / 64, entities, bones)
    source = Recording(tmp_path / "r")
    kept = {entity: body for flush in source.flushes for entity, body in source.poses(flush).items()}
    worst = 0.0
    for row, entity in enumerate(entities):
        body = kept[entity]
        for tick, pose in zip(body.ticks.tolist(), body.poses, strict=True):
            worst = max(worst, float(np.linalg.norm(pose[:, :3] - raw[tick][row, :, :3], axis=1).max()))
    assert 0.00009 < worst < 0.000106  # half a step of 1/8192 m, in three axes
    view = tinclock.View(129, 129, 0.0)
    at_last = rule_again_history(source)
    assert np.array_equal(referee.history.bones_at(2, view), at_last.bones_at(2, view))


def rule_again_history(source):
    held = []
    replay(source, on_tick=lambda referee: held.append(referee.history))
    return held[-1]


@given(st.lists(st.lists(st.integers(1, 9), min_size=1, max_size=5, unique=True), min_size=1, max_size=6))
def test_poses_come_back_as_they_went_in_whoever_is_absent(ticks):
    """Bodies with one to three bones that come and go: every pose lies where its tick and entity say."""
    rng, given_, written = np.random.default_rng(0), [], {}
    for tick, ids in enumerate(ticks):
        ids = sorted(ids)
        counts = np.array([1 + entity % 3 for entity in ids])
        places = rng.integers(-(2**31) + 1, 2**31, (int(counts.sum()), 3))
        turns = rng.integers(-32767, 32768, (int(counts.sum()), 4))
        flat, starts = np.hstack([places / 8192, turns / 4096]), np.concatenate([[0], np.cumsum(counts)])
        steps, steady, bad = to_steps(flat, starts, 4, 8192.0, 4096.0, 2.0**31 - 1)
        assert (bad, steady.tolist()) == (-1, flat.tolist())
        given_.append(TickPoses(tick, np.array(ids), counts, steps))
        for entity, pose in zip(ids, np.split(flat, starts[1:-1]), strict=True):
            written[tick, entity] = pose.tolist()
    rows = pose_rows(poses_table(given_))
    steps = (rows.entity, rows.tick, rows.bones, rows.steps, len(ticks), 8192.0, 4096.0)
    ends, who, starts, poses = by_tick(*steps)
    read, begin = {}, 0
    for tick, end in enumerate(ends.tolist()):
        for body in range(begin, end):
            read[tick, int(who[body])] = poses[starts[body] : starts[body + 1]].tolist()
        begin = end
    assert read == written
    for entity, at, bones in rows.bodies():
        places, turns = rows.places[at, :bones] / 8192, rows.turns[at, :bones] / 4096
        for tick, place, turn in zip(rows.tick[at].tolist(), places, turns, strict=True):
            assert np.hstack([place, turn]).tolist() == written[tick, entity]


def test_whatever_a_client_sends_is_kept_and_ruled_as_kept(tmp_path, rules):
    """Whatever a client sends is kept and ruled as kept."""

    class Odd:
        def __repr__(self) -> str:
            raise ValueError("no")

    with Recorder(tmp_path / "r", tinclock.Referee(rules, seed=1)) as recorder:
        recorder.admit(connection="c", account="a", rig="gardener")
        for tick in range(70):
            recorder.record(tick, tick / 64, [], [])
        wild = [b"", b"\xff\x00", b"{", b"[" * 4000, b'{"kind": "shot"}', {"kind": "shot", "sequence": math.nan},
                object(), Odd(), 10**400, "text", None, {"a": 1}, StatusClaim(1, 1, health=1e300)]  # fmt: skip
        kept = [recorder.rule("c", claim, received_at=1.1) for claim in wild]
        recorder.rule("stranger \ud800", b"x", received_at=1.1)
        assert recorder.pong("c", 10**40, float("nan"), 1.2) == "malformed"
    assert all(ruling.outcome == "rejected" for ruling in kept[:-1])
    again = replay(Recording(tmp_path / "r"))
    assert again.as_recorded
    assert again.rulings[: len(kept)] == kept


@given(st.binary(max_size=60))
def test_bytes_never_raise_and_always_say_the_same(received):
    """Bytes never raise and always say the same."""
    first, second = decode_claim(received), decode_claim(received)
    assert repr(first) == repr(second)
    encode_claim(first)


def test_a_recording_is_killed_at_random_moments_and_loses_nothing_that_was_flushed(tmp_path):
    """What was reported flushed before SIGKILL is there, whole, and rules as the undisturbed match did.

    The moments are numbers of writes, not of seconds: a busy machine changes nothing.
    """
    whole = simulate_match(seed=9, seconds=PLAYED_S, players=3)
    texts = [msgspec.json.encode(ruling).decode() for ruling in whole.rulings]
    dice, ends, early = np.random.default_rng(11), [], 0
    for kill in range(KILLS):
        path = tmp_path / f"k{kill}"
        known = killed(path, int(dice.integers(0, 7 * (PLAYED_S - 1))))
        if not (path / "flushes.jsonl").exists():
            assert known == 0
            early += 1
            continue
        source = Recording(path)
        assert len(source.flushes) >= known
        assert source.verify() == []
        again = replay(source)
        assert not source.flushes or again.as_recorded
        assert source.table("rulings")["ruling"].to_pylist() == texts[: len(again.rulings)]
        ends.append(source.ends_at_s)
        assert not source.closed
    assert max(ends) > 0.5
    assert len(ends) + early == KILLS


def killed(path: Path, after: int) -> int:
    """Record a match in another process and kill it after so many writes; returns how many flushes it had reported."""
    context = multiprocessing.get_context("forkserver")
    read, write = context.Pipe(duplex=False)
    child = context.Process(target=play_and_report, args=(str(path), write), daemon=True)
    child.start()
    write.close()
    known, seen = 0, 0
    try:
        while True:
            if seen == after:
                child.kill()
            known += read.recv_bytes() == b"."
            seen += 1
    except EOFError:
        child.join()
        return known


def play_and_report(path: str, to) -> None:
    """Play and record; tell of each file that is begun and of each flush that is noted."""
    flushed, put = Writer._write, writer.put_down

    def report(self, ready):
        flushed(self, ready)
        to.send_bytes(b".")

    def begin(*arguments):
        to.send_bytes(b"f")
        put(*arguments)

    Writer._write, writer.put_down = report, begin
    simulate_match(seed=9, seconds=PLAYED_S, players=3, record_to=path)


def test_the_past_of_a_ruling_is_read_without_ruling_what_was_before(match):
    """The history that a window rebuilds answers like the referee's own did."""
    path, _ = match
    source, wanted = Recording(path), {}

    def keep(referee, ruling, claim):
        if ruling.kind == "shot" and ruling.view is not None and len(wanted) < 12 and ruling.number % 3 == 0:
            who = referee.history.present(ruling.view)
            wanted[ruling.number] = (
                referee.history.newest_tick,
                {e: referee.history.bones_at(e, ruling.view) for e in who}, claim,
            )  # fmt: skip

    replay(source, on_ruling=keep)
    assert len(wanted) > 8
    for number, (tick, bodies, claim) in wanted.items():
        ruling = source.ruling(number)
        past = history_around(source, ruling)
        assert past.history.newest_tick == tick
        assert past.history.present(ruling.view) == sorted(bodies)
        for entity, bones in bodies.items():
            assert np.array_equal(past.history.bones_at(entity, ruling.view), bones)
        assert claim is None or claim_of(source, ruling) == claim


# -- what is wrong is named -----------------------------------------------------------------------------------------


def test_damage_is_named_and_salvage_reads_the_rest(copy):
    """Damage is named and recover reads the rest."""
    source = Recording(copy)
    second = copy / source.flushes[1].pieces["claims"].file
    data = bytearray(second.read_bytes())
    data[len(data) // 2] ^= 1
    second.write_bytes(data)
    with pytest.raises(RecordingError, match=f"{second.name}: altered"):
        replay(Recording(copy))
    assert any(str(second) in line for line in Recording(copy).verify())
    rescued = Recording(copy, recover=True)
    again = replay(rescued)
    assert 0 < len(again.rulings) < source.flushes[-1].rulings
    assert any("altered" in line for line in rescued.problems)
    assert len(list(rescued.rulings())) == source.flushes[-1].rulings  # that table is whole
    second.write_bytes(data[:-7])
    with pytest.raises(RecordingError, match="torn or altered"):
        replay(Recording(copy))
    second.unlink()
    with pytest.raises(RecordingError, match="listed in the recording but can't be read"):
        replay(Recording(copy))


def test_a_line_that_was_edited_is_found_by_the_next(copy):
    """A line that was edited is found by the next."""
    path = copy / "flushes.jsonl"
    lines = path.read_bytes().splitlines(keepends=True)
    path.write_bytes(lines[0].replace(b'"rulings":', b'"rulings":1', 1) + lines[1])
    with pytest.raises(RecordingError, match="line 2 doesn't follow line 1"):
        Recording(copy)
    path.write_bytes(lines[0] + b"{}\n")
    with pytest.raises(RecordingError, match="line 2 is no flush"):
        Recording(copy)
    path.write_bytes(lines[0] + lines[1][:40])
    torn = Recording(copy)
    assert (torn.damaged_tail, torn.closed, len(torn.flushes)) == (True, False, 1)
    assert replay(torn).as_recorded
    header = copy / "recording.json"
    header.write_bytes(header.read_bytes().replace(b'"seed": 4', b'"seed": 5'))
    with pytest.raises(RecordingError, match=r"line 1 doesn't follow recording.json"):
        Recording(copy)


def edited(path: Path, old: bytes, new: bytes) -> None:
    data = path.read_bytes()
    assert old in data
    path.write_bytes(data.replace(old, new, 1))


@pytest.mark.parametrize(("spoil", "message"), [
    (lambda p: (p / "recording.json").write_text('{"format": 1}'), "of format 1; this version reads formats 4 and 5"),
    (lambda p: (p / "recording.json").write_text("nonsense"), "is no recording's header"),
    (lambda p: (p / "recording.json").unlink(), "can't be read"),
    (lambda p: (p / "flushes.jsonl").unlink(), "it lists what was written"),
    (lambda p: shutil.rmtree(p), "is not there"),
    (lambda p: edited(p / "flushes.jsonl", b"claims/from", b"claims/../from"), "is no file of 'claims'"),
    (lambda p: edited(p / "flushes.jsonl", b'"pieces":{"calls"', b'"pieces":{"secrets"'), "is no file of 'secrets'"),
    (lambda p: (p / "level" / "faces.parquet").write_bytes(b"PAR1"), "the level can't be read"),
    (lambda p: shutil.copy(SAMPLE / "rulings" / "from-000000000.parquet", p / "level" / "vertices.parquet"), "level"),
])  # fmt: skip
def test_what_is_no_whole_recording_is_one_clear_error(copy, spoil, message):
    """What is no whole recording is one clear error."""
    spoil(copy)
    with pytest.raises(RecordingError, match=message):
        replay(Recording(copy))


def test_half_a_folder_is_still_read_when_salvaged(copy):
    """Half a folder is still read when salvaged."""
    rows = Recording(copy).rows("rulings")
    (copy / "flushes.jsonl").unlink()
    (copy / "recording.json").unlink()
    rescued = Recording(copy, recover=True)
    assert len(list(rescued.rulings())) == rows
    assert len(rescued.problems) == 2


def test_another_level_or_folder_or_a_used_referee_is_refused(match, tmp_path, rules, level):
    """Another level or folder or a used referee is refused."""
    path, _ = match
    garden = load_garden()
    other = tinclock.Level.from_boxes([[0, 0, -1]], [[50, 50, 1]])
    with pytest.raises(RecordingError, match="was played in a level with digest"):
        replay(Recording(path), level=other)
    assert replay(Recording(path), level=garden.level, until_s=1.0).ticks == 65
    with pytest.raises(RecordingError, match="is there already"):
        Recorder(path, tinclock.Referee(rules))
    used = tinclock.Referee(rules)
    used.admit(connection="c", account="a", rig="gardener")
    with pytest.raises(RecordingError, match="was used before"):
        Recorder(tmp_path / "new", used)
    with Recorder(tmp_path / "bare", tinclock.Referee(rules, level=level), keep_level=False) as recorder:
        recorder.record(0, 0.0, [], [])
        entity = recorder.admit(connection="c", account="a", rig="sprinkler")
        with pytest.raises(BadArrayError, match="262 km"):
            recorder.record(1, 0.1, [entity], np.full((1, 2, 7), 1e6))
        with pytest.raises(BadArrayError, match="finite"):
            recorder.record(1, 0.1, [entity], np.full((1, 2, 7), np.nan))
    with pytest.raises(RecordingError, match="doesn't hold its level"):
        replay(Recording(tmp_path / "bare"))
    assert replay(Recording(tmp_path / "bare"), level=level).as_recorded


def test_a_full_disk_is_told_to_the_match_and_what_was_flushed_stays(tmp_path, rules, monkeypatch):
    """A full disk is told to the match and what was flushed stays."""
    recorder = Recorder(tmp_path / "r", tinclock.Referee(rules))
    recorder.admit(connection="c", account="a", rig="gardener")
    for tick in range(100):
        recorder.record(tick, tick / 64, [], [])
    until = time.monotonic() + 60.0
    while not Recording(tmp_path / "r").ticks and time.monotonic() < until:
        time.sleep(0.001)

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("tinclock.recordings.writer.put_down", full)

    def go_on():
        for tick in range(100, 2000):
            recorder.record(tick, tick / 64, [], [])
            time.sleep(0.001)

    with pytest.raises(RecordingError, match="No space left"):
        go_on()
    kept = Recording(tmp_path / "r")
    assert (kept.verify(), kept.ticks > 0) == ([], True)
    assert replay(kept).as_recorded


def test_a_recording_killed_before_its_first_flush_is_whole_and_empty(tmp_path, rules):
    """Nothing was recorded and nothing is ruled: that is the same, and both say so. Rows that nobody lists are not."""
    recorder = Recorder(tmp_path / "r", tinclock.Referee(rules))
    recorder.admit(connection="c", account="a", rig="gardener")
    shutil.copytree(tmp_path / "r", tmp_path / "killed")
    assert replay(Recording(tmp_path / "killed")).as_recorded
    told = CliRunner().invoke(main, ["replay", str(tmp_path / "killed")])
    assert (told.exit_code, "digest recorded none: nothing was flushed  the same" in told.output) == (0, True)
    recorder.close(compact=False)
    (tmp_path / "r" / "flushes.jsonl").unlink()
    assert not replay(Recording(tmp_path / "r", recover=True)).as_recorded


def test_a_disk_that_is_full_for_a_while_costs_no_more_than_what_it_refused(tmp_path, rules, monkeypatch):
    """With "continue" the match never notices; what waited too long is a gap with a name, and all the rest is there."""
    referee = tinclock.Referee(rules)
    recorder = Recorder(tmp_path / "r", referee, when_full="continue")
    recorder.admit(connection="c", account="a", rig="gardener")
    put, full = writer.put_down, threading.Event()

    def perhaps(*arguments):
        if full.is_set():
            raise OSError(28, "No space left on device")
        put(*arguments)

    monkeypatch.setattr(writer, "put_down", perhaps)

    def go_on(first: int, last: int) -> None:
        for tick in range(first, last):
            recorder.record(tick, tick / 64, [], [])
        while not recorder._writer._queue.empty():
            time.sleep(0.001)

    go_on(0, 200)
    full.set()
    for second in range(200, 1000, 64):
        go_on(second, second + 64)
    until = time.monotonic() + 20.0
    while not recorder.problem and time.monotonic() < until:
        time.sleep(0.001)
    assert recorder.problem == "No space left on device"
    full.clear()
    go_on(1032, 1200)
    recorder.close()
    kept = Recording(tmp_path / "r")
    assert (kept.verify(), kept.closed, recorder.problem) == ([], True, "")
    (gap,) = kept.missing
    assert re.fullmatch(r"steps \d+ to \d+ \([\d.]+ to [\d.]+ s\) are missing: No space left on device", str(gap))
    assert kept.ends_at_s == pytest.approx(1199 / 64)
    again = replay(kept)
    assert not again.as_recorded
    assert any("ruled again only up to there" in problem for problem in kept.problems)
    told = CliRunner().invoke(main, ["info", str(tmp_path / "r"), "--check"])
    assert (told.exit_code, f"gap: {gap}" in told.output) == (0, True)


def test_a_durable_recording_is_on_the_disk_when_a_flush_is_noted(tmp_path, rules, monkeypatch):
    """Files, their folders and the line that lists them are synced, in that order."""
    synced, real = [], os.fsync

    def fsync(handle: int) -> None:
        synced.append(os.readlink(f"/proc/self/fd/{handle}"))
        real(handle)

    monkeypatch.setattr(os, "fsync", fsync)
    recorder = Recorder(tmp_path / "r", tinclock.Referee(rules), durable=True)
    recorder.admit(connection="c", account="a", rig="gardener")
    for tick in range(80):
        recorder.record(tick, tick / 64, [], [])
    recorder.close(compact=False)
    names = [Path(name).name for name in synced]
    flushes = [place for place, name in enumerate(names) if name == "flushes.jsonl"]
    assert len(flushes) >= 2
    first = names[: flushes[0]]
    assert any(name.endswith(".parquet.part") for name in first)
    assert {"calls", "r"} <= set(first)
    synced.clear()
    bare = Recorder(tmp_path / "bare", tinclock.Referee(rules))
    bare.close(compact=False)
    assert synced == []


def test_a_recording_that_cant_be_put_together_is_whole_as_it_is(tmp_path, rules, monkeypatch):
    """No room for both the small files and the large ones: the small ones stay, and nothing else lies about."""
    recorder = Recorder(tmp_path / "r", tinclock.Referee(rules))
    recorder.admit(connection="c", account="a", rig="gardener")
    for tick in range(300):
        recorder.record(tick, tick / 64, [], [])
    recorder.close(compact=False)
    before = sorted(path.name for path in (tmp_path / "r").rglob("*"))
    monkeypatch.setattr(
        "tinclock.recordings.compact.put_down", lambda *_, **__: (_ for _ in ()).throw(OSError(28, "full"))
    )
    with pytest.raises(RecordingError, match="it is whole as it is"):
        recorder.compact()
    assert sorted(path.name for path in (tmp_path / "r").rglob("*")) == before
    assert Recording(tmp_path / "r").verify() == []


def test_files_are_put_together_while_the_match_goes_on_and_listed_when_it_ends(tmp_path, rules):
    """After 40 s all but the last stretch lies in few files; the list names the small ones until the end."""
    recorder = Recorder(tmp_path / "r", tinclock.Referee(rules))
    entity = recorder.admit(connection="c", account="a", rig="gardener")
    bones = tinclock.rooted_bones(recorder.referee.history.rigs["gardener"], [[0, 0, 0, 0, 0, 0, 1]])
    for tick in range(40 * 64):
        recorder.record(tick, tick / 64, [entity], bones)
    recorder._flush()
    while len(Recording(tmp_path / "r").flushes) < 40:
        time.sleep(0.01)
    played = Recording(tmp_path / "r")
    assert [file for file in played.unreferenced_files if file.startswith("poses/")] == [
        "poses/from-000000000.parquet", "poses/from-000000961.parquet"
    ]  # fmt: skip
    recorder.close(compact=False)
    ended = Recording(tmp_path / "r")
    assert (len(ended.flushes), ended.unreferenced_files, ended.verify()) == (2 + 11, [], [])
    assert replay(ended).as_recorded
    recorder.compact()
    whole = Recording(tmp_path / "r")
    assert (len(whole.flushes), whole.unreferenced_files, whole.verify()) == (3, [], [])
    assert (whole.ticks, replay(whole).as_recorded) == (40 * 64, True)


def test_a_row_of_poses_that_holds_fewer_bones_than_it_says_is_refused(tmp_path, rules):
    """Nothing reads beyond a row, whatever a file says of it."""
    import pyarrow as pa

    steps = np.zeros((1, 2, 5), np.int32)
    table = poses_table([TickPoses(0, np.array([1]), np.array([2]), steps)])
    assert parse("poses", pack("poses", table)).equals(table)
    told = table.set_column(2, "bones", pa.array([3], pa.int16()))
    with pytest.raises(ValueError, match="rows of 40 bytes don't hold 3 bones of 20 bytes each"):
        parse("poses", pack("poses", told))


def test_a_table_that_unpacks_to_more_than_memory_is_refused(tmp_path):
    """A small Parquet file of one long text a million times is said to be too large, before it is unpacked."""
    import pyarrow as pa
    import pyarrow.parquet as parquet

    text = pa.DictionaryArray.from_arrays(pa.array(np.zeros(300_000, np.int32)), pa.array(["x" * 50_000]))
    parquet.write_table(pa.table({"who": text}), tmp_path / "bomb.parquet", compression="zstd")
    assert (tmp_path / "bomb.parquet").stat().st_size < 1_000_000
    file = parquet.ParquetFile(tmp_path / "bomb.parquet")
    with pytest.raises(ValueError, match=r"unpacks to 1\d\.\d GB or more; at most 4\.3 GB"):
        read_bounded(file)


def test_what_the_world_does_to_somebody_is_recorded_scored_and_credited(tmp_path, rules):
    """A fall soon after a shot is the shooter's kill; ruled again it is the same fall."""
    referee = tinclock.Referee(rules, seed=3)
    with Recorder(tmp_path / "fall", referee) as to:
        names = (("copper", 0.0), ("pewter", 6.0))
        who = [to.admit(connection=f"c{k}", account=f"a{k}", team=team, rig="gardener", weapon="grit_rifle")
               for k, (team, _) in enumerate(names)]  # fmt: skip
        rig = referee.history.rigs["gardener"]
        for tick in range(20):
            roots = [[x, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0] for _, x in names]
            to.record(tick, tick / 64, who, tinclock.rooted_bones(rig, roots))
            to.snapshot_sent(tick)
        eye = referee.history.eye_now(who[0])
        shot = {"kind": "shot", "sequence": 1, "actor": who[0], "weapon": "grit_rifle", "origin": eye,
                "direction": [1.0, 0.0, 0.0], "view": [10, 11, 0.0]}  # fmt: skip
        assert to.rule("c0", encode_claim(shot), received_at=0.3).hits
        to.damage(who[1], 500.0, "fall", 0.31)
        with pytest.raises(BadNumberError, match="points: expected a finite number"):
            to.damage(who[1], -1.0)
        events = referee.events()
    death = next(event for event in events if event.kind == "death")
    assert (death.entity, death.cause) == (who[1], "fall")
    assert next(row for row in referee.state().rows if row.entity == who[0]).kills == 1
    assert replay(Recording(tmp_path / "fall")).as_recorded
