"""What no client may do or know: every field wrong in every way, nothing private told, and what strictness sets."""

from __future__ import annotations

import math
import tomllib
from typing import Any

import msgspec
import pytest
from conftest import Range, changed, codes
from hypothesis import given
from hypothesis import strategies as st

import tinclock
from tinclock.core.combat.accounts import Blow
from tinclock.core.findings import DEFAULTS, FINDINGS
from tinclock.core.rules.actions import ALWAYS_REJECTED
from tinclock.core.rules.strictness import PROFILES
from tinclock.errors import RulesError
from tinclock.garden.scenario import data_file

View = tinclock.View
TABLES = tomllib.loads(data_file("garden.toml").read_text(encoding="utf-8"))
RULES = tinclock.load_rules(data_file("garden.toml"))

AIM: dict[str, Any] = {"direction": (1.0, 0.0, 0.0), "view": View(28, 30, 0.5), "client_time": 1.0}
HIT: dict[str, Any] = {"origin": (-8.9, 3.0, 1.65), "victim": 2, "part": "chest", "damage": 17.0}
GOOD: dict[type, dict[str, Any]] = {
    tinclock.claims.ShotClaim: {"weapon": "grit_rifle", **AIM, **HIT, "shot": 1, "charge": 1.0},
    tinclock.claims.MeleeClaim: {"weapon": "grit_rifle", **AIM, **HIT},
    tinclock.claims.LaunchClaim: {"weapon": "grit_rifle", **AIM, "origin": (-8.9, 3.0, 1.65), "shot": 1, "charge": 1.0},
    tinclock.claims.ImpactClaim: {
        "projectile": 1,
        "flight_time_s": 0.1,
        "position": (0.0, 0.0, 0.0),
        "victim": 2,
        "part": "chest",
    },
    tinclock.claims.TriggerClaim: {"weapon": "grit_rifle", "held": True, **AIM},
    tinclock.claims.WeaponActionClaim: {"weapon": "grit_rifle", "action": "draw"},
    tinclock.claims.UseClaim: {"item": "oil_can", "target": 1},
    tinclock.claims.MoveClaim: {"position": (0.0, 0.0, 0.0), "client_time": 1.0, "push": (1.0, 0.0, 0.0)},
    tinclock.claims.StatusClaim: {"health": 100.0, "armour": 0.0, "ammunition": 5, "position": (0.0, 0.0, 0.0)},
}
NUMBERS = [math.nan, math.inf, -math.inf, 1e300, 10**400, "1", b"1", [], {}, True]
WRONG: dict[str, list[Any]] = {
    "sequence": [0, -1, 1.0, 2**53 + 1, *NUMBERS, None],
    "actor": [1.0, 2**60, *NUMBERS, None],
    "weapon": ["", "x" * 65, 7, b"grit", None, ["grit_rifle"]],
    "item": ["", "x" * 65, 7, b"oil", None],
    "action": ["fire", "", 7, None, ["draw"]],
    "held": [1, 0, "yes", None],
    "origin": [None, (), (1.0, 2.0), (1.0, 2.0, 3.0, 4.0), (math.nan, 0, 0), (1e300, 0, 0), "abc", {}, (True, 0, 0)],
    "direction": [None, (), (0.0, 0.0, 0.0), (2.0, 0.0, 0.0), (math.nan, 0, 0), (math.inf, 0, 0), ("1", "0", "0"), 5],
    "view": ["now", 5, (1, 2, 0.5), View(1.5, 2, 0.5), View(10**400, 2, 0.5), View(28, 30, math.nan), View("a", 1, 0)],
    "client_time": NUMBERS,
    "position": [(), (1.0, 2.0), (math.nan, 0, 0), (1e300, 0, 0), "abc", {}, 5],
    "push": [(), (1.0, 2.0), (math.nan, 0, 0), (1e300, 0, 0), "abc", {}, 5],
    "victim": [1.0, 2**60, *NUMBERS],
    "target": [1.0, 2**60, *NUMBERS],
    "ammunition": [1.0, 2**60, *NUMBERS],
    "shot": [1.0, 2**60, *NUMBERS],
    "part": ["", "x" * 65, 7, b"chest", ["chest"]],
    "projectile": [1.0, 2**60, *NUMBERS, None],
    **dict.fromkeys(("damage", "charge", "health", "armour", "flight_time_s"), NUMBERS),
}
CASES = [(kind, field) for kind, fields in GOOD.items() for field in ("sequence", "actor", *fields)]


