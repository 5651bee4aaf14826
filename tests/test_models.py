"""Whole histories and matches against plain models of them, in any order of events that hypothesis finds."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from conftest import Range
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule
from test_history import mixed_rig

import tinclock
from tinclock.core.combat.accounts import Blow
from tinclock.core.combat.held import Held
from tinclock.core.combat.ledger import Ledger
from tinclock.core.combat.weapons import Weapon
from tinclock.core.rules.weapons import WeaponRules
from tinclock.garden.scenario import data_file

View = tinclock.View
KEPT = 7  # a history of 0.5 s at 10 Hz has room for this many ticks


class HistoryAgainstAModel(RuleBasedStateMachine):
    """The ring buffer against a dictionary of everything that was ever recorded."""

    @initialize(storage=st.sampled_from(["full", "half"]))
    def begin(self, storage: str) -> None:
        self.history = tinclock.PoseHistory({"mixed": mixed_rig()}, tick_rate_hz=10, history_s=0.5, storage=storage)
        self.error = 1e-6 if storage == "full" else 1e-3
        self.here: dict[int, int] = {}
        self.poses: dict[int, dict[int, tuple[int, float]]] = {}
        self.next_id, self.tick = 1, 0

    @rule()
    def join(self) -> None:
        self.history.add(self.next_id, "mixed")
        self.here[self.next_id] = 1
        self.next_id += 1

    @precondition(lambda self: self.here)
    @rule(data=st.data())
    def leave(self, data: st.DataObject) -> None:
        entity = data.draw(st.sampled_from(sorted(self.here)))
        self.history.remove(entity)
        del self.here[entity]
        for bodies in self.poses.values():
            bodies.pop(entity, None)

    @precondition(lambda self: self.here)
    @rule(data=st.data())
    def cut(self, data: st.DataObject) -> None:
        entity = data.draw(st.sampled_from(sorted(self.here)))
        self.history.cut(entity)
        self.here[entity] += 1

    @rule(data=st.data(), skipped=st.integers(1, 3))
    def record(self, data: st.DataObject, skipped: int) -> None:
        self.tick += skipped
        who = data.draw(st.permutations(sorted(self.here)))
        who = who[: data.draw(st.integers(0, len(who)))]
        places = [data.draw(st.floats(-50.0, 50.0)) for _ in who]
        bones = [np.array([[x, k, 0, 0, 0, 0, 1.0] for k in range(3)]) for x in places]
        self.history.record(self.tick, self.tick / 10, who, bones)
        self.poses[self.tick] = {e: (self.here[e], x) for e, x in zip(who, places, strict=True)}

    @invariant()
    def reads_back_what_the_model_says(self) -> None:
        if not hasattr(self, "poses"):
            return
        held = list(self.poses)[-KEPT:]
        assert [tick for tick in self.poses if self.history.holds(tick)] == held
        for a, b in [(a, b) for a in held for b in held if a <= b][-6:]:
            for fraction in (0.0, 0.25, 1.0):
                self.compare(View(a, b, fraction))

    def compare(self, view: View) -> None:
        before, after = self.poses[view.from_tick], self.poses[view.to_tick]
        shown = {}
        for entity in self.here:
            a, b = before.get(entity), after.get(entity)
            away = any(view.from_tick < t < view.to_tick and entity not in there for t, there in self.poses.items())
            if a and b and away and 0.0 < view.fraction < 1.0:
                continue
            if a and b and a[0] == b[0] and not away:
                shown[entity] = a[1] + view.fraction * (b[1] - a[1])
            elif (b if view.fraction >= 1.0 else a) is not None:
                shown[entity] = (b if view.fraction >= 1.0 else a)[1]
        assert self.history.present(view) == sorted(shown)
        for entity in self.here:
            bones = self.history.bones_at(entity, view)
            if entity in shown:
                assert bones[:, 0] == pytest.approx(np.full(3, shown[entity]), abs=self.error)
            else:
                assert bones is None


TestHistoryAgainstAModel = HistoryAgainstAModel.TestCase
TestHistoryAgainstAModel.settings = settings(max_examples=40, stateful_step_count=25, deadline=None)


def weapon(**fields: object) -> WeaponRules:
    return msgspec.structs.replace(WeaponRules(kind="hitscan", damage=10.0, interval_s=0.1, range_m=50.0), **fields)


RULES = tinclock.load_rules(data_file("garden.toml"))


@settings(max_examples=30)
@given(st.lists(st.integers(0, 7), min_size=1, max_size=40))
def test_duplicated_and_reordered_claims_are_each_applied_exactly_once(arrivals):
    """Whatever the network repeats and swaps, health falls once a sequence number, and repeats get the same receipt."""
    here = Range(RULES, None, fire_rate={"tolerance_s": 99.0})
    claims = [here.aimed() for _ in range(8)]
    receipts: dict[int, tinclock.Receipt] = {}
    seen: set[int] = set()
    dealt = 0.0
    for k in arrivals:
        ruling = here.referee.rule("s", claims[k], received_at=here.now)
        dealt += ruling.damage
        assert receipts.setdefault(k, ruling.receipt()) == ruling.receipt()
        assert (ruling.first is None) == (k not in seen)
        seen.add(k)
    assert dealt == pytest.approx(min(100.0, 17.0 * len(set(arrivals))))
    assert here.referee.ledger.health(here.runner) == pytest.approx(100.0 - dealt)


@given(st.lists(st.floats(0.0, 0.5), min_size=1, max_size=200), st.floats(0.05, 0.4), st.floats(0.0, 0.5))
def test_no_spread_of_shots_beats_the_weapon_by_more_than_the_allowance(waits, interval, allowance):
    """However they are spread, no more than (T + allowance) / interval + 1 shots pass in any time T."""
    held, passed = Held(Weapon("w", weapon(interval_s=interval)), b"key"), []
    for now in np.cumsum(waits).tolist():
        if held.fire_rate.ready_at - now <= allowance:
            held.spend(now)
            passed.append(now)
    for i, first in enumerate(passed):
        for count, last in enumerate(passed[i:], start=1):
            assert count <= (last - first + allowance) / interval + 1 + 1e-9


@given(st.floats(0.0, 80.0), st.sampled_from(["head", "torso", "arm", "tail"]))
def test_damage_is_the_tables_product_and_never_above_the_most(distance, zone):
    """Damage is the table's product and never above the most."""
    table = Weapon("w", RULES.weapons["grit_rifle"])
    factor = np.interp(distance, [12.0, 40.0], [1.0, 0.5])
    expected = 17.0 * factor * {"head": 2.5, "torso": 1.0, "arm": 0.7, "tail": 1.0}[zone]
    assert table.damage_at(distance, zone) == pytest.approx(expected)
    assert table.damage_at(distance, zone) <= table.max_damage + 1e-9


@given(st.lists(st.tuples(st.integers(1, 3), st.floats(0.0, 60.0)), max_size=40))
def test_events_alone_rebuild_the_ledger(blows):
    """Every change is an event, numbered without gaps; replaying them gives the books."""
    ledger = Ledger(100.0)
    for entity in (1, 2, 3):
        ledger.open(entity)
        ledger.spawn(entity, 0.0)
    for time, (entity, amount) in enumerate(blows):
        wound = ledger.wound(entity, amount, float(time), Blow("shot", 1, "grit_rifle", "chest"))
        if wound.lethal and time % 2:
            ledger.spawn(entity, float(time))
    events = ledger.bulletin.take()
    assert [event.number for event in events] == list(range(1, len(events) + 1))
    health: dict[int, float] = {}
    for event in events:
        if event.kind == "health":
            assert health[event.entity] == event.before
        if event.kind in ("spawn", "health"):
            health[event.entity] = event.health if event.kind == "spawn" else event.after
    assert health == {entity: ledger.health(entity) for entity in (1, 2, 3)}
    assert {entity for entity in health if health[entity] == 0.0} == ledger.dead
    assert msgspec.json.decode(msgspec.json.encode(events), type=list[tinclock.Event]) == events
