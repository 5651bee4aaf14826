"""Behaviours that a change could break without another test noticing: found by mutating the code."""

from __future__ import annotations

import math

import msgspec
import numpy as np
import pytest
from conftest import Range, changed, codes
from test_evidence import Chances, highest, no_shots, seen_of
from test_serving import Asker, shot

import tinclock
from tinclock.core.evidence import detectors
from tinclock.core.evidence.eprocess import KindEvidence
from tinclock.errors import RulesError
from tinclock.garden.scenario import data_file
from tinclock.serve.hub import Hub
from tinclock.serve.journal import Journal, JournalEntry, entries_of
from tinclock.wire.codec import LIMITS, encode_claim

RULES = tinclock.load_rules(data_file("garden.toml"))
RIFLE = "grit_rifle"


def test_a_journal_is_read_up_to_its_first_damaged_entry(tmp_path):
    """An entry whose checksum doesn't fit, and all after it, are taken for not written."""
    (tmp_path / "m").mkdir()
    journal = Journal(tmp_path / "m", "m", sync=False)
    for number in range(3):
        journal.note(JournalEntry(number, number, b"asked" * 40, b"told" * 40))
    journal.leave()
    assert [entry.request for entry in entries_of(tmp_path / "m")] == [0, 1, 2]
    (path,) = (tmp_path / "m" / "journal").glob("*.frames")
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1  # in the body of the second
    path.write_bytes(data)
    assert [entry.request for entry in entries_of(tmp_path / "m")] == [0]


def test_a_claim_beyond_the_limit_is_dropped_and_one_at_the_limit_is_read():
    """A claim that is a byte too large never reaches the decoder; in pass-through mode neither does a message."""
    hub = Hub()
    ask = Asker(hub)
    ask.play(ticks=20)
    at_limit, beyond = shot().ljust(LIMITS.bytes, b"\0"), shot().ljust(LIMITS.bytes + 1, b"\0")
    told = ask("claims", claims=[("c0", 0.31, at_limit), ("c0", 0.31, beyond)])["rulings"]
    assert [one["outcome"] for one in told] == ["rejected", "dropped"]
    assert hub.matches["m"].guards.too_large == 1
    join = msgspec.msgpack.encode({"kind": "join", "versions": [2]})
    told = ask("messages", messages=[("c0", 0.31, join), ("c0", 0.31, beyond), ("c0", 0.31, at_limit)])
    assert [one["outcome"] for one in told.get("rulings", ())] == ["rejected"]
    assert hub.matches["m"].gateways.dropped == 1


@pytest.mark.parametrize("as_bytes", [False, True])
def test_a_view_of_an_earlier_life_hurts_nobody(rules, as_bytes):
    """A shot at a body as it stood before it died and came back does nothing to the life that it has now."""
    here = Range(changed(rules, "weapons", RIFLE, interval_s=0.001), None)
    claim = here.aimed()
    here.referee.damage(here.runner, 1000.0, cause="fall", server_time=here.now)
    here.referee.spawn(here.runner, here.now)
    here.run(4)
    newest = here.tick - here.tick % 2
    sent = encode_claim(claim) if as_bytes else claim
    ruling = here.referee.rule("s", sent, received_at=here.now)
    assert sum(hit.damage for hit in ruling.hits) == 0.0
    assert here.referee.ledger.health(here.runner) == here.referee.rules.match.health
    assert here.referee.rule("s", here.aimed(view=tinclock.View(newest, newest, 0.0)), received_at=here.now).hits


def test_a_trigger_that_is_pressed_again_while_it_is_held_fires_nothing_more(rules):
    """A weapon that fires once a pull fires once, however often its client says that the trigger is held."""
    here = Range(changed(rules, "weapons", RIFLE, automatic=False, interval_s=0.1), None)
    here.referee.set_weapon(here.shooter, RIFLE, here.now)
    press = {"weapon": RIFLE, "direction": here.aimed().direction, "view": tinclock.View(38, 38, 0.0)}
    fired = 0
    for _ in range(5):
        here.say(tinclock.claims.TriggerClaim, held=True, **press)
        here.run(20)
        fired += len(here.referee.advance(here.now))
    assert fired == 1
    here.say(tinclock.claims.TriggerClaim, held=False, **press)
    here.say(tinclock.claims.TriggerClaim, held=True, **press)
    here.run(20)
    assert len(here.referee.advance(here.now)) == 1


def test_numbers_in_any_order_are_ruled_in_a_batch_as_one_by_one(rules):
    """Lower numbers, repeats and leaps within a batch: the same bytes as each by itself."""
    one, many = Range(rules, None), Range(rules, None)
    order = [3, 1, 2, 2, 5, 4, 200, 70, 72, 71, 5000, 3]
    claims = [msgspec.structs.replace(one.aimed(), sequence=number) for number in order]
    singly = [one.referee.rule("s", claim, received_at=one.now) for claim in claims]
    together = many.referee.rule_many([("s", claim, many.now) for claim in claims])
    assert [msgspec.json.encode(ruling) for ruling in together] == [msgspec.json.encode(ruling) for ruling in singly]
    assert {"repeated_sequence", "stale_sequence", "skipped_sequence"} <= {code for r in singly for code in codes(r)}


