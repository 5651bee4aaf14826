"""Who is who: ids, names, spectators, late joiners, leavers, and control that changes hands."""

from __future__ import annotations

import msgspec
import pytest
from conftest import Range, changed, codes
from hypothesis import given
from hypothesis import strategies as st

import tinclock
from tinclock.core.combat.accounts import Blow
from tinclock.core.rules.weapons import DamageOverTimeRules
from tinclock.errors import AlreadyKnownError, BadNumberError, OutOfHistoryError, UnknownNameError
from tinclock.garden.scenario import data_file

View = tinclock.View
RULES = tinclock.load_rules(data_file("garden.toml"))


def test_a_name_is_shown_and_identifies_nobody(rules):
    """A name is shown and identifies nobody."""
    referee = tinclock.Referee(rules)
    a, b = (
        referee.admit(connection=c, account=c, team="copper", rig="gardener", name="Fennel <&> \u202e") for c in "ab"
    )
    assert a != b
    names = [each.name for each in referee.state().entities]
    assert names == ["Fennel <&> \u202e"] * 2
    claim = tinclock.claims.WeaponActionClaim(1, a, "hose", "draw")
    assert codes(referee.rule("b", claim, received_at=0.0)) == ["wrong_actor"]


def test_a_welcome_says_which_entity_is_ones_own_and_a_spectator_has_none(shooting):
    """A welcome says which entity is one's own, and a spectator has none."""
    referee = shooting.referee
    referee.admit_spectator("w", "watcher")
    welcome, onlooker = referee.welcome("s"), referee.welcome("w")
    assert (welcome.entity, welcome.next_sequence, onlooker.entity, onlooker.spread_key) == (shooting.shooter, 1, 0, "")
    assert welcome.spread_key != referee.welcome("r").spread_key
    ruling = referee.rule("w", shooting.aimed(), received_at=shooting.now)
    assert (ruling.outcome, codes(ruling), ruling.account) == ("rejected", ["spectator"], "watcher")
    with pytest.raises(AlreadyKnownError, match="'w' is already there"):
        referee.admit(connection="w", account="watcher", rig="gardener")
    referee.dismiss("w")
    assert codes(referee.rule("w", None, received_at=shooting.now)) == ["unknown_connection"]


def test_what_nobody_declared_is_refused_with_what_there_is(shooting):
    """What nobody declared is refused with what there is."""
    referee = shooting.referee
    calls = {
        "unknown weapon 'rake'": lambda: referee.admit(connection="x", account="x", rig="gardener", weapons=["rake"]),
        "unknown carried weapon 'hose'": lambda: referee.admit(
            connection="x", account="x", rig="gardener", weapons=["trowel"], weapon="hose"
        ),
        "unknown rig 'gnome'": lambda: referee.add_entity("gnome"),
        "unknown entity 77": lambda: referee.set_position(77, (0.0, 0.0, 0.0)),
        "unknown playing connection 'w'": lambda: referee.hand_over(shooting.runner, "w"),
        "unknown placed entity 1": lambda: referee.remove(shooting.shooter),
        "unknown entity of the server's own 1": lambda: referee.act(1, {"kind": "status"}, server_time=1.0),
        "position: expected three finite numbers": lambda: referee.set_position(1, (float("nan"), 0.0, 0.0)),
        "unknown connection ''": lambda: referee.admit(connection="", account="x", rig="gardener"),
    }
    referee.admit_spectator("w", "watcher")
    before = referee.state()
    for message, call in calls.items():
        with pytest.raises(tinclock.TinClockError, match=message):
            call()
    assert referee.state() == before


DEEDS = st.lists(
    st.tuples(st.sampled_from(["join", "leave", "hurt", "heal", "spawn", "hold", "shield", "give", "score"]),
              st.integers(0, 9), st.integers(0, 9), st.integers(1, 120)),
    max_size=60,
)  # fmt: skip