@pytest.mark.parametrize(("kind", "field"), CASES, ids=lambda x: getattr(x, "__name__", x))
def test_a_wrong_field_is_a_rejected_ruling_with_a_finding_and_changes_nothing(kind, field):
    """A wrong field is a rejected ruling with a finding, and changes nothing."""
    here = Range(RULES, None)
    here.referee.set_position(1, (0.0, 0.0, 0.0))
    before = here.referee.state()
    assert WRONG[field]
    for wrong in WRONG[field]:
        here.sequence += 1
        claim = kind(**{"sequence": here.sequence, "actor": 1, **GOOD[kind], field: wrong})
        ruling = here.referee.rule("s", claim, received_at=here.now)
        assert (ruling.outcome, codes(ruling)) in [
            ("rejected", [code]) for code in ("malformed", "direction_not_unit", "stale_sequence", "skipped_sequence")
        ], (wrong, ruling.explain())
        assert ruling.receipt().outcome == "rejected"
        as_message = {"kind": kind.__struct_config__.tag, **msgspec.structs.asdict(claim)}
        assert here.referee.rule("s", as_message, received_at=here.now).outcome == "rejected"
    optional = kind.__struct_defaults__[::-1]
    if field in kind.__struct_fields__[: len(kind.__struct_fields__) - len(optional)]:  # one that must be there
        message = {"kind": kind.__struct_config__.tag, "sequence": here.sequence + 1, "actor": 1, **GOOD[kind]}
        del message[field]
        absent = here.referee.rule("s", message, received_at=here.now)
        assert (absent.outcome, codes(absent)) == ("rejected", ["malformed"])
    assert here.referee.state() == before


@pytest.mark.parametrize("kind", GOOD, ids=lambda kind: kind.__name__)
def test_the_dead_spectators_leavers_strangers_and_impostors_get_nothing_done(kind):
    """The dead, spectators, leavers, strangers and impostors get nothing done."""
    here = Range(RULES, None, damage={"trade_window_s": 0.0})
    referee = here.referee
    referee.admit_spectator("w", "watcher")
    for name, code in (("w", "spectator"), ("nobody", "unknown_connection"), ("r", "wrong_actor")):
        assert codes(here.say(kind, by=name, **GOOD[kind])) == [code]
    assert codes(here.say(kind, actor=999, **GOOD[kind])) == ["wrong_actor"]
    referee._pipeline.ledger.wound(1, 500.0, here.now, Blow("fall"))
    late = {
        tinclock.claims.StatusClaim: [],
        tinclock.claims.ImpactClaim: ["unknown_projectile"],
    }  # the dead may ask, and claim
    assert codes(here.say(kind, **GOOD[kind])) == late.get(kind, ["dead_actor"])
    referee.dismiss("s")
    assert codes(here.say(kind, **GOOD[kind])) == ["unknown_connection"]


@given(st.sampled_from(list(GOOD)), st.dictionaries(st.sampled_from(sorted(WRONG)), st.none() | st.booleans()
       | st.integers() | st.floats() | st.text() | st.binary() | st.lists(st.floats(), max_size=4)))  # fmt: skip
def test_no_claim_of_any_kind_raises(kind, fields):
    """No claim of any kind raises."""
    here = ANYTHING
    here.sequence += 1
    known = {k: v for k, v in fields.items() if k in kind.__struct_fields__}
    claim = kind(**{"sequence": here.sequence, "actor": 1, **GOOD[kind], **known})
    ruling = here.referee.rule("s", claim, received_at=here.now)
    assert ruling.outcome in ("accepted", "adjusted", "rejected")
    assert ruling.explain()
    msgspec.json.encode(ruling.receipt())
    here.referee.advance(here.now)


ANYTHING = Range(RULES, None)
ANYTHING.referee.set_position(1, (0.0, 0.0, 0.0))


# -- nothing private leaks ----------------------------------------------------------------------------------------


def keys_of(value: object) -> set[str]:
    if isinstance(value, dict):
        return set(value) | {key for item in value.values() for key in keys_of(item)}
    return {key for item in value for key in keys_of(item)} if isinstance(value, list) else set()


def test_what_clients_get_holds_no_account_connection_finding_or_limit_and_no_rule():
    """What clients get holds no account, connection, finding or limit, and no rule."""
    here = Range(RULES, None)
    here.shoot(damage=9e5), here.shoot(actor=2), here.shoot(late=0.19, view=View(2, 4, 0.0))
    use = here.say(tinclock.claims.UseClaim, item="oil_can")
    told = [here.referee.state(), here.referee.events(), use.receipt(), here.referee.welcome("s")]
    plain = msgspec.to_builtins(told)
    own = {"account", "connection", "findings", "steps", "code", "limit", "margin", "observed", "detail", "secret"}
    rules = set(keys_of(msgspec.to_builtins(RULES))) - {
        "weapon", "kind", "name", "health", "armour", "damage", "score", "spread", "tick_rate_hz", "snapshot_every",
        "head", "keep_disconnected", "part", "parts", "magazine", "reserve", "amount", "leader", "phase", "teams",
    }  # fmt: skip
    assert keys_of(plain) & own == set()
    assert keys_of(plain) & rules == set()
    text = msgspec.json.encode(told).decode()
    for private in ("shooter", "runner", here.referee._roster.actors[1].secret.hex(), *FINDINGS):
        assert f'"{private}"' not in text, private
    # one's own key is in one's own welcome, and in nobody else's
    assert here.referee._roster.actors[2].key.hex() not in text