def test_control_is_by_the_time_of_the_screen_at_both_ends(rules):
    """Who lost control may still act on a screen from before the change and on none from after it; who gained it may
    act on a screen from after it and on none from long before.
    """
    here = Range(changed(rules, "weapons", RIFLE, interval_s=0.001), None)
    here.referee.hand_over(here.shooter, "r", server_time=here.now)
    change = here.tick - here.tick % 2
    here.run(8)
    views = (tinclock.View(change - 4, change - 2, 0.0), tinclock.View(change + 2, change + 4, 0.0))
    told = [codes(here.referee.rule("s", here.aimed(view=view), received_at=here.now)) for view in views]
    assert told == [[], ["wrong_actor"]]
    here.sequence = 0
    views = (tinclock.View(change - 16, change - 14, 0.0), views[1])
    gained = [codes(here.referee.rule("r", here.aimed(view=view), received_at=here.now)) for view in views]
    assert gained == [["control_too_recent"], []]


def test_what_flies_when_the_clock_leaps_ends_and_hits_nobody(rules):
    """A leap of five seconds ends what was in the air, and is said to be the reason."""
    here = Range(rules, None)
    here.referee.set_weapon(here.shooter, "pebble_sling", here.now)
    aim = here.aimed(weapon="pebble_sling", shot=1)
    here.sequence += 1
    launch = tinclock.claims.LaunchClaim(
        here.sequence, here.shooter, "pebble_sling", aim.origin, aim.direction, aim.view, shot=1
    )
    assert here.referee.rule("s", launch, received_at=here.now).outcome == "accepted"
    here.referee.advance(here.now)
    here.tick += 5 * 64
    here.run(1)
    here.referee.advance(here.now)
    ends = [event for event in here.referee.events() if event.kind == "end"]
    assert {event.cause for event in ends} == {"clock leapt"}
    assert here.referee.ledger.health(here.runner) == here.referee.rules.match.health


@pytest.mark.parametrize("matches", [0, 1, 2, 7, 60])
def test_matches_in_which_nothing_was_seen_leave_the_evidence_where_it_was(matches):
    """The shares of the bet that began, and what is still to begin, add up to 1 after any number of matches."""
    evidence = KindEvidence()
    for _ in range(matches):
        evidence = evidence.next_match()
    assert evidence.matches == matches
    assert evidence.log_e == pytest.approx(0.0, abs=1e-12)
    number = matches + 1  # the bet that begins now has a share of 1 / (number (number + 1)), the earlier ones the rest
    share = 1.0 / (number * (number + 1)) + (1.0 - 1.0 / number)
    assert evidence.add(5.0).log_e == pytest.approx(math.log(share * math.exp(5.0) + 1.0 / (number + 1)))


@pytest.mark.parametrize(("hidden_s", "blind"), [(0.3, 0.0), (0.40, 0.0), (0.44, 1.0), (3.0, 1.0)])
def test_a_shot_is_blind_only_at_what_has_been_hidden_for_long_enough(hidden_s, blind):
    """0.42 s out of sight: before that a player may still shoot at where somebody went."""
    shots = no_shots(
        4, visible=np.zeros(4, bool), run_s=np.full(4, hidden_s), target=np.arange(2, 6), off_m=np.zeros(4)
    )
    trials = detectors.shot_trials(shots, Chances((1e9,), (1e9,), {}), frozenset())
    assert trials["blind_shots"][:, 0].tolist() == [blind] * 4


def test_twice_the_usual_rate_of_claims_becomes_evidence(rules):
    """The ceiling is half again as much as the match's own median, and not many times it."""
    usual = {f"a{k}": 600 for k in range(7)}
    told, _ = highest(rules, [seen_of({**usual, "fast": 1200}, [], 10.0 * k) for k in range(1, 19)])
    assert told["fast"] > 20.0
    told, _ = highest(rules, [seen_of({**usual, "fast": 800}, [], 10.0 * k) for k in range(1, 19)])
    assert told["fast"] < 3.0


@pytest.mark.parametrize(
    ("key", "value"),
    [("tick_rate_hz", 32.0), ("snapshot_every", 4), ("history_s", 2.0), ("zone_depth_m", 0.2), ("mode", "shadow")],
)
def test_what_the_history_was_made_for_cannot_change_in_a_match(rules, key, value):
    """Each such key is refused by its name, and the match goes on by its old rules."""
    here = Range(rules, None)
    new = msgspec.structs.replace(rules, match=msgspec.structs.replace(rules.match, **{key: value}))
    assert getattr(rules.match, key) != value
    with pytest.raises(RulesError, match=f"match.{key}: is .* can't become .* while a match runs"):
        here.referee.change_rules(new)
    here.run(2)
    assert here.referee.rules == rules
