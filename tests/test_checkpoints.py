"""A match's state as bytes: what goes on from it is the same match, and nothing else can be in it."""

from __future__ import annotations

import os
import pickle
import shutil
import time
from typing import Any

import msgspec
import pytest
from test_commands import every_command
from test_following import copy_while_written

import tinclock
from tinclock.core.checkpoint import checkpoint_of, referee_from
from tinclock.core.errors import BadNumberError, CheckpointError
from tinclock.core.ruling.calls import MatchCalls
from tinclock.garden.scenario import load_garden
from tinclock.recordings import Recorder, Recording, rerule
from tinclock.recordings.checkpoints import made_by, take_up
from tinclock.recordings.layout import sha256
from tinclock.sample import play_match

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


def test_a_match_that_goes_on_from_checkpoints_is_ruled_bit_for_bit_as_without(monkeypatch):
    """Every ruling and event of a match with all weapons, doors and unfair players, taken over again and again."""
    calm = play_match(seed=17, seconds=7.0, players=10, unfair=UNFAIR)
    monkeypatch.setattr("tinclock.garden.match.Referee", Interrupted)
    moved = play_match(seed=17, seconds=7.0, players=10, unfair=UNFAIR)
    assert encoded(calm.rulings) == encoded(moved.rulings)
    assert encoded(calm.events) == encoded(moved.events)
    assert {ruling.kind for ruling in calm.rulings} >= {"shot", "move", "launch", "flight", "trigger", "handle"}


def test_a_match_goes_on_after_any_command():
    """What each kind of command leaves behind is in a checkpoint, other rules from the next tick on included."""
    plain, moved = tinclock.Referee(load_garden().rules, seed=5), Interrupted(load_garden().rules, seed=5)
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

    play_match(seed=23, seconds=seconds, players=6, unfair=UNFAIR, record_to=path, on_progress=look)


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


def of_another_match(path: Any) -> None:
    """A sound state that what follows doesn't fit."""
    import pyarrow as pa

    line, _, _ = path.read_bytes().partition(b"\n")
    data = checkpoint_of(tinclock.Referee(load_garden().rules, level=load_garden().level, seed=1))
    label = {**msgspec.json.decode(line), "bytes": len(data), "sha256": sha256(data)}
    path.write_bytes(msgspec.json.encode(label) + b"\n" + pa.Codec("zstd").compress(data, asbytes=True))


@pytest.mark.parametrize("damage", [None, cut_off, alter, of_another_release, of_another_flush, of_another_match])
@pytest.mark.parametrize("which", ["newest", "both"])
def test_a_recording_goes_on_from_the_newest_checkpoint_that_can_be_used(tmp_path, killed, damage, which):
    """From the newest, from the one before, or from the beginning: the match is the same one, and says how it began."""
    shutil.copytree(killed, tmp_path / "m")
    states = sorted((tmp_path / "m" / "checkpoints").iterdir())
    for path in states if which == "both" else states[-1:]:
        if damage is not None:
            damage(path)
    recorder = Recorder.going_on(tmp_path / "m", checkpoint_s=3.0)
    rulings = recorder.rulings
    whole = damage is not None and (which == "both" or damage is of_another_match)
    assert (recorder.ruled_again == rulings) == whole
    assert 0 < recorder.ruled_again <= rulings
    fresh = rerule(Recording(tmp_path / "m"))
    assert len(fresh.rulings) == rulings
    newest = recorder.referee.history.newest_tick
    recorder.record(newest + 1, recorder.referee.history.newest_time + 1 / 64, [], [])
    recorder.advance(recorder.referee.history.newest_time)
    recorder.close()
    again = Recording(tmp_path / "m")
    assert rerule(again).as_recorded
    assert not (tmp_path / "m" / "checkpoints").exists()


class Runs:
    """What a pickle would run."""

    def __init__(self, what: Any, *given: Any) -> None:
        self.what, self.given = what, given

    def __reduce__(self) -> tuple[Any, ...]:
        return self.what, self.given


@pytest.mark.parametrize(
    "what",
    [
        Runs(os.system, "touch owned"),
        Runs(eval, "open('owned', 'w')"),
        Runs(getattr, tinclock.Referee, "rule"),
        Runs(tinclock.rooted_bones, None, None),
        Runs(shutil.rmtree, "."),
        [1, 2],
    ],
    ids=["a program", "text as code", "an attribute", "a function of ours", "a file's end", "no referee"],
)
def test_a_checkpoint_of_a_strangers_makes_nothing_but_a_match(tmp_path, monkeypatch, what):
    """Reading bytes that somebody made calls no function of theirs, and raises one error."""
    monkeypatch.chdir(tmp_path)
    with pytest.raises(CheckpointError, match="rule the recording again instead"):
        referee_from(pickle.dumps(what, 5), None)
    with pytest.raises(CheckpointError):
        referee_from(checkpoint_of(tinclock.Referee(load_garden().rules))[:-9], None)
    assert not list(tmp_path.iterdir())


def test_a_name_that_one_of_our_modules_imports_is_not_ours():
    """`tinclock.core.x.y` is refused where y comes from somewhere else."""
    data = b"\x80\x04\x8c\x18tinclock.core.checkpoint\x8c\x07BytesIO\x93."
    with pytest.raises(CheckpointError, match=r"checkpoint\.BytesIO is no part of a match's state"):
        referee_from(data, None)


def test_without_checkpoints_everything_is_ruled_again(tmp_path, killed):
    """The folder may go: it is only a way to be quick."""
    shutil.copytree(killed, tmp_path / "m")
    shutil.rmtree(tmp_path / "m" / "checkpoints")
    assert take_up(Recording(tmp_path / "m"), None) is None
    recorder = Recorder.going_on(tmp_path / "m")
    assert recorder.ruled_again == recorder.rulings
    recorder.close()
    with pytest.raises(BadNumberError, match="checkpoint_s: expected a number of seconds above 0, got 0"):
        Recorder(tmp_path / "n", tinclock.Referee(load_garden().rules), checkpoint_s=0)