REJECTED_IN_WAYS = {
    "too fast": {}, "a wall of a view": {"view": View(5, 7, 0.5)}, "far": {"origin": (5.0, 5.0, 5.0)},
    "foreign": {"actor": 2}, "no such weapon": {"weapon": "rake"}, "other weapon": {"weapon": "hose"},
    "ahead": {"view": View(400, 402, 0.5)}, "not unit": {"direction": (3.0, 0.0, 0.0)},
}  # fmt: skip


def test_a_rejected_receipt_is_the_same_whatever_the_reason():
    """It must not teach which check objected: only the number of the claim differs."""
    here = Range(RULES, None)
    here.shoot()
    receipts = set()
    for fields in REJECTED_IN_WAYS.values():
        claim = msgspec.structs.replace(here.aimed(), **fields)
        ruling = here.referee.rule("s", claim, received_at=here.now)
        assert ruling.outcome == "rejected"
        receipt = ruling.receipt()
        told = msgspec.structs.replace(receipt.state, last_sequence=0)
        receipts.add(msgspec.json.encode(msgspec.structs.replace(receipt, sequence=0, state=told)))
    assert len(receipts) == 1


# -- strictness ---------------------------------------------------------------------------------------------------


def taken(strictness: str, **more: Any) -> tinclock.Rules:
    bare = {k: v for k, v in TABLES.items() if k in ("schema", "rigs", "weapons", "items")}
    return tinclock.parse_rules({**bare, "strictness": strictness, **more})


def test_profiles_go_from_forgiving_to_strict_and_any_setting_can_be_overridden():
    """Profiles go from forgiving to strict and any setting can be overridden."""
    lenient, standard, strict = (taken(strictness) for strictness in ("lenient", "standard", "strict"))
    for table, key in (("muzzle", "reach_m"), ("fire_rate", "tolerance_s"), ("view", "late_tolerance_s")):
        values = [getattr(getattr(rules, table), key) for rules in (lenient, standard, strict)]
        assert values[0] > values[1] > values[2]
    own = taken("lenient", muzzle={"reach_m": 0.9}, actions={"muzzle_far": "reject"})
    assert (own.muzzle.reach_m, own.fire_rate.tolerance_s) == (0.9, lenient.fire_rate.tolerance_s)
    assert (own.actions["muzzle_far"], own.actions["wrong_actor"]) == ("reject", "adjust")
    with pytest.raises(RulesError, match="strictness: got 'harsh'"):
        taken("harsh")
    for profile in PROFILES.values():
        assert set(profile.get("actions", {})) <= set(DEFAULTS) - ALWAYS_REJECTED


def test_lenient_forgives_and_still_uses_the_servers_numbers():
    """Lenient forgives and still uses the server's numbers."""
    outcomes = {}
    for strictness in ("lenient", "standard", "strict"):
        here = Range(taken(strictness), None)
        off = here.aimed(origin=(-8.0, 3.0, 1.6))
        ruling = here.referee.rule("s", off, received_at=here.now)
        outcomes[strictness] = (ruling.outcome, ruling.damage > 0.0)
        lying = here.shoot(damage=900.0, late=0.2)
        assert lying.damage == 17.0
    assert outcomes == {"lenient": ("accepted", True), "standard": ("adjusted", True), "strict": ("rejected", False)}
    foreign = Range(taken("lenient"), None).shoot(actor=2)
    assert (foreign.outcome, foreign.entity, codes(foreign)) == ("adjusted", 1, ["wrong_actor"])


def test_a_seed_and_a_connection_give_keys_that_nobody_else_has():
    """A seed and a connection give keys that nobody else has."""
    rules = changed(RULES, "weapons", "grit_rifle", magazine=3)
    keys = set()
    for seed in (1, 2):
        here = tinclock.Referee(rules, seed=seed)
        for name in "ab":
            here.admit(connection=name, account=name, rig="gardener")
            keys.add(here.welcome(name).spread_key)
    assert len(keys) == 4
