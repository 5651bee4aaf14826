"""The gateway: bytes from strangers never raise, floods are dropped and counted, repeats change nothing."""

from __future__ import annotations

import json
import re
from pathlib import Path

import msgspec
import numpy as np
import pytest
from click.testing import CliRunner
from conftest import codes
from hypothesis import given, settings
from hypothesis import strategies as st

import tinclock
from tinclock.cli.main import main
from tinclock.core.combat.published import State
from tinclock.core.findings import FINDINGS
from tinclock.core.rules.client_rules import PUBLIC, client_rules, differences
from tinclock.core.rules.ruleset import Rules
from tinclock.errors import BadNumberError
from tinclock.garden.scenario import data_file
from tinclock.intake.client_build import CHUNK_BYTES, leaks_in
from tinclock.wire.codec import Unreadable, decode_claim, decode_message
from tinclock.wire.flood import FloodGuard, FloodLimits
from tinclock.wire.gateway import Gateway
from tinclock.wire.gateways import Gateways
from tinclock.wire.messages import (
    FromClient,
    Join,
    JoinAccepted,
    JoinRefused,
    Pong,
    ReceiptMessage,
    ToClient,
    encode,
    negotiated,
    schemas,
)

PAGE = (Path(__file__).parent.parent / "docs" / "messages.md").read_text(encoding="utf-8")
EXAMPLES = re.findall(r"```json (from_client|to_client)\n(.*?)\n```", PAGE, re.S)
ENDLESS = FloodLimits(messages_per_s=1e9, bytes_per_s=1e12)
FUZZED = 4000


def gateway(rules: Rules, **more) -> Gateway:
    referee = tinclock.Referee(rules, seed=1)
    referee.admit(connection="c", account="a", rig="gardener")
    return Gateway(referee, "c", account="a", **{"flood": ENDLESS, **more})


def joined(rules: Rules, **more) -> Gateway:
    one = gateway(rules, **more)
    one.receive(msgspec.msgpack.encode(Join((2,))), 0.0)
    return one


@pytest.mark.parametrize(("way", "text"), EXAMPLES, ids=[json.loads(text)["kind"] for _, text in EXAMPLES])
def test_the_examples_of_the_page_are_messages_in_both_forms(way, text):
    """The examples of the page are messages in both forms."""
    kind = FromClient if way == "from_client" else ToClient
    message = msgspec.json.decode(text, type=kind)
    packed = msgspec.msgpack.encode(message)
    assert msgspec.msgpack.decode(packed, type=kind) == message
    if way == "from_client":
        assert decode_message(text.encode()) == decode_message(packed) == message
        more = {**json.loads(text), "news_to_us": [1, 2]}
        assert decode_message(json.dumps(more).encode()) == message  # what we don't know is ignored
        for field in set(json.loads(text)) & {"sequence", "nonce", "versions"}:
            less = {key: value for key, value in json.loads(text).items() if key != field}
            assert isinstance(decode_message(json.dumps(less).encode()), dict)  # what we need is missing


def test_every_message_has_an_example_and_the_schemas_are_the_types():
    """Every message has an example and the schemas are the types."""
    shown = {json.loads(text)["kind"] for _, text in EXAMPLES}
    for name, schema in schemas().items():
        file = Path(__file__).parent.parent / "docs" / "schemas" / f"{name}.schema.json"
        assert json.loads(file.read_text(encoding="utf-8")) == json.loads(msgspec.json.encode(schema))
        kinds = [schema["$defs"][one["$ref"].split("/")[-1]]["properties"]["kind"]["enum"] for one in schema["anyOf"]]
        assert {kind for (kind,) in kinds} <= shown


