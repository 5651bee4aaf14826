"""A match's state as bytes: what goes on from it is the same match, and nothing else can be in it."""

from __future__ import annotations

import pickle
import shutil
import time
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from test_commands import every_command, rules_with_everything
from test_following import copy_while_written

import tinclock
from tinclock.core.checkpoint import KINDS, PACKED, checkpoint_of, referee_from
from tinclock.core.errors import BadNumberError, CheckpointError, RecordingError
from tinclock.core.ruling.calls import MatchCalls
from tinclock.core.state_graph import GraphWriter
from tinclock.garden.scenario import load_garden
from tinclock.recordings import Recorder, Recording, replay
from tinclock.recordings.checkpoints import made_by, take_up
from tinclock.recordings.layout import sha256
from tinclock.sample import simulate_match

UNFAIR = {"clover": {"inflate_damage": 1.0}, "fennel": {"fast_trigger": 1.0}}


class Interrupted(MatchCalls):
    """A referee that another one takes over from, out of a checkpoint, every few commands."""

    every = 83

    def __init__(self, *given: Any, **named: Any) -> None:
        self.referee, self._commands = tinclock.Referee(*given, **named), 0

    def apply(self, command: Any) -> Any:
        self._commands += 1
        if self._commands % self.every == 0:
            self.referee = referee_from(checkpoint_of(self.referee), self.referee.level)
        return self.referee.apply(command)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.__dict__["referee"], name)


def encoded(some: Any) -> list[bytes]:
    return [msgspec.json.encode(one) for one in some]


@pytest.mark.parametrize("scenario", ["skirmish", "barrow"])
def test_a_match_that_goes_on_from_checkpoints_is_ruled_bit_for_bit_as_without(monkeypatch, scenario):
    """Every ruling and event of a match with all weapons, doors and cheating players, taken over again and again."""
    calm = simulate_match(seed=17, seconds=7.0, players=10, cheats=UNFAIR, scenario=scenario)
    monkeypatch.setattr("tinclock.garden.match.Referee", Interrupted)
    moved = simulate_match(seed=17, seconds=7.0, players=10, cheats=UNFAIR, scenario=scenario)
    assert encoded(calm.rulings) == encoded(moved.rulings)
    assert encoded(calm.events) == encoded(moved.events)
    assert {ruling.kind for ruling in calm.rulings} >= {
        "shot",
        "move",
        "launch",
        "projectile",
        "trigger",
        "weapon_action",
    }


def test_a_match_goes_on_after_any_command():
    """What each kind of command leaves behind is in a checkpoint, other rules from the next tick on included."""
    plain, moved = tinclock.Referee(rules_with_everything(), seed=5), Interrupted(rules_with_everything(), seed=5)
    moved.every = 1
    every_command(plain)
    every_command(moved)
    assert moved.state() == plain.state()
    assert encoded(moved.events()) == encoded(plain.events())
    assert moved.rules == plain.rules


def played(path: Any, copy: Any, seconds: float = 9.0) -> None:
    """A match whose recording is copied shortly before its end, as a kill would leave it."""

    def look(share: float) -> None:
        if share > 0.93 and not copy.exists():
            while Recording(path).ends_at_s < 7.9:  # the disk comes behind
                time.sleep(0.01)
            copy_while_written(path, copy)

    simulate_match(seed=23, seconds=seconds, players=6, cheats=UNFAIR, record_to=path, on_progress=look)


class Kept(Recorder):
    def __init__(self, path: Any, referee: Any, **given: Any) -> None:
        super().__init__(path, referee, checkpoint_s=3.0, **given)


@pytest.fixture(scope="module")
def killed(tmp_path_factory):
    """A killed match with two checkpoints."""
    folder = tmp_path_factory.mktemp("killed")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("tinclock.garden.match.Recorder", Kept)
        played(folder / "whole", folder / "copy")
    assert not (folder / "whole" / "checkpoints").exists()
    assert len(list((folder / "copy" / "checkpoints").iterdir())) == 2
    return folder / "copy"


def cut_off(path: Any) -> None:
    path.write_bytes(path.read_bytes()[:-100])


def alter(path: Any) -> None:
    data = bytearray(path.read_bytes())
    data[-50] ^= 1
    path.write_bytes(bytes(data))


def of_another_release(path: Any) -> None:
    path.write_bytes(path.read_bytes().replace(made_by().encode(), b"tinclock 0.0.1"))


def of_another_flush(path: Any) -> None:
    line, _, rest = path.read_bytes().partition(b"\n")
    label = {**msgspec.json.decode(line), "flush": "0" * 64}
    path.write_bytes(msgspec.json.encode(label) + b"\n" + rest)


def of_other_contents(path: Any) -> None:
    """A number is another one, although everything can still be read."""
    import pyarrow as pa

    line, _, packed = path.read_bytes().partition(b"\n")
    data = bytearray(pa.Codec("zstd").decompress(packed, msgspec.json.decode(line)["bytes"], asbytes=True))
    at = data.rindex(b"<f8")  # an array of numbers
    data[at + 200] ^= 1
    path.write_bytes(line + b"\n" + pa.Codec("zstd").compress(bytes(data), asbytes=True))