def do(referee: tinclock.Referee, deed: str, one: int, other: int, amount: int, now: float) -> None:
    """One thing that happens in a match, to whoever the numbers pick."""
    here = [each.entity for each in referee.state().entities]
    if deed == "join" or not here:
        number = referee.state().number
        if amount % 4:
            team = ("", "copper", "pewter")[one % 3]
            referee.admit(connection=f"c{number}", account="x", team=team, rig="gardener", server_time=now)
        else:
            referee.add_entity("sprinkler", weapon="hose", server_time=now)
        return
    entity, by = here[one % len(here)], here[other % len(here)]
    ledger, line = (
        referee._pipeline.ledger,
        next((n for n, x in referee._roster.connections.items() if x.entity == entity), None),
    )
    match deed:
        case "leave" if line is not None:
            referee.dismiss(line, now)
        case "leave":
            referee.remove(entity, now)
        case "hurt" | "score":
            ledger.wound(entity, float(amount), now, Blow("shot", by, "hose", "head", 0.5))
        case "heal":
            ledger.repair(entity, amount, now, by, "oil_can"), ledger.reinforce(entity, amount, now, by, "plate")
        case "spawn":
            referee.spawn(entity, now)
        case "hold":
            carried = list(referee._roster.actors[entity].weapons)
            referee.set_weapon(entity, carried[amount % len(carried)], now)
        case "shield":
            ledger.grant(entity, "shield", now + amount / 10, 0.0, now, "spawn")
        case "give" if line is not None:
            referee.hand_over(by, line, now)


@given(DEEDS, st.integers(0, 60), st.booleans())
def test_a_state_and_the_events_after_it_are_the_later_state(deeds, joined_at, keep):
    """At whatever moment somebody joins: no gap, no overlap, nothing that the events don't tell."""
    score = msgspec.structs.replace(RULES.score, keep_disconnected=keep, death=-10.0)
    damage = msgspec.structs.replace(RULES.damage, armour=25.0, spawn_shield_s=0.3)
    referee = tinclock.Referee(msgspec.structs.replace(RULES, score=score, damage=damage))
    states = [referee.state()]
    for k, deed in enumerate(deeds):
        do(referee, *deed, k / 4)
        states.append(referee.state())
    early = states[min(joined_at, len(states) - 1)]
    told = msgspec.json.decode(msgspec.json.encode(referee.events(since=early.number)), type=list[tinclock.Event])
    assert [event.number for event in told] == list(range(early.number + 1, states[-1].number + 1))
    for event in told:
        early = tinclock.client.apply_event(early, event)
        assert tinclock.client.apply_event(early, event) == early
    assert early == states[-1] == msgspec.json.decode(msgspec.json.encode(states[-1]), type=tinclock.client.State)
    team_points = sum(early.teams.values())
    if keep:
        assert team_points == pytest.approx(sum(row.score for row in early.rows if row.team))


def test_a_gap_in_the_events_is_an_error_and_lost_ones_can_be_asked_for_again(shooting):
    """A gap in the events is an error and lost ones can be asked for again."""
    referee, state = shooting.referee, tinclock.Referee(RULES).state()
    events = referee.events()
    with pytest.raises(ValueError, match="event 2 follows 0: 1 are missing"):
        tinclock.client.apply_event(state, events[1])
    assert referee.events() == []
    assert referee.events(since=1) == events[1:]
    with pytest.raises(OutOfHistoryError, match="event 9 is outside"):
        referee.events(since=9)


def test_one_who_left_is_neither_hit_nor_credited_and_leaves_no_row(shooting):
    """One who left is neither hit nor credited and leaves no row."""
    referee, now = shooting.referee, shooting.now
    third = referee.admit(connection="t", account="third", team="copper", rig="gardener")
    referee._pipeline.ledger.wound(shooting.runner, 60.0, now, Blow("shot", third, "grit_rifle", "chest"))
    referee.dismiss("t")
    assert shooting.shoot(bone=4).damage == 40.0
    assert not referee.ledger.alive(shooting.runner)
    assert {row.entity for row in referee.state().rows} == {shooting.shooter, shooting.runner}
    assert third not in {event.entity for event in referee.events() if event.kind == "score"}


def test_a_death_by_a_leavers_last_damage_credits_nobody(rules):
    """A death by a leaver's last damage credits nobody."""
    lasting = DamageOverTimeRules(damage=60.0, every_s=0.5, times=3)
    burning = Range(changed(rules, "weapons", "grit_rifle", damage_over_time=lasting), None)
    assert burning.shoot().damage == 17.0
    burning.referee.dismiss("s")
    burning.referee.advance(burning.now + 1.2)
    assert not burning.referee.ledger.alive(burning.runner)
    rows = burning.referee.state().rows
    assert [(row.kills, row.deaths) for row in rows] == [(0, 1)]


def turret(shooting: Range) -> int:
    """A second body beside the shooter, that nobody plays."""
    entity = shooting.referee.add_entity("gardener", team="copper", weapon="grit_rifle")
    record_three(shooting, entity, 40)
    return entity