def test_versions_are_agreed_on_or_refused(rules):
    """Versions are agreed on or refused."""
    one = gateway(rules)
    for early in (b'{"kind": "status", "sequence": 1, "actor": 1}', b"\x00\x01", b"{"):
        refused = msgspec.json.decode(one.receive(early, 0.0)) if early[:1] == b"{" else None
        told = refused or msgspec.msgpack.decode(one.receive(early, 0.0))
        assert told == {"kind": "join_refused", "reason": "not_a_join", "versions": [2]}
    strange = msgspec.msgpack.decode(one.receive(msgspec.msgpack.encode(Join((7, 9))), 0.1), type=ToClient)
    assert strange == JoinRefused("version")
    assert negotiated(Join((2, 7))) == 2
    answer = msgspec.json.decode(one.receive(b'{"kind": "join", "versions": [2, 7]}', 0.2), type=ToClient)
    assert isinstance(answer, JoinAccepted)
    assert (answer.version, answer.entity, answer.next_sequence, one.form) == (2, 1, 1, "json")
    assert one.receive(b'{"kind": "join", "versions": [2, 7]}', 0.3) is not None  # asked again: answered again


def test_what_is_still_under_way_when_its_sender_is_dismissed_raises_nothing(rules):
    """What is still under way when its sender is dismissed raises nothing."""
    one = joined(rules)
    one._server.dismiss("c")
    assert one.receive(msgspec.msgpack.encode(Join((2,))), 0.1) is None
    assert one.receive(msgspec.msgpack.encode(Pong(5, 1.0)), 0.1) is None
    assert one.receive(b'{"kind": "status", "sequence": 1, "actor": 1}', 0.1) is not None
    assert codes(one.last_ruling) == ["unknown_connection"]


def test_a_claim_is_answered_and_a_repeat_is_answered_the_same(rules):
    """A claim is answered and a repeat is answered the same."""
    one = joined(rules)
    claim = b'{"kind": "status", "sequence": 1, "actor": 1, "health": 80.0}'
    first, again = one.receive(claim, 0.5), one.receive(claim, 0.9)
    assert first == again
    assert codes(one.last_ruling) == ["repeated_sequence"]
    assert one.receive(msgspec.msgpack.encode(Pong(5, 1.0)), 1.0) is None
    assert one.last_ruling is None


@settings(max_examples=40)
@given(st.permutations(list(range(1, 25))), st.lists(st.integers(0, 23), max_size=30), st.randoms())
def test_whatever_the_network_does_each_claim_counts_once(order, repeats, dice):
    """Reordered and repeated: each sequence number is ruled once, and each repeat gets its first receipt."""
    rules = tinclock.load_rules(data_file("garden.toml"))
    one = joined(rules)
    sent = [msgspec.msgpack.encode(tinclock.claims.UseClaim(sequence, 1, "oil_can")) for sequence in range(1, 25)]
    way = [sent[sequence - 1] for sequence in order] + [sent[k] for k in repeats]
    dice.shuffle(way)
    first: dict[bytes, bytes] = {}
    ruled = 0
    for k, data in enumerate(way):
        answer = one.receive(data, 0.1 + k * 0.001)
        ruled += codes(one.last_ruling) != ["repeated_sequence"]
        assert first.setdefault(data, answer) == answer
    assert ruled == len(set(way)) == 24