def of_another_match(path: Any) -> None:
    """A sound state that what follows doesn't fit."""
    import pyarrow as pa

    line, _, _ = path.read_bytes().partition(b"\n")
    data = checkpoint_of(tinclock.Referee(load_garden().rules, level=load_garden().level, seed=1))
    label = {**msgspec.json.decode(line), "bytes": len(data), "sha256": sha256(data)}
    path.write_bytes(msgspec.json.encode(label) + b"\n" + pa.Codec("zstd").compress(data, asbytes=True))


@pytest.mark.parametrize(
    "damage", [None, cut_off, alter, of_other_contents, of_another_release, of_another_flush, of_another_match]
)
@pytest.mark.parametrize("which", ["newest", "both"])
def test_a_recording_goes_on_from_the_newest_checkpoint_that_can_be_used(tmp_path, killed, damage, which):
    """From the newest, from the one before, or from the beginning: the match is the same one, and says how it began."""
    shutil.copytree(killed, tmp_path / "m")
    states = sorted((tmp_path / "m" / "checkpoints").iterdir())
    for path in states if which == "both" else states[-1:]:
        if damage is not None:
            damage(path)
    recorder = Recorder.resume(tmp_path / "m", checkpoint_s=3.0)
    rulings = recorder.rulings
    whole = damage is not None and (which == "both" or damage is of_another_match)
    assert (recorder.replayed_rulings == rulings) == whole
    newest = take_up(Recording(killed), load_garden().level)
    went_on_from = len(Recording(killed).flushes) if newest is None else newest.flushes
    passed_over = take_up(Recording(tmp_path / "m"), load_garden().level)
    if damage in (cut_off, alter, of_other_contents, of_another_release, of_another_flush):
        assert passed_over is None or passed_over.flushes < went_on_from
    assert 0 < recorder.replayed_rulings <= rulings
    fresh = replay(Recording(tmp_path / "m"))
    assert len(fresh.rulings) == rulings
    newest = recorder.referee.history.newest_tick
    recorder.record(newest + 1, recorder.referee.history.newest_time + 1 / 64, [], [])
    recorder.advance(recorder.referee.history.newest_time)
    recorder.close()
    again = Recording(tmp_path / "m")
    assert replay(again).as_recorded
    assert not (tmp_path / "m" / "checkpoints").exists()


class Killed(BaseException):
    """The process ends here."""