def record_three(shooting: Range, entity: int, ticks: int) -> None:
    for _ in range(ticks):
        shooting.tick += 1
        poses = [shooting.pose(-9, 3), shooting.pose(0, 2 + shooting.tick / 16), shooting.pose(-9, 3.4)]
        shooting.referee.record(shooting.tick, shooting.now, [shooting.shooter, shooting.runner, entity], poses)
        if shooting.tick % 2 == 0:
            shooting.referee.snapshot_sent(shooting.tick)


def fire(shooting: Range, entity: int, by: str, view: View, late: float = 0.0) -> tinclock.Ruling:
    eye = shooting.referee.history.eye_now(entity)
    return shooting.referee.rule(
        by, shooting.aimed(view=view, actor=entity, origin=eye), received_at=shooting.now + late
    )


def test_control_is_given_explicitly_and_old_screens_are_ruled_by_who_had_it_then(rules):
    """Control is given explicitly and old screens are ruled by who had it then."""
    shooting = Range(rules, None)
    entity = turret(shooting)
    given = shooting.tick - shooting.tick % 2
    assert codes(fire(shooting, entity, "s", View(given - 10, given - 10, 0.0))) == ["wrong_actor"]
    shooting.referee.hand_over(entity, "s", given / 64)
    assert shooting.referee.state().entity(entity).controller == shooting.shooter
    record_three(shooting, entity, 2)
    assert codes(fire(shooting, entity, "s", View(given - 20, given - 20, 0.0))) == ["control_too_recent"]
    assert fire(shooting, entity, "s", View(given, given, 0.0), 0.1).outcome == "accepted"
    record_three(shooting, entity, 14)
    lost = given + 10
    shooting.referee.hand_over(entity, None, lost / 64)
    assert fire(shooting, entity, "s", View(lost - 2, lost - 2, 0.0), 0.1).outcome == "accepted"  # before it knew
    too_late = fire(shooting, entity, "s", View(lost + 2, lost + 2, 0.0), 0.3)
    assert (codes(too_late), too_late.receipt().state.entity) == (["wrong_actor"], shooting.shooter)


def test_what_a_leaver_acted_for_is_the_servers_again(rules):
    """What a leaver acted for is the server's again."""
    shooting = Range(rules, None)
    entity = turret(shooting)
    shooting.referee.hand_over(entity, "r")
    with pytest.raises(UnknownNameError, match="of the server's own"):
        shooting.referee.act(entity, {"kind": "status"}, server_time=shooting.now)
    shooting.referee.dismiss("r")
    assert shooting.referee.act(entity, {"kind": "status"}, server_time=shooting.now).outcome == "accepted"
    assert [e.controller for e in shooting.referee.events() if e.kind == "control"] == [shooting.runner, 0]


def test_a_server_controlled_shooter_goes_through_the_same_checks(rules):
    """A server controlled shooter goes through the same checks."""
    shooting = Range(changed(rules, "weapons", "hose", magazine=2, reserve=0, reload_when_empty=False, spread=None,
                             recoil=None, range_m=40.0, falloff=[]), None)  # fmt: skip
    entity = shooting.referee.add_entity("gardener", team="copper", weapon="hose")
    poses = [shooting.pose(-9, 3), shooting.pose(0, 3), shooting.pose(-9, 4)]
    shooting.referee.record(40, 0.625, [1, 2, entity], poses)
    eye = shooting.referee.history.eye_now(entity)
    aim = {"kind": "shot", "weapon": "hose", "origin": eye, "direction": (9 / 85**0.5, -2 / 85**0.5, 0.0), "view": None}
    along = [x - y for x, y in zip((0.0, 3.0, 1.3), eye, strict=True)]
    length = sum(v * v for v in along) ** 0.5
    aim["direction"] = tuple(v / length for v in along)
    first = shooting.referee.act(entity, aim, server_time=0.63)
    assert (first.outcome, first.hits[0].victim, first.damage, first.connection) == ("accepted", 2, 4.0, "")
    assert codes(shooting.referee.act(entity, aim, server_time=0.631)) == []
    assert codes(shooting.referee.act(entity, aim, server_time=0.9)) == ["no_ammunition"]
    with pytest.raises(BadNumberError, match="unit direction"):
        shooting.referee.act(entity, {**aim, "direction": (2.0, 0.0, 0.0)}, server_time=1.0)