def test_a_flood_is_dropped_and_counted_and_a_burst_after_a_stall_is_not(rules):
    """A flood is dropped and counted and a burst after a stall is not."""
    one = joined(rules, flood=FloodLimits(messages_per_s=100.0, bytes_per_s=1e6, saved_s=2.0))
    for k in range(180):  # two seconds of a player's claims at once, after two seconds of nothing
        assert one.receive(msgspec.msgpack.encode(tinclock.claims.StatusClaim(k + 1, 1)), 5.0) is not None
    assert one.findings(5.0) == []
    replies = [one.receive(msgspec.msgpack.encode(tinclock.claims.StatusClaim(k + 200, 1)), 5.1) for k in range(1000)]
    passed = sum(reply is not None for reply in replies)
    assert passed == pytest.approx(20 + 10, abs=2)  # what was left, and what a tenth of a second brings
    (found,) = one.findings(5.2)
    assert (found.code, found.observed, found.connection) == ("flooded", 1000 - passed, "c")
    assert one.findings(5.3) == []
    guard = FloodGuard(FloodLimits(messages_per_s=100.0, bytes_per_s=1000.0, saved_s=1.0))
    assert [guard.admit(0.0, 400) for _ in range(3)] == [True, True, False]  # bytes count too
    unread = FloodGuard(FloodLimits(messages_per_s=100.0))
    for _ in range(30):
        unread.admit(0.0, 1)
        unread.charge(unread.limits.unreadable_cost)
    assert unread.dropped == pytest.approx(5, abs=1)  # 200 saved up, 8 for each that can't be read
    heavy = joined(rules, flood=FloodLimits(messages_per_s=50.0, saved_s=1.0))
    launch = tinclock.claims.LaunchClaim(
        1, 1, "clod_mortar", (0.0, 0.0, 1.0), (1.0, 0.0, 0.0), tinclock.View(0, 0, 0.0)
    )
    taken = [heavy.receive(msgspec.msgpack.encode(launch), 0.0) is not None for _ in range(50)]
    assert sum(taken) == pytest.approx(20, abs=1)  # a launch is the work of two, and the join was that of ten
    with pytest.raises(BadNumberError):
        FloodGuard(FloodLimits(saved_s=0.0))


@pytest.mark.parametrize("form", ["json", "msgpack"])
def test_messages_of_the_game_pass_unread_under_a_limit_of_their_own(rules, form):
    """Chat reaches the server and is no claim, a flood of it is dropped, and claims pass meanwhile."""
    packs = msgspec.json.encode if form == "json" else msgspec.msgpack.encode
    one = joined(rules, flood=FloodLimits())
    chat = packs({"kind": "game", "body": {"say": "well shot", "to": [1, 2, None]}})
    assert one.receive(chat, 1.0) is None
    assert one.game_message is not None
    assert one.game_message.body == {"say": "well shot", "to": [1, 2, None]}
    passed = 0
    for _ in range(500):
        one.receive(chat, 1.5)
        passed += one.game_message is not None
    assert passed <= 50
    assert (one.guard.dropped, one.findings(2.0)) == (0, [])
    assert one.game_guard.dropped == 500 - passed
    assert one.receive(packs({"kind": "use", "sequence": 1, "actor": 1, "item": "oil_can"}), 1.5) is not None
    assert one.game_message is None


def test_before_its_join_nobody_chats(rules):
    """A client that has not joined is told only that."""
    one = gateway(rules)
    answer = one.receive(b'{"kind":"game","body":1}', 0.0)
    assert msgspec.json.decode(answer)["kind"] == "join_refused"
    assert one.game_message is None


def test_what_is_too_large_deep_or_long_is_rejected_with_a_short_excerpt(rules):
    """A message that is too large, deep or long is rejected with a short excerpt."""
    one = joined(rules)
    deep = b"[" * 3000 + b"]" * 1000
    for wild in (b"x" * 5000, b'{"a": ' + deep, msgspec.msgpack.encode([["x" * 300]]),
                 msgspec.json.encode({"a": [0] * 900}),
                 msgspec.msgpack.encode({"kind": "shot", "n": [[[[[[[[[[1]]]]]]]]]]})):  # fmt: skip
        one.receive(wild, 1.0)
        (finding,) = one.last_ruling.findings
        assert finding.code == "malformed"
        assert len(finding.detail) < 90
        assert finding.detail.isprintable()


def test_the_bounds_of_a_message_are_what_they_are_said_to_be():
    """At the bound it is read, one beyond it is not: bytes, depth, items, lengths of texts."""
    pad = len(msgspec.json.encode({"a": ""}))
    whole = msgspec.json.encode({"a": ["y" * 200] * 19 + ["z" * 139]})
    assert len(msgspec.json.encode({"a": ""})) == pad
    exact = whole[:-3] + b"z" * (4096 - len(whole)) + whole[-3:]
    assert len(exact) == 4096
    assert isinstance(decode_claim(exact), dict)
    assert isinstance(decode_claim(exact + b" "), Unreadable)

    def nested(depth: int) -> bytes:
        return b'{"a":' + b"[" * (depth - 2) + b"1" + b"]" * (depth - 2) + b"}"

    assert isinstance(decode_claim(nested(8)), dict)
    assert isinstance(decode_claim(nested(9)), Unreadable)
    for count, kind in ((254, dict), (255, Unreadable)):
        assert isinstance(decode_claim(msgspec.json.encode({"a": [0] * count})), kind)
    for length, kind in ((256, dict), (257, Unreadable)):
        assert isinstance(decode_claim(msgspec.json.encode({"a": "x" * length})), kind)


