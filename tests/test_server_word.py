"""The server's own word: what a game decides beside claims, and what rulings, events and recordings make of it."""

from __future__ import annotations

import math
from typing import Any

import msgspec
import numpy as np
import pytest

import tinclock
from tinclock.claims import MeleeClaim, MoveClaim, ShotClaim, UseClaim
from tinclock.core.checkpoint import checkpoint_of, referee_from
from tinclock.core.combat.published import State, apply_event
from tinclock.core.rules.game import CounterRules, LoadoutRules, PhaseRules, RegenerationRules, TeamRules
from tinclock.core.rules.movement import MovementRules
from tinclock.errors import AlreadyKnownError, BadNumberError, RulesError, TinClockError, UnknownNameError
from tinclock.evidence import load_calibration, observed_in, peak, weigh
from tinclock.garden.scenario import load_garden
from tinclock.recordings import Recording, replay
from tinclock.testing import Stage

GARDEN = load_garden().rules
HEADWAY = MovementRules(speed_m_s=6.0, up_m_s=5.0, acceleration_m_s2=1e4)


def rules_with(**tables: Any) -> tinclock.Rules:
    """The garden's rules with other keys: a table of keys, or the whole table."""
    changed = {}
    for name, keys in tables.items():
        table = getattr(GARDEN, name)
        is_table = isinstance(table, msgspec.Struct) and isinstance(keys, dict)
        changed[name] = msgspec.structs.replace(table, **keys) if is_table else keys
    return msgspec.structs.replace(GARDEN, **changed)


def weapon_with(name: str, **keys: Any) -> dict[str, Any]:
    return {**GARDEN.weapons, name: msgspec.structs.replace(GARDEN.weapons[name], **keys)}


class Played(Stage):
    """A stage that is recorded; at its end the recording is ruled again, and the events make the state."""

    def __init__(self, rules: tinclock.Rules, path: Any, **options: Any) -> None:
        super().__init__(rules, record_to=path / "match", **options)
        self.path = path / "match"

    def __exit__(self, *problem: object) -> None:
        super().__exit__(*problem)
        if problem[0] is not None:
            return
        state, told = State(0, 0.0, keep_disconnected=self.referee.rules.score.keep_disconnected), Recording(self.path)
        state = msgspec.structs.replace(state, phase=self.referee.rules.match.phase or "")
        for event in told.events():
            state = apply_event(state, event)
        assert state == self.referee.state()
        assert replay(told).as_recorded
        assert referee_from(checkpoint_of(self.referee), self.referee.level).state() == state


@pytest.fixture
def play(tmp_path):
    """A match of two on a stage, at 12 m from each other; `bob` is hit by everything that `ada` fires."""

    def begin(rules: tinclock.Rules = GARDEN, *, teams: tuple[str, str] = ("copper", "pewter")) -> Played:
        stage = Played(rules, tmp_path)
        for name, x, team in zip(("ada", "bob"), (0.0, 12.0), teams, strict=True):
            stage.enter(name, (x, 0.0, 0.0), team=team, weapon="grit_rifle", facing_rad=0.0 if x == 0.0 else math.pi)
        stage.run(2.0)
        return stage

    return begin


def codes(ruling: tinclock.Ruling) -> list[str]:
    return [finding.code for finding in ruling.findings]


def told(stage: Stage, kind: str) -> list[Any]:
    return [event for event in stage.referee.events(0) if event.kind == kind]


def test_a_recorded_match_hears_a_reported_view_as_an_unrecorded_one_does(play):
    """A `View` that a server hands to the recorder is the screen's report, not a text about it."""
    with play() as stage:
        alone = Stage(GARDEN)
        alone.enter("ada", (0.0, 0.0, 0.0))
        alone.run(2.0)
        delays = [one.referee.display_delays("ada", one.now) for one in (stage, alone)]
        assert delays[0] == delays[1]
        assert not math.isnan(delays[0].reported_s)


