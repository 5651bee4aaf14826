"""The barrow run: the demo game's second scenario, in which its server decides beside the claims."""

from __future__ import annotations

from collections import Counter

import msgspec
import pytest

from tinclock.core.combat.published import State, apply_event
from tinclock.errors import RulesError, UnknownNameError
from tinclock.evidence import load_calibration, observed_in, peak, weigh
from tinclock.garden.match import simulate_match
from tinclock.garden.scenario import load_garden
from tinclock.recordings import Recording, replay


@pytest.fixture(scope="module")
def run(tmp_path_factory):
    """Forty seconds of eight honest gardeners, recorded."""
    path = tmp_path_factory.mktemp("barrow") / "run"
    played = simulate_match(seed=11, seconds=40.0, cheats={}, scenario="barrow", record_to=path)
    return played, Recording(path)


def test_a_barrow_run_is_replayed_bit_for_bit_and_folds_into_its_state(run):
    """Rides, pushes, healing, phases and waves come out of the recording as they went in."""
    played, recording = run
    result = replay(recording)
    assert result.as_recorded
    assert result.refused == []
    state = msgspec.structs.replace(State(0, 0.0), phase="warm_up", keep_disconnected=False)
    for event in recording.events():
        state = apply_event(state, event)
    told = Counter(event.kind for event in played.events)
    assert told["vehicle"] >= 3
    assert told["push"] >= 3
    assert told["phase"] == 2
    assert any(event.kind == "health" and event.cause == "watering_can" for event in played.events)
    assert state.phase == "over"


def test_phases_say_what_counts_in_a_run(run):
    """Nobody loses health to a shot in the warm-up, and nobody fires for long once the match is over."""
    played, _ = run
    begins = {event.phase: event.server_time for event in played.events if event.kind == "phase"}
    lost = [event for event in played.events if event.kind == "health" and event.cause == "shot"]
    assert lost
    assert min(event.server_time for event in lost) >= begins["play"]
    late = [one for one in played.rulings if one.kind == "shot" and one.received_at > begins["over"] + 1.0]
    assert not late


def test_the_dead_of_a_run_come_back_in_waves(run):
    """Every life of a gardener but the first begins at a multiple of six seconds."""
    played, _ = run
    players = {entity for entity, name in played.entities.items() if name in {seat.account for seat in played.seats}}
    begun = [event.server_time for event in played.events if event.kind == "spawn" and event.entity in players]
    again = [at for at in begun if at > 0.0]
    assert again
    assert all(abs(at / 6.0 - round(at / 6.0)) < 0.01 for at in again)


def test_riders_hit_from_the_wheelbarrow_and_never_the_wheelbarrow(run):
    """Shots of riders are accepted as they were fired: their own vehicle stops none of them."""
    played, _ = run
    rides = [event for event in played.events if event.kind == "vehicle"]
    barrow = next(event.vehicle for event in rides if event.vehicle)
    spans = []
    for place, event in enumerate(rides):
        if event.vehicle:
            after = [late.server_time for late in rides[place:] if late.entity == event.entity and not late.vehicle]
            spans.append((event.entity, event.server_time + 1.0, after[0] if after else 40.0))
    shots = [
        one for one in played.rulings for entity, begin, end in spans
        if one.kind == "shot" and one.entity == entity and begin < one.received_at < end and one.outcome != "rejected"
    ]  # fmt: skip
    assert len(shots) >= 8
    assert not [one for one in shots if one.stopped_by is not None and one.stopped_by.entity == barrow]
    assert any(one.hits for one in shots)


def test_honest_players_of_a_run_have_no_case(run):
    """The server explains its own acts: nobody is thrown, healed or carried into evidence."""
    _, recording = run
    calibration = load_calibration()
    timeline = weigh(observed_in(recording), calibration, load_garden("barrow").rules)
    assert len(timeline.stages) == 8
    for account in timeline.stages:
        assert peak(timeline.points(account, calibration.kinds())) < 20.0


def test_rules_without_what_a_run_needs_are_refused_with_every_name():
    """The skirmish's own rules have no wheelbarrow, water or phases, and the error lists them."""
    with pytest.raises(RulesError, match=r"(?s)rigs\.wheelbarrow.*counters\.water.*phases\.over"):
        simulate_match(seconds=1.0, rules=load_garden().rules, scenario="barrow")


def test_there_is_no_third_scenario():
    """An unknown scenario is named with those that there are."""
    with pytest.raises(UnknownNameError, match="unknown scenario 'barow'"):
        load_garden("barow")