def test_what_cant_be_read_costs_its_sender_eight_messages(rules):
    """Reading garbage is work too: of a saved-up 500 messages, 62 unreadable ones pass at once."""
    one = joined(rules, flood=FloodLimits())
    before = one.guard.passed
    for _ in range(200):
        one.receive(b"\xc1", 50.0)
    assert one.guard.passed - before == 63


@pytest.mark.parametrize("highest", [128, 129, 1000])
def test_a_number_is_stale_exactly_when_its_receipt_is_forgotten(rules, highest):
    """128 receipts are kept: the oldest of them is repeated, the one before is too old to be ruled."""
    referee = tinclock.Referee(rules, seed=1)
    referee.admit(connection="c", account="a", rig="gardener")
    for sequence in range(1, highest + 1):
        referee.rule("c", tinclock.claims.StatusClaim(sequence, 1), received_at=sequence / 100)
    oldest = highest - 127
    again = referee.rule("c", tinclock.claims.StatusClaim(oldest, 1), received_at=99.0)
    assert codes(again) == ["repeated_sequence"]
    if oldest > 1:
        assert codes(referee.rule("c", tinclock.claims.StatusClaim(oldest - 1, 1), received_at=99.0)) == [
            "stale_sequence"
        ]


def mutated(data: bytes, rng: np.random.Generator, others: list[bytes]) -> bytes:
    """A message with something wrong: bits, lengths, pieces of another one, or nothing but noise."""
    out, way = bytearray(data), int(rng.integers(6))
    if way == 0:
        return rng.bytes(int(rng.integers(1, 200)))
    for _ in range(int(rng.integers(1, 6))):
        at = int(rng.integers(len(out))) if out else 0
        if way == 1 and out:
            out[at] = int(rng.integers(256))
        elif way == 2:
            del out[at : at + int(rng.integers(1, 9))]
        elif way == 3:
            out[at:at] = bytes(out[at : at + int(rng.integers(1, 20))])
        elif way == 4:
            other = others[int(rng.integers(len(others)))]
            out[at : at + 8] = other[at : at + int(rng.integers(1, 16))]
        elif out:
            out[at:at] = [b"1e999", b"\xcb\x7f\xf0\x00\x00\x00\x00\x00\x00", b"-", b"\xd3\x80", b"null"][
                int(rng.integers(5))
            ]
    return bytes(out)


STRANGE = (
    -1, 0, 1, 2, 3, 2**31, 2**53, 2**63 - 1, -(2**63), 0.5, -0.0, 1e-300, 1e300, float("inf"), float("nan"), True, None,
    "", "grit_rifle", "clod_mortar", "hose", "oil_can", "chest", "x" * 200, "\u202e\x00<b>", [], [1], [1, 2, 3],
    [0.0, 0.0, 1.0], [float("nan")] * 3, [1, 2, 3, 4], {}, {"a": 1}, b"\xff", [[1, 2], 3, 4],
)  # fmt: skip


def almost(text: str, rng: np.random.Generator, sequence: int, tick: int) -> bytes:
    """A message in order but for a field or two that hold something strange; numbered, and of the present."""
    message = {**json.loads(text), "sequence": sequence}
    if "view" in message:
        newest = tick - tick % 2
        message["view"] = [max(0, newest - 8), max(0, newest - 6), 0.5]
    for _ in range(int(rng.integers(0, 3))):
        field = sorted(message)[int(rng.integers(len(message)))]
        value = STRANGE[int(rng.integers(len(STRANGE)))]
        if isinstance(message[field], list) and message[field] and rng.random() < 0.6:
            message[field] = [*message[field]]
            message[field][int(rng.integers(len(message[field])))] = value
        elif field != "kind" or rng.random() < 0.1:
            message[field] = value
    return msgspec.msgpack.encode(message)