# -- health ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("mode", ["live", "shadow"])
def test_a_player_who_falls_and_is_healed_every_ten_seconds_is_never_dead(play, mode):
    """Falls of 30 and heals of 30 for a minute leave a fair player alive, and its shots are no `dead_actor`."""
    with play(rules_with(match={"mode": mode})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        for _ in range(6):
            stage.server.damage(ada, 30.0)
            assert codes(stage.shoot("ada", "bob")) == []
            stage.run(5.0)
            stage.server.heal(ada, 30.0, by=bob, cause="watering can")
            stage.server.set_health(bob, 100.0)
            stage.run(5.0)
        assert stage.referee.ledger.health(ada) == 100.0
        heals = [event for event in told(stage, "health") if event.cause == "watering can"]
        assert [(event.after, event.actor) for event in heals] == [(100.0, bob)] * 6


@pytest.mark.parametrize("mode", ["live", "shadow"])
def test_a_fair_player_who_is_healed_has_no_evidence(tmp_path, mode):
    """A minute of falls, heals, pushes, changes of sides and a reconnect, told as it is: below 0 decibans for all."""
    rules = rules_with(match={"mode": mode}, movement=HEADWAY, phases=PHASES)
    with Played(rules, tmp_path) as stage:
        for name, x, y, team in (
            ("ada", 0.0, 0.0, "copper"),
            ("bob", 12.0, 0.0, "pewter"),
            ("cyd", 6.0, 5.0, "pewter"),
        ):
            stage.enter(name, (x, y, 0.0), team=team, weapon="grit_rifle")
        stage.run(2.0)
        for k in range(12):
            ada, bob = stage.entity("ada"), stage.entity("bob")
            stage.server.damage(ada, 30.0)
            assert "dead_actor" not in codes(stage.shoot("ada", "bob"))
            stage.run(2.0)
            health = stage.referee.ledger.health(ada)
            stage.claim("ada", "status", health=health, client_time=stage.now + 99.975, view=stage.view(name="ada"))
            stage.server.heal(ada, 30.0)
            stage.server.set_health(bob, 100.0)
            stage.server.push(ada, (3.0, 0.0, 2.0))
            stage.run(3.0)
            if k == 5:
                stage.server.set_team(bob, "copper")
                stage.server.set_phase("freeze")
                stage.shoot("ada", "cyd")
                stage.server.set_phase("")
            if k == 8:
                stage.leave("cyd")
                stage.enter("cyd", (6.0, 5.0, 0.0), team="pewter")
                stage.run(1.0)
    recording, calibration = Recording(tmp_path / "match"), load_calibration()
    timeline = weigh(observed_in(recording), calibration, rules)
    assert "ada" in timeline.stages
    for account in timeline.stages:
        assert peak(timeline.points(account, calibration.kinds())) < 0.0, timeline.now(account)


def test_healing_goes_no_further_than_the_maximum_and_wakes_nobody(play):
    """Heals end at the maximum health and armour, do nothing to the dead, and a lower maximum cuts health down."""
    with play() as stage:
        ada = stage.entity("ada")
        stage.server.set_health(ada, 40.0, armour=20.0, max_health=80.0)
        stage.server.heal(ada, 500.0, armour=500.0)
        assert stage.referee.ledger.standing(ada) == (80.0, GARDEN.damage.max_armour)
        stage.server.set_health(ada, max_health=50.0)
        assert stage.referee.ledger.health(ada) == 50.0
        stage.server.set_health(ada, 0.0, cause="lava")
        assert [event.cause for event in told(stage, "death")] == ["lava"]
        stage.server.heal(ada, 10.0)
        stage.server.set_health(ada, 10.0)
        assert not stage.referee.ledger.alive(ada)
        stage.server.spawn(ada)
        assert stage.referee.ledger.health(ada) == 50.0


def test_a_trap_credits_the_player_who_laid_it(play):
    """Damage with a culprit is that player's kill, its cause is named, and the victim loses no points of its own."""
    with play() as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.server.damage(bob, 500.0, "trap", by=ada, weapon="rake in the grass")
        (death,) = told(stage, "death")
        assert (death.actor, death.cause, death.weapon) == (ada, "trap", "rake in the grass")
        assert "rake in the grass" in death.explain({ada: "ada", bob: "bob"})
        board = {row.entity: row for row in stage.referee.scoreboard()}
        assert (board[ada].kills, board[ada].score, board[ada].damage_given) == (1, GARDEN.score.kill, 100.0)
        assert (board[bob].deaths, board[bob].score) == (1, 0.0)


def test_a_trap_of_a_player_who_left_is_legal_and_credits_nobody(play):
    """Damage by an entity that is gone is applied; one that never was is a mistake of the caller's."""
    with play() as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.leave("ada")
        stage.server.damage(bob, 500.0, "trap", by=ada)
        assert not stage.referee.ledger.alive(bob)
        with pytest.raises(UnknownNameError):
            stage.server.damage(bob, 1.0, by=99)


def test_health_returns_by_itself_after_a_while(play):
    """Regeneration begins after its delay, goes on at fixed instants, and ends at the full health."""
    again = RegenerationRules(health=10.0, delay_s=3.0, every_s=0.5)
    with play(rules_with(damage={"regeneration": again})) as stage:
        ada, began = stage.entity("ada"), stage.now
        stage.server.damage(ada, 25.0, server_time=began)
        stage.run(2.9)
        assert stage.referee.ledger.health(ada) == 75.0
        stage.run(3.0)
        changes = [event for event in told(stage, "health") if event.cause == "regeneration"]
        assert [event.after for event in changes] == [85.0, 95.0, 100.0]
        assert [round(event.server_time - began, 6) for event in changes] == [3.0, 3.5, 4.0]


# -- coming back ----------------------------------------------------------------------------------------------


def test_leaving_and_coming_back_heals_nobody_and_keeps_everything(play):
    """The account gets its entity, health, armour, magazine, items, counters and row again, and its spread goes on."""
    with play(rules_with(counters={"coins": CounterRules()})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        assert stage.shoot("ada", "bob").hits
        stage.run(0.5)
        stage.server.set_health(ada, 57.5, armour=12.0)
        stage.server.set_item(ada, "oil_can", 5)
        stage.server.give_weapon(ada, "gravel_scatter", magazine=3)
        stage.server.set_weapon(ada, "gravel_scatter")
        stage.run(1.0)
        stage.server.set_counter(ada, "coins", 7.0)
        stage.server.add_score(30.0, entity=ada)
        before = next(row for row in stage.referee.scoreboard() if row.entity == ada)
        rounds = stage.shoot("ada", "bob").state.magazine
        stage.leave("ada")
        stage.run(2.0)
        assert stage.enter("ada", (0.0, 0.0, 0.0), team="copper", weapon="gravel_scatter") == ada
        stage.run(2.0)
        assert stage.referee.ledger.standing(ada) == (57.5, 12.0)
        after = next(row for row in stage.referee.scoreboard() if row.entity == ada)
        assert (after.score, after.shots) == (before.score, before.shots + 1)
        state = stage.referee.state().entity(ada)
        assert state.counters == {"coins": 7.0}
        again = stage.shoot("ada", "bob")
        assert (again.state.magazine, again.state.shots) == (rounds - 1, 2)
        assert again.hits[0].victim == bob


def test_a_player_who_left_dead_comes_back_dead(play):
    """Quitting is no way to a faster spawn."""
    with play() as stage:
        ada = stage.entity("ada")
        stage.server.damage(ada, 500.0)
        stage.leave("ada")
        assert stage.enter("ada", team="copper") == ada
        assert not stage.referee.ledger.alive(ada)
        stage.run(0.5)
        assert stage.server.rule("ada", {"kind": "status", "sequence": 1, "actor": ada}, received_at=stage.now)
        stage.server.spawn(ada)
        assert stage.referee.ledger.alive(ada)


def test_with_rejoin_new_an_account_begins_as_a_stranger(play):
    """The rules may want that: another entity, full health."""
    with play(rules_with(match={"rejoin": "new"})) as stage:
        ada = stage.entity("ada")
        stage.server.damage(ada, 40.0)
        stage.leave("ada")
        back = stage.enter("ada", team="copper")
        assert back > ada
        assert stage.referee.ledger.health(back) == 100.0


@pytest.mark.parametrize("says", ["allow", "refuse", "take_over"])
def test_a_second_connection_of_an_account_does_what_the_rules_say(says):
    """It gets an entity of its own, raises, or continues with the entity of the first one, which is dismissed."""
    referee = tinclock.Referee(rules_with(match={"second_connection": says}))
    first = referee.admit(connection="c-1", account="ada", rig="gardener")
    referee.damage(first, 40.0)
    if says == "refuse":
        with pytest.raises(AlreadyKnownError, match="ada"):
            referee.admit(connection="c-2", account="ada", rig="gardener")
        return
    second = referee.admit(connection="c-2", account="ada", rig="gardener")
    assert (second == first) == (says == "take_over")
    assert referee.connections == (("c-2",) if says == "take_over" else ("c-1", "c-2"))
    assert referee.ledger.health(second) == (60.0 if says == "take_over" else 100.0)


@pytest.mark.parametrize(
    "wrong",
    [{"rig": "gardner"}, {"weapon": "rake"}, {"weapons": ("rake",)}, {"loadout": "x"}, {"team": "x" * 300}],
    ids=str,
)
def test_a_wrong_admission_takes_nothing_over_and_forgets_nobody(wrong):
    """Names are checked before the first connection is dismissed, or what an account left is used up."""
    referee = tinclock.Referee(rules_with(match={"second_connection": "take_over"}))
    first = referee.admit(connection="c-1", account="ada", rig="gardener")
    for name in ("ada", "bob"):
        if name == "bob":
            second = referee.admit(connection="c-2", account="bob", rig="gardener")
            referee.damage(second, 40.0)
            referee.dismiss("c-2")
        before = referee.state()
        with pytest.raises(TinClockError):
            referee.admit(**{"connection": "c-3", "account": name, "rig": "gardener", **wrong})
        assert (referee.state(), referee.connections) == (before, ("c-1",))
    back = referee.admit(connection="c-2", account="bob", rig="gardener")
    assert (back, referee.ledger.health(back), first) == (second, 60.0, 1)


# -- teams and equipment --------------------------------------------------------------------------------------


def test_a_player_who_changes_sides_is_a_team_mate_at_once(play):
    """Friendly fire goes by the team of the present; the row of the board moves, the old team keeps its points."""
    with play() as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.server.add_score(10.0, entity=bob)
        assert stage.shoot("ada", "bob").damage > 0.0
        stage.server.set_team(bob, "copper")
        stage.run(0.5)
        assert stage.shoot("ada", "bob").damage == 0.0
        assert stage.referee.state().teams["pewter"] == 10.0
        stage.server.set_team(ada, "")
        stage.run(0.5)
        assert stage.shoot("ada", "bob").damage > 0.0


def test_nobody_carries_a_weapon_that_is_not_for_clients():
    """A client that draws and fires the sprinkler's own jet is refused: it isn't in its loadout."""
    referee = tinclock.Referee(GARDEN)
    ada = referee.admit(connection="c-1", account="ada", rig="gardener")
    draw = {"kind": "weapon_action", "sequence": 1, "actor": ada, "weapon": "sprinkler_jet", "action": "draw"}
    assert codes(referee.rule("c-1", draw, received_at=0.1)) == ["weapon_not_carried"]


def test_a_loadout_comes_from_the_admission_else_the_team_else_the_rig():
    """Each says what an entity carries, and the first weapon is in hand; unknown names are mistakes of the rules."""
    loadouts = {
        "scout": LoadoutRules(weapons=["trowel"]), "mason": LoadoutRules(weapons=["hose", "trowel"], items=["oil_can"])
    }  # fmt: skip
    rigs = {**GARDEN.rigs, "gardener": msgspec.structs.replace(GARDEN.rigs["gardener"], loadout="scout")}
    rules = rules_with(loadouts=loadouts, rigs=rigs, teams={"pewter": TeamRules(loadout="mason")})
    referee = tinclock.Referee(rules)
    held = []
    for name, team, loadout in (("a", "copper", None), ("b", "pewter", None), ("c", "pewter", "scout")):
        referee.admit(connection=name, account=name, rig="gardener", team=team, loadout=loadout)
        held.append(referee.state().entities[-1].weapon)
    assert held == ["trowel", "hose", "trowel"]
    use = UseClaim(1, 1, "oil_can")
    assert codes(referee.rule("a", use, received_at=0.1)) == ["unknown_item"]
    with pytest.raises(UnknownNameError, match="unknown loadout 'mazon'; known: 'scout', 'mason'"):
        referee.admit(connection="d", account="d", rig="gardener", loadout="mazon")
    with pytest.raises(RulesError, match=r"teams\.pewter\.loadout: unknown 'x'"):
        tinclock.Referee(rules_with(teams={"pewter": TeamRules(loadout="x")}))


def test_a_weapon_that_is_taken_and_given_back_goes_on_with_its_spread(play):
    """Taking and giving a weapon starts no stream anew, so that nobody sees the same spread twice."""
    with play() as stage:
        ada = stage.entity("ada")
        stage.server.set_weapon(ada, "gravel_scatter")
        stage.run(1.0)
        first = stage.shoot("ada", "bob")
        stage.server.take_weapon(ada, "gravel_scatter")
        assert stage.referee.state().entity(ada).weapon != "gravel_scatter"
        stage.run(0.5)
        stage.server.give_weapon(ada, "gravel_scatter", magazine=2)
        stage.server.set_weapon(ada, "gravel_scatter")
        stage.run(2.0)
        second = stage.shoot("ada", "bob")
        assert (first.shot, second.shot, second.state.magazine) == (1, 2, 1)
        assert first.rays != second.rays


def test_items_are_granted_and_taken(play):
    """A granted item can be used, one that was taken can't."""
    with play() as stage:
        ada = stage.entity("ada")
        stage.server.set_item(ada, "oil_can", 0)
        stage.server.damage(ada, 50.0)
        use = {"kind": "use", "actor": ada, "item": "oil_can"}
        assert codes(stage.referee.rule("ada", {**use, "sequence": 900}, received_at=stage.now)) == ["item_spent"]


@pytest.mark.parametrize(
    ("effect", "amount", "damage"), [("shield", 0.0, 0.0), ("boost", 1.2, 1.2)], ids=("shield", "boost")
)
def test_an_effect_lasts_for_its_time_and_ends_when_the_server_says_so(play, effect, amount, damage):
    """While it lasts, hits do what it says; a duration of 0 ends it."""
    with play() as stage:
        usual = stage.shoot("ada", "bob").damage
        who = stage.entity("bob" if effect == "shield" else "ada")
        stage.server.set_effect(who, effect, 1.0, amount)
        stage.run(0.4)
        assert stage.shoot("ada", "bob").damage == pytest.approx(damage * usual)
        stage.server.set_effect(who, effect, 0.0)
        stage.run(0.4)
        stage.server.heal(stage.entity("bob"), 100.0)
        assert stage.shoot("ada", "bob").damage == usual


# -- scores, counters, phases, rounds -------------------------------------------------------------------------


def test_the_leader_is_the_one_with_most_kills_where_the_rules_say_so(play):
    """Points don't lead then."""
    with play(rules_with(score={"leader": "kills"})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.server.add_score(500.0, entity=bob)
        assert stage.referee.state().leader == 0
        stage.server.damage(bob, 500.0, by=ada)
        assert stage.referee.state().leader == ada
        assert [row.entity for row in stage.referee.scoreboard()] == [ada, bob]


def test_the_board_counts_shots_hits_and_damage(play):
    """A miss, a hit and a hit with the trowel: both ways of a claim count alike."""
    with play() as stage:
        ada = stage.entity("ada")
        stage.shoot("ada", "bob")
        stage.run(0.5)
        stage.shoot("ada", (0.0, 0.0, 1.0))
        stage.run(0.5)
        stage.server.set_weapon(ada, "gravel_scatter")
        stage.run(1.0)
        stage.shoot("ada", "bob")
        row = next(row for row in stage.referee.scoreboard() if row.entity == ada)
        assert (row.shots, row.hits) == (3, 2)
        assert row.accuracy == pytest.approx(2 / 3)
        assert row.damage_given == pytest.approx(100.0 - stage.referee.ledger.health(stage.entity("bob")))


def test_a_shot_with_a_price_needs_the_money_and_takes_it(play):
    """A client that can't pay is refused with `cannot_afford`, and a refused shot costs nothing."""
    rules = rules_with(
        counters={"coins": CounterRules(start=5.0, max_value=8.0)},
        weapons=weapon_with("grit_rifle", costs={"coins": 4.0}),
    )
    with play(rules) as stage:
        ada = stage.entity("ada")
        assert stage.shoot("ada", "bob").hits
        stage.run(0.5)
        refused = stage.shoot("ada", "bob")
        assert (refused.outcome, codes(refused)) == ("rejected", ["cannot_afford"])
        assert "coins" in refused.explain()
        assert stage.referee.state().entity(ada).counters == {"coins": 1.0}
        stage.server.set_counter(ada, "coins", 99.0)
        assert stage.referee.state().entity(ada).counters == {"coins": 8.0}
        stage.run(0.5)
        assert stage.shoot("ada", "bob").hits


PHASES = {
    "freeze": PhaseRules(weapons=False, moves=False),
    "warm_up": PhaseRules(damage=False, scores=False),
    "over": PhaseRules(scores=False),
}


def test_a_held_trigger_stops_when_its_player_cannot_pay(play):
    """Shots that the server fires have a price too: two are paid, the third is refused, and the trigger is released."""
    costly = weapon_with("hose", costs={"coins": 2.0})
    with play(rules_with(counters={"coins": CounterRules(start=5.0)}, weapons=costly)) as stage:
        stage.server.set_weapon(stage.entity("ada"), "hose")
        stage.run(1.0)
        assert stage.claim(
            "ada", "trigger", weapon="hose", held=True, direction=(1.0, 0.0, 0.0), view=stage.view(name="ada")
        )
        fired = stage.run(1.0)
        assert [(one.outcome, codes(one)) for one in fired] == [
            ("accepted", []), ("accepted", []), ("rejected", ["cannot_afford"])
        ]  # fmt: skip
        assert stage.referee.state().entity(stage.entity("ada")).counters == {"coins": 1.0}


def test_a_phase_says_what_counts(play):
    """Freeze rejects shots and moves, warm-up hits without damage, over leaves the board as it is."""
    with play(rules_with(phases=PHASES, match={"phase": "freeze"})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        assert codes(stage.shoot("ada", "bob")) == ["not_in_phase"]
        moved = stage.claim("ada", "move", position=(0.01, 0.0, 0.0), client_time=stage.now + 100.0)
        assert codes(moved) == ["not_in_phase"]
        stage.server.set_phase("warm_up")
        stage.run(0.5)
        shot = stage.shoot("ada", "bob")
        assert ([hit.damage for hit in shot.hits], stage.referee.ledger.health(bob)) == ([0.0], 100.0)
        assert "no damage" in shot.explain()
        stage.server.set_phase("over")
        stage.run(0.5)
        assert stage.shoot("ada", "bob").damage > 0.0
        stage.server.damage(bob, 500.0, by=ada)
        assert all(row.score == row.kills == row.deaths == 0 for row in stage.referee.scoreboard())
        stage.server.set_phase("")
        assert stage.referee.state().phase == ""


def test_a_held_trigger_does_not_fire_into_a_freeze(play):
    """A trigger that was held when the phase began is released."""
    with play(rules_with(phases=PHASES)) as stage:
        stage.server.set_weapon(stage.entity("ada"), "hose")
        stage.run(1.0)
        assert stage.shoot("ada", "bob", kind="trigger", held=True).outcome == "accepted"
        stage.server.set_phase("freeze")
        assert stage.run(1.0) == []


def test_a_round_begins_with_everybody_alive_and_nothing_in_the_air(play):
    """Lives, magazines and counters are at their start, projectiles end, and the board is cleared if asked for."""
    with play(rules_with(counters={"coins": CounterRules(start=1.0)})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.server.set_weapon(ada, "clod_mortar")
        stage.run(2.0)
        stage.shoot("ada", (5.0, 0.0, 30.0), kind="launch")
        stage.server.damage(bob, 500.0, by=ada)
        stage.server.set_counter(bob, "coins", 9.0)
        assert stage.referee.state().projectiles
        stage.server.reset_round(scores=True)
        state = stage.referee.state()
        assert (state.projectiles, state.entity(bob).alive) == ((), True)
        assert state.entity(bob).counters == {"coins": 1.0}
        assert [(row.score, row.kills, row.deaths) for row in state.rows] == [(0.0, 0, 0)] * 2


# -- movement -------------------------------------------------------------------------------------------------


class Runner:
    """A client that reports its moves 32 times a second on a line without jitter, and answers pings at once."""

    def __init__(self, rules: tinclock.Rules, rig: str = "gardener") -> None:
        self.referee = tinclock.Referee(rules, seed=3)
        self.entity = self.referee.admit(connection="r", account="runner", rig=rig)
        self.place, self.now, self.sequence = np.zeros(3), 0.0, 0
        self.referee.set_position(self.entity, (0.0, 0.0, 0.0), 0.0)
        self.found: list[str] = []

    def go(self, velocity: tuple[float, float, float], seconds: float) -> None:
        """Move by a velocity; the next report starts from where the server has the body."""
        for _ in range(round(32 * seconds)):
            self.now += 1 / 32
            self.sequence += 1
            nonce = self.referee.ping("r", self.now - 0.02)
            self.referee.pong("r", nonce, self.now + 99.99, self.now)
            wanted = self.place + np.array(velocity) / 32
            report = MoveClaim(self.sequence, self.entity, tuple(wanted), self.now + 99.99)
            ruling = self.referee.rule("r", report, received_at=self.now)
            self.found += codes(ruling)
            self.place = np.array(self.referee.position(self.entity))


def test_limits_of_a_rig_are_those_of_its_own_table():
    """A cart may go 15 m/s where a gardener may not: 30 m in 2 s without a finding, and 6 m/s for the other."""
    rigs = {**GARDEN.rigs, "cart": msgspec.structs.replace(
        GARDEN.rigs["gardener"], movement=msgspec.structs.replace(HEADWAY, speed_m_s=15.0))}  # fmt: skip
    rules = rules_with(rigs=rigs, movement=HEADWAY)
    cart, gardener = Runner(rules, "cart"), Runner(rules)
    for one in (cart, gardener):
        one.go((15.0, 0.0, 0.0), 2.0)
    assert (cart.found, float(cart.place[0])) == ([], pytest.approx(30.0, abs=0.1))
    assert set(gardener.found) == {"too_fast"}
    assert gardener.place[0] < 12.3


def test_a_pushed_body_goes_as_far_as_the_push_explains_and_no_further():
    """A player who is thrown has no finding; one who claims more than the push, or wasn't pushed, is held back."""
    rules = rules_with(movement=HEADWAY)
    thrown, greedy, alone = Runner(rules), Runner(rules), Runner(rules)
    for one in (thrown, greedy):
        one.referee.push(one.entity, (10.0, 0.0, 0.0), 0.5, server_time=0.0)
    thrown.go((10.0, 0.0, 0.0), 0.5)
    greedy.go((16.0, 0.0, 0.0), 2.0)
    alone.go((16.0, 0.0, 0.0), 2.0)
    assert thrown.found == []
    assert "too_fast" in greedy.found
    assert greedy.place[0] - alone.place[0] < 5.0 + 0.1, "10 m/s for half a second"
    aside = Runner(rules)
    aside.referee.push(aside.entity, (10.0, 0.0, 0.0), 0.5, server_time=0.0)
    aside.go((0.0, 16.0, 0.0), 0.5)
    assert aside.place[1] < 3.3, "a push along x explains nothing along y"


@pytest.mark.parametrize(("factor", "fair"), [(1.5, 9.0), (0.5, 3.0)])
def test_a_speed_effect_changes_the_limit(factor, fair):
    """A hasted body may run faster, a slowed one only slower, once its client can know of it."""
    rules = rules_with(movement=HEADWAY)
    runner = Runner(rules)
    runner.go((6.0, 0.0, 0.0), 1.0)
    runner.referee.set_effect(runner.entity, "speed", 20.0, factor, server_time=runner.now)
    runner.go((min(6.0, fair), 0.0, 0.0), 0.5)
    assert runner.found == []
    runner.go((fair, 0.0, 0.0), 2.0)
    assert runner.found == []
    runner.go((fair * 1.2, 0.0, 0.0), 1.0)
    assert set(runner.found) == {"too_fast"}


def test_a_slow_that_just_began_forgives_a_client_that_cannot_know():
    """Reports that were under way at the old speed are no finding."""
    runner = Runner(rules_with(movement=HEADWAY))
    runner.go((6.0, 0.0, 0.0), 1.0)
    runner.referee.set_effect(runner.entity, "speed", 20.0, 0.5, server_time=runner.now)
    runner.go((6.0, 0.0, 0.0), 1 / 16)
    assert runner.found == []


def test_free_movement_has_no_limits_until_it_ends():
    """A ride of the server's at 40 m/s is no finding; after it the limits hold again."""
    runner = Runner(rules_with(movement=HEADWAY))
    runner.referee.set_effect(runner.entity, "free_movement", 1.0, server_time=0.0)
    runner.go((40.0, 0.0, 5.0), 1.0)
    assert (runner.found, float(runner.place[0])) == ([], pytest.approx(40.0))
    runner.go((0.0, 0.0, 0.0), 0.5)
    runner.go((40.0, 0.0, 0.0), 0.5)
    assert "too_fast" in runner.found


def test_a_splash_pushes_a_body_with_a_mass():
    """Six explosions in a minute throw a fair player, who has no finding for it."""
    mortar = GARDEN.weapons["clod_mortar"]
    splash = msgspec.structs.replace(mortar.splash, impulse_n_s=600.0, damage=1.0)
    rigs = {**GARDEN.rigs, "gardener": msgspec.structs.replace(GARDEN.rigs["gardener"], mass_kg=60.0)}
    rules = rules_with(weapons=weapon_with("clod_mortar", splash=splash, damage=1.0), rigs=rigs, movement=HEADWAY)
    with Stage(rules) as stage:
        stage.enter("ada", weapon="clod_mortar")
        stage.enter("bob", (6.0, 0.0, 0.0))
        stage.run(2.0)
        stage.shoot("ada", "bob", kind="launch")
        stage.run(3.0)
        pushes = told(stage, "push")
        assert {event.entity for event in pushes} >= {stage.entity("bob")}
        assert 0.0 < math.dist((0.0, 0.0, 0.0), pushes[0].velocity) <= 10.0


# -- shots that everybody sees --------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["grit_rifle", "gravel_scatter", "trowel"])
def test_each_shot_is_an_event_where_the_rules_say_so(play, name):
    """Start, weapon and an end for each ray: the bodies that were hit are in it, and a miss is told too."""
    with play(rules_with(match={"publish_shots": True})) as stage:
        ada, bob = stage.entity("ada"), stage.entity("bob")
        stage.server.set_weapon(ada, name)
        stage.run(1.0)
        if name == "trowel":
            stage.shoot("ada", "bob", kind="melee")
        else:
            shot = stage.shoot("ada", "bob")
            assert shot.hits
        (event,) = told(stage, "shot")
        assert (event.entity, event.weapon, len(event.ends)) == (ada, name, GARDEN.weapons[name].pellets)
        met = {end.victim for end in event.ends}
        assert (bob in met) == (name != "trowel")
        assert len(msgspec.json.encode(event)) < 200 + 90 * len(event.ends)


def test_both_ways_of_a_shot_publish_the_same_event(play):
    """A shot as data and one that goes check by check tell the same ends, to the millimetre."""
    events = []
    for spare in (None, 1):
        rules = rules_with(match={"publish_shots": True}, weapons=weapon_with("grit_rifle", penetration=spare or 0.0))
        stage = Stage(rules)
        for name, x in (("ada", 0.0), ("bob", 12.0)):
            stage.enter(name, (x, 0.0, 0.0), weapon="grit_rifle")
        stage.run(1.0)
        stage.shoot("ada", "bob")
        events.append([event for event in stage.referee.events(0) if event.kind in ("shot", "health")])
    assert events[0] == events[1]


def test_a_death_says_where_and_which_way(play):
    """A body can fall the right way: the place of the hit and its direction are in the event."""
    with play() as stage:
        bob = stage.entity("bob")
        stage.server.set_health(bob, 1.0)
        hit = stage.shoot("ada", "bob").hits[0]
        (death,) = told(stage, "death")
        assert death.position == pytest.approx(hit.position, abs=1e-3)
        assert death.direction[0] > 0.9


# -- mistakes of the caller -----------------------------------------------------------------------------------

MISTAKES: list[tuple[str, dict[str, Any], type[Exception]]] = [
    ("heal", {"entity": 9}, UnknownNameError),
    ("heal", {"entity": 1, "health": -1.0}, BadNumberError),
    ("heal", {"entity": 1, "health": math.nan}, BadNumberError),
    ("set_health", {"entity": 1, "max_health": 0.0}, BadNumberError),
    ("set_team", {"entity": 1, "team": "x" * 300}, ValueError),
    ("give_weapon", {"entity": 1, "weapon": "grit_riffle"}, UnknownNameError),
    ("give_weapon", {"entity": 1, "weapon": "grit_rifle", "magazine": -1}, BadNumberError),
    ("take_weapon", {"entity": 1, "weapon": "sprinkler_jet"}, UnknownNameError),
    ("set_item", {"entity": 1, "item": "oil_can", "count": 1.5}, BadNumberError),
    ("set_item", {"entity": 1, "item": "oil", "count": 1}, UnknownNameError),
    ("set_effect", {"entity": 1, "effect": "sleep", "duration_s": 1.0}, UnknownNameError),
    ("set_effect", {"entity": 1, "effect": "boost", "duration_s": math.inf}, BadNumberError),
    ("push", {"entity": 1, "velocity": (1.0, 2.0)}, BadNumberError),
    ("add_score", {"points": 1.0}, BadNumberError),
    ("set_counter", {"entity": 1, "counter": "coin", "value": 1.0}, UnknownNameError),
    ("set_phase", {"phase": "never"}, UnknownNameError),
]


@pytest.mark.parametrize(
    ("call", "arguments", "error"), MISTAKES, ids=[f"{c}-{k}" for k, (c, *_) in enumerate(MISTAKES)]
)
def test_a_wrong_name_or_number_raises_and_changes_nothing(call, arguments, error):
    """Programmer mistakes raise, and leave the match as it was."""
    referee = tinclock.Referee(rules_with(counters={"coins": CounterRules()}))
    referee.admit(connection="c-1", account="ada", rig="gardener")
    before = referee.state()
    with pytest.raises(error):
        getattr(referee, call)(**arguments)
    assert referee.state() == before


def test_claims_of_unknown_shape_meet_a_phase_without_raising():
    """A claim of any type in a freeze is a ruling, never an exception."""
    referee = tinclock.Referee(rules_with(phases=PHASES, match={"phase": "freeze"}))
    ada = referee.admit(connection="c-1", account="ada", rig="gardener")
    view = tinclock.View(0, 0, 0.0)
    for k, claim in enumerate((ShotClaim, MeleeClaim), start=1):
        sent = claim(k, ada, "trowel", (0.0, 0.0, 1.6), (1.0, 0.0, 0.0), view)
        assert codes(referee.rule("c-1", sent, received_at=0.1)) == ["not_in_phase"]
