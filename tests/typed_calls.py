"""Public calls and what they return, for the type checker: `make lint` runs mypy over this. It is never executed."""

from __future__ import annotations

from pathlib import Path
from typing import assert_type

import numpy as np
import pandas
from numpy.typing import NDArray

import tinclock
from tinclock.batch.jobs import Task
from tinclock.batch.pools import LocalPool
from tinclock.batch.run import run_batch
from tinclock.core.timeline.hitboxes import Hitboxes
from tinclock.intake.logs.mapping import load_log_map
from tinclock.intake.logs.reading import read_logs
from tinclock.recordings.from_logs import record_logs
from tinclock.testing import Stage


def rulings(rules: tinclock.Rules, level: tinclock.Level) -> None:
    referee = tinclock.Referee(rules, level=level, seed=1, storage="half")
    assert_type(
        referee.admit(connection="c", account="a", team="", rig="gardener", interpolation=tinclock.Interpolation()), int
    )
    assert_type(referee.add_entity("door"), int)
    ruling = referee.rule("c", {"kind": "shot"}, received_at=0.5)
    assert_type(ruling, tinclock.Ruling)
    assert_type(ruling.hits, tuple[tinclock.Hit, ...])
    assert_type(ruling.findings, tuple[tinclock.Finding, ...])
    assert_type(ruling.explain(), str)
    assert_type(ruling.receipt(), tinclock.Receipt)
    assert_type(referee.events(), list[tinclock.Event])
    assert_type(referee.clock("c"), tinclock.types.ClockEstimate)
    assert_type(referee.view_bounds("c").rewind_limit_s, float)
    assert_type(referee.welcome("c").state, tinclock.client.State)
    assert_type(tinclock.client.apply_event(referee.state(), referee.events(since=0)[0]), tinclock.client.State)
    assert_type(referee.advance(1.0), list[tinclock.Ruling])
    assert_type(referee.act(1, {"kind": "status"}, server_time=1.0).receipt().state, tinclock.types.ActorState | None)
    assert_type(referee.melee_targets(1), list[tinclock.types.ReachedHitbox])
    assert_type(referee.position(1), tuple[float, float, float] | None)
    assert_type(referee.state().projectiles, tuple[tinclock.types.InFlight, ...])


def flights(launch: tinclock.types.InFlight) -> None:
    flight = tinclock.client.ProjectilePath(launch.motion, launch.server_time, launch.position, launch.velocity)
    assert_type(flight.path([0.0, 1.0]), NDArray[np.float64])
    assert_type(flight.at(1.0), tuple[tuple[float, float, float], tuple[float, float, float]])


def history(past: tinclock.PoseHistory, rig: tinclock.Rig, view: tinclock.View) -> None:
    assert_type(past.nearest((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), view, radius_m=0.1), tinclock.types.PartHit | None)
    many = past.nearest_many(np.zeros((1, 3)), np.ones((1, 3)), 0, 0, 0.0)
    assert_type(many, tinclock.types.PartHits)
    assert_type(many.distance_m, NDArray[np.float64])
    boxes = past.hitboxes_at(1, view)
    assert_type(boxes, Hitboxes | None)
    if boxes is not None:
        assert_type(tinclock.hitboxes_frame(boxes), pandas.DataFrame)
    assert_type(tinclock.rooted_bones(rig, np.zeros((1, 7))), NDArray[np.float64])


def levels(level: tinclock.Level) -> None:
    assert_type(tinclock.load_level("level.toml"), tinclock.Level)
    assert_type(tinclock.load_rules("rules.toml"), tinclock.Rules)
    assert_type(tinclock.cached_level("cache", level.vertices, level.faces), tinclock.Level)
    assert_type(level.sees((0.0, 0.0, 0.0), (1.0, 0.0, 0.0)), bool)
    hit = level.first((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), 9.0)
    if hit is not None:
        assert_type(hit.surface, tinclock.types.Surface)


def recordings(referee: tinclock.Referee) -> None:
    with tinclock.recordings.Recorder("evening", referee) as recorder:
        assert_type(recorder.admit(connection="c", account="a", rig="gardener"), int)
        assert_type(recorder.rule("c", b"{}", received_at=0.5), tinclock.Ruling)
        assert_type(recorder.advance(1.0), list[tinclock.Ruling])
    recording = tinclock.recordings.Recording("evening", recover=True)
    assert_type(recording.verify(), list[str])
    assert_type(tinclock.recordings.replay(recording).as_recorded, bool)
    assert_type(list(recording.rulings(1.0, 2.0)), list[tinclock.Ruling])


def stage(rules: tinclock.Rules) -> None:
    made = Stage(rules)
    assert_type(made.enter("ada", (0.0, 0.0, 0.0)), int)
    assert_type(made.run(1.0), list[tinclock.Ruling])
    assert_type(made.shoot("ada", "ada", part="head"), tinclock.Ruling)
    assert_type(made.health("ada"), float)


def other_servers_logs(rules: tinclock.Rules) -> None:
    mapping = load_log_map("mapping.toml")
    found = record_logs(read_logs(mapping, ".", rules), rules, Path("evening"))
    assert_type(found.rulings, list[tuple[str, tinclock.Ruling]])
    swept = run_batch(Path("results"), Task(job="replay"), [Path("evening")], LocalPool())
    assert_type(swept.broken, list[tuple[str, str]])