def test_mutated_and_random_messages_never_raise(rules):
    """A seeded share of the fuzz run (`benchmarks/fuzz.py`)."""
    one, rng = joined(rules), np.random.default_rng(8)
    whole = [text.encode() for way, text in EXAMPLES if way == "from_client"]
    whole += [msgspec.msgpack.encode(msgspec.json.decode(text)) for text in whole]
    texts = [text for way, text in EXAMPLES if way == "from_client"]
    answered, found = 0, set()
    for k in range(FUZZED):
        wild = (
            mutated(whole[k // 2 % len(whole)], rng, whole)
            if k % 2
            else almost(texts[k // 2 % len(texts)], rng, k + 1, 0)
        )
        answered += one.receive(wild, k * 0.01) is not None
        found |= set(codes(one.last_ruling)) if one.last_ruling else set()
    assert answered > 0.9 * FUZZED
    assert len(found) > 12  # it gets past the first checks


def test_no_receipt_varies_with_what_was_found_or_by_how_much():
    """Every finding code, with two limits and two margins: the client is sent the same bytes."""
    for outcome in ("accepted", "adjusted", "rejected"):
        sent = set()
        for code in FINDINGS:
            for observed, limit in ((1.0, 0.5), (99.0, 0.1)):
                found = tinclock.Finding(
                    code, "c", "a", 1, 1, 0.5, observed, limit, abs(observed - limit), "s", "detail"
                )
                ruling = tinclock.Ruling(1, "shot", "c", "a", 1, 1, "hose", 0.5, outcome, findings=(found,))
                sent.add(encode(ReceiptMessage(ruling.receipt())))
        assert len(sent) == 1


# -- what a client is given -----------------------------------------------------------------------------------------


def test_a_bundle_holds_what_is_listed_and_nothing_that_teaches_evasion(rules):
    """A bundle holds what is listed and nothing that teaches evasion."""
    bundle = client_rules(rules)
    text = msgspec.json.encode(bundle).decode()
    for private in ("damage", "falloff", "zones\"", "allowance", "max_rewind", "strictness", "actions",
                    "sprinkler_jet", "max_skipped", "slack", "claim_window", "armour", "worth",
                    "teleport"):  # fmt: skip
        assert private not in text.replace('"zone"', "")
    assert "hose" in bundle.weapons
    assert bundle.weapons["pebble_sling"]["projectile"]["speed_m_s"] == 38.0
    assert "damage" not in bundle.weapons["clod_mortar"]["splash"]


def test_a_new_key_of_the_rules_is_private_until_somebody_lists_it(rules):
    """Every key that a bundle shows is one that the list names; the list names no key that there isn't."""
    kinds = {"match": rules.match, "movement": rules.movement, "rig": rules.rigs["gardener"],
             "weapon": rules.weapons["hose"], "item": rules.items["oil_can"], "spread": rules.weapons["hose"].spread,
             "recoil": rules.weapons["hose"].recoil, "projectile": rules.weapons["clod_mortar"].projectile,
             "bounce": rules.weapons["clod_mortar"].projectile.bounce,
             "splash": rules.weapons["clod_mortar"].splash}  # fmt: skip
    for name, table in kinds.items():
        assert set(PUBLIC[name]) <= set(table.__struct_fields__)
    bundle = client_rules(rules)
    assert all(set(weapon) == set(PUBLIC["weapon"]) for weapon in bundle.weapons.values())
    assert set(bundle.match) == set(PUBLIC["match"])
    assert all(set(rig) == set(PUBLIC["rig"]) for rig in bundle.rigs.values())
    assert set(bundle.weapons["clod_mortar"]["projectile"]) == set(PUBLIC["projectile"])


def test_a_radius_that_differs_is_told_to_both_sides_and_named_on_the_server_alone(rules):
    """A radius that differs is told to both sides and named on the server alone."""
    own = client_rules(rules).digests
    rig = rules.rigs["gardener"]
    head = msgspec.structs.replace(rig.parts[0], radius_m=0.2)
    fatter = msgspec.structs.replace(rig, parts=[head, *rig.parts[1:]])
    theirs = client_rules(msgspec.structs.replace(rules, rigs={**rules.rigs, "gardener": fatter})).digests
    assert differences(own, theirs) == ["rigs.gardener"]
    one = gateway(rules, digests=own)
    answer = one.receive(msgspec.msgpack.encode(Join((2,), theirs)), 0.0)
    assert not msgspec.msgpack.decode(answer, type=ToClient).same_rules
    assert one.differing == ["rigs.gardener"]
    assert b"rigs.gardener" not in answer
    assert msgspec.msgpack.decode(one.receive(msgspec.msgpack.encode(Join((2,), own)), 0.1), type=ToClient).same_rules


def test_the_bundle_command_writes_it(tmp_path):
    """The bundle command writes it."""
    done = CliRunner().invoke(main, ["client-rules", str(data_file("garden.toml")), "--out", str(tmp_path / "b.json")])
    assert done.exit_code == 0
    assert json.loads((tmp_path / "b.json").read_text())["digests"]["weapons.hose"]
    assert "no such file" in CliRunner().invoke(main, ["client-rules", str(tmp_path / "none.toml")]).output
    assert decode_claim(b'{"kind": "join", "versions": [2]}') == {"kind": "join", "versions": [2]}


def test_borders_of_a_match_deliver_what_changed_to_everybody_who_joined(rules):
    """Each client that joined is sent each event once, written as its join was, and a ping; strangers get nothing; a
    client that joins again is told the state from which its news go on.
    """
    referee = tinclock.Referee(rules, seed=5)
    for name in ("c1", "c2", "c3"):
        referee.admit(connection=name, account=name, team="", rig="gardener", weapon="grit_rifle")
    gateways = Gateways(referee)
    assert gateways.receive("stranger", b"{}", 0.1) == (None, None)
    for name, form in (("c1", json.dumps), ("c2", msgspec.msgpack.encode)):
        join = form({"kind": "join", "versions": [2]})
        answer, _ = gateways.receive(name, join.encode() if isinstance(join, str) else join, 0.1)
        assert decoded(answer)["kind"] == "join_accepted"
    assert gateways.outgoing(0.1, ping=False) == []
    referee.damage(3, 10.0, cause="fall", server_time=0.2)
    sent = gateways.outgoing(0.2, ping=True)
    assert [(name, decoded(data)["kind"]) for name, data in sent] == [
        ("c1", "events"), ("c1", "ping"), ("c2", "events"), ("c2", "ping"),
    ]  # fmt: skip
    assert sent[0][1][:1] == b"{"
    assert sent[2][1][:1] != b"{"
    assert [event["after"] for event in decoded(sent[0][1])["events"]] == [90.0]
    assert gateways.outgoing(0.3, ping=False) == []
    referee.damage(3, 10.0, cause="fall", server_time=0.4)
    again = decoded(gateways.receive("c1", b'{"kind": "join", "versions": [2]}', 0.4)[0])
    state = msgspec.convert(again["state"], State)
    (news,) = [decoded(data) for name, data in gateways.outgoing(0.4, ping=False) if name == "c1"]
    for event in news["events"]:
        state = tinclock.client.apply_event(state, msgspec.convert(event, tinclock.Event))
    assert state == referee.state()


def test_a_connection_that_was_taken_over_is_sent_nothing_more(rules):
    """The second connection of an account dismisses the first inside `admit`: its gateway is forgotten too."""
    rules = msgspec.structs.replace(rules, match=msgspec.structs.replace(rules.match, second_connection="take_over"))
    referee = tinclock.Referee(rules)
    gateways = Gateways(referee)
    join = msgspec.msgpack.encode(Join((2,)))
    for name in ("c-1", "c-2"):
        referee.admit(connection=name, account="ada", rig="gardener")
        gateways.receive(name, join, 0.1)
    assert {name for name, _ in gateways.outgoing(0.2, ping=True)} == {"c-2"}
    referee.admit(connection="c-1", account="ada", rig="gardener")
    assert gateways.outgoing(0.3, ping=True) == []
    answer, _ = gateways.receive("c-1", b'{"kind":"game"}', 0.4)
    assert decoded(answer)["kind"] == "join_refused", "it has not joined since"


def decoded(data: bytes) -> dict:
    return json.loads(data) if data[:1] == b"{" else msgspec.msgpack.decode(data)


BUILDS = {
    "a name of the server's own": (b"\0\1sprinkler_jet\0", "weapons.sprinkler_jet"),
    "a name in two bytes a letter": ("..sprinkler_jet..".encode("utf-16-le"), "weapons.sprinkler_jet"),
    "a key": (b'{"max_rewind_s": 0.25}', "key max_rewind_s"),
    "a table as text": (b"falloff: [[8.0, 1.0], [20.0, 0.6]]", "weapons.grit_rifle.falloff"),
    "a table as float32": (
        b"xx" + np.array([8.0, 1.0, 20.0, 0.6], "<f4").tobytes() + b"yy",
        "weapons.grit_rifle.falloff",
    ),
    "zones": (b"head=2.5, chest=1", "weapons.grit_rifle.zones"),
}


@pytest.mark.parametrize("what", BUILDS)
def test_a_search_of_a_clients_build_names_what_only_the_server_should_have(rules, tmp_path, what):
    """Names, keys and tables of damage are found with their file and place, also across chunks; the rest is not."""
    data, expected = BUILDS[what]
    rifle = msgspec.structs.replace(
        rules.weapons["grit_rifle"], falloff=[(8.0, 1.0), (20.0, 0.6)], zones={"head": 2.5, "chest": 1.0}
    )
    rules = msgspec.structs.replace(rules, weapons={**rules.weapons, "grit_rifle": rifle})
    (tmp_path / "data").mkdir()
    fill = b" " * (CHUNK_BYTES - len(data) // 2)
    (tmp_path / "data" / "game.pak").write_bytes(fill + data + b" " * 100)
    (tmp_path / "client.json").write_bytes(msgspec.json.encode(client_rules(rules)))
    (leak,) = leaks_in(tmp_path, rules)
    assert (leak.file, leak.what) == (str(Path("data") / "game.pak"), expected)
    assert len(fill) <= leak.offset < len(fill) + len(data)


def test_the_command_compares_a_clients_rules_down_to_the_hitbox(tmp_path):
    """A radius that differs is named with its hitbox and both values; the same rules are said to be the same."""
    rules = data_file("garden.toml")
    done = CliRunner().invoke(main, ["client-rules", str(rules), "--out", str(tmp_path / "client.json")])
    assert done.exit_code == 0, done.output
    compare = ["client-rules", str(rules), "--compare", str(tmp_path / "client.json"), "--search", str(tmp_path)]
    done = CliRunner().invoke(main, compare)
    assert done.exit_code == 0, done.output
    assert "the same as the server's" in done.output
    assert "nothing of the server's found" in done.output
    client = json.loads((tmp_path / "client.json").read_text())
    head = next(part for part in client["rigs"]["gardener"]["parts"] if part["name"] == "head")
    head["radius_m"] += 0.03
    (tmp_path / "client.json").write_text(json.dumps(client))
    done = CliRunner().invoke(main, compare)
    assert done.exit_code == 1
    assert re.search(r"rigs\.gardener\.parts\[\d+\] \(head\)\.radius_m: client 0\.\d+, server 0\.\d+", done.output)
    (tmp_path / "client.json").write_text("[]")
    assert "client-rules` writes" in CliRunner().invoke(main, compare).output