def test_a_start_that_is_killed_again_and_again_still_gets_to_the_end(tmp_path, killed, monkeypatch):
    """A kill while a match is brought back costs only what was ruled since the last checkpoint of that start.

    The two checkpoints that lie there are of another release: they go once there is one before them that can be used.
    """
    from tinclock.recordings import replaying

    shutil.copytree(killed, tmp_path / "m")
    for path in (tmp_path / "m" / "checkpoints").iterdir():
        of_another_release(path)
    monkeypatch.setattr(replaying, "SAVED_EVERY_S", 0.0)
    flushes, starts, done = len(Recording(tmp_path / "m").flushes), 0, []
    through = replaying._Course._flush

    def three_flushes(self: Any, flush: Any, until_s: float) -> None:
        if len(done) == 3:
            raise Killed
        done.append(flush.next_call)
        through(self, flush, until_s)

    monkeypatch.setattr(replaying._Course, "_flush", three_flushes)
    recorder, ends = None, []
    while recorder is None:
        starts += 1
        done.clear()
        try:
            recorder = Recorder.resume(tmp_path / "m", checkpoint_s=3.0)
        except Killed:
            ends.append(done[-1])
    assert starts == -(-flushes // 3)
    assert ends == sorted(set(ends))
    assert len(list((tmp_path / "m" / "checkpoints").iterdir())) <= 2
    recorder.close()
    monkeypatch.undo()
    assert replay(Recording(tmp_path / "m")).as_recorded


def graph_of(*nodes: list[Any]) -> bytes:
    """A checkpoint that somebody wrote by hand."""
    return msgspec.msgpack.encode(list(nodes))


def kind_of(kind: type) -> int:
    return KINDS.index(kind)


def owned(self: Any = None) -> None:
    """What must not be run."""
    Path("owned").touch()


class Runs:
    """What a pickle would run."""

    def __reduce__(self) -> tuple[Any, ...]:
        return owned, ()


STRANGE = {
    "a pickle": pickle.dumps(Runs(), 5),
    "no data": b"",
    "no referee": graph_of(["list", [1, 2]]),
    "a name": graph_of(["object", "tinclock.core.referee.Referee", None]),
    "a type by its name": graph_of(["type", "system"]),
    "a type from behind": graph_of(["object", -1, None]),
    "a type that there isn't": graph_of(["object", len(KINDS), None]),
    "a method": graph_of(["object", kind_of(tinclock.Referee), [1]], ["dict", ["rule", 5]]),
    "a class": graph_of(["object", kind_of(tinclock.Referee), [1]], ["dict", ["__class__", 5]]),
    "a property": graph_of(["object", kind_of(tinclock.Referee), [1]], ["dict", ["rules", 5]]),
    "a tuple in itself": graph_of(["tuple", [[0]]]),
    "too deep": graph_of(*[["tuple", [[place + 1]]] for place in range(5000)], ["tuple", []]),
    "numbers that are objects": graph_of(["array", "|O", [1], b"12345678", True]),
    "fewer numbers than said": graph_of(["array", "<f8", [2], b"12345678", True]),
    "a record as an object": graph_of(["object", kind_of(tinclock.Rules), [1]], ["dict", []]),
    "a node that there isn't": graph_of(["list", [[7]]]),
}


@pytest.mark.parametrize("what", STRANGE)
def test_a_checkpoint_of_a_strangers_makes_nothing_but_a_match(tmp_path, monkeypatch, what):
    """Bytes that somebody made call no function of theirs, replace no part of a class, and raise one error."""
    monkeypatch.chdir(tmp_path)
    before = {kind: dict(vars(kind)) for kind in KINDS}
    with pytest.raises(CheckpointError, match="rule the recording again instead"):
        referee_from(STRANGE[what], None)
    assert not list(tmp_path.iterdir())
    assert {kind: dict(vars(kind)) for kind in KINDS} == before


@pytest.mark.parametrize(("what", "why"), [
    ("a type from behind", "expected a whole number from 0"),
    ("a method", "is no field"),
    ("a tuple in itself", "holds itself"),
    ("too deep", "nodes deep"),
    ("numbers that are objects", "numbers of type"),
])  # fmt: skip
def test_a_strange_checkpoint_is_refused_for_its_own_reason(what, why):
    """Each check of the reader refuses what it is there for, before another failure does."""
    with pytest.raises(CheckpointError, match=why):
        referee_from(STRANGE[what], None)


def test_numbers_of_other_types_are_not_written():
    """An array of a type that isn't part of a state is refused by the writer as well."""
    with pytest.raises(TypeError, match="not part of a match's state"):
        GraphWriter(KINDS, PACKED, {}, {}).graph(np.zeros(1, np.complex128))


def test_mutated_checkpoints_make_a_match_or_one_error():
    """Whatever one node says instead, and wherever the bytes end: a referee, or a `CheckpointError`."""
    rng = np.random.default_rng(3)
    referee = tinclock.Referee(load_garden().rules)
    for connection in ("c1", "c2"):
        referee.admit(connection=connection, account=connection, team="", rig="gardener", weapon="grit_rifle")
    data = checkpoint_of(referee)
    nodes = msgspec.msgpack.decode(data)
    odd = [None, -1, 2**63, 1e300, "rule", b"", [0], [len(nodes)], [], ["list", []]]
    refused = 0
    for _ in range(400):
        changed = msgspec.msgpack.decode(data)
        node = changed[rng.integers(len(changed))]
        node[rng.integers(len(node))] = odd[rng.integers(len(odd))]
        for raw in (msgspec.msgpack.encode(changed), data[: rng.integers(len(data))]):
            try:
                assert isinstance(referee_from(raw, None), tinclock.Referee)
            except CheckpointError:
                refused += 1
    assert refused > 400  # every one that was cut off, and most of the others


def test_what_a_match_is_made_of_is_listed():
    """An object of a type that is not listed is refused when it is written, by its name, and not when it is read."""
    with pytest.raises(TypeError, match=r"Runs is not listed as part of a match's state"):
        checkpoint_of([Runs()])


def test_without_checkpoints_everything_is_ruled_again(tmp_path, killed):
    """The folder may go: it is only a way to be quick."""
    shutil.copytree(killed, tmp_path / "m")
    shutil.rmtree(tmp_path / "m" / "checkpoints")
    assert take_up(Recording(tmp_path / "m"), None) is None
    recorder = Recorder.resume(tmp_path / "m")
    assert recorder.replayed_rulings == recorder.rulings
    recorder.close()
    with pytest.raises(BadNumberError, match="checkpoint_s: expected a number of seconds above 0, got 0"):
        Recorder(tmp_path / "n", tinclock.Referee(load_garden().rules), checkpoint_s=0)


def test_a_match_that_is_ruled_otherwise_leaves_no_checkpoint_behind(tmp_path, killed, monkeypatch):
    """What doesn't rule again as it was recorded is no state to go on from, however long ruling it took."""
    from tinclock.recordings import replaying

    shutil.copytree(killed, tmp_path / "m")
    shutil.rmtree(tmp_path / "m" / "checkpoints")
    monkeypatch.setattr(replaying, "SAVED_EVERY_S", 0.0)
    recording = Recording(tmp_path / "m")
    recording.flushes = [msgspec.structs.replace(flush, rulings_sha256="f" * 64) for flush in recording.flushes]
    with pytest.raises(RecordingError, match="doesn't rule again as it was recorded"):
        replaying.referee_at_end(recording)
    assert not list((tmp_path / "m").glob("checkpoints/*"))
