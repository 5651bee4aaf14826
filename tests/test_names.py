"""Names: files of 0.2 are read or refused under today's names, and every public word is plain or in the glossary."""

import json
import re
import shutil
import tomllib
import typing
from contextlib import closing
from importlib import import_module
from pathlib import Path

import click
import msgspec
import pytest
from click.testing import CliRunner

import tinclock
from tinclock.cli.main import main
from tinclock.core.findings import FINDINGS
from tinclock.core.rules.ruleset import Rules
from tinclock.errors import RecordingError, RulesError
from tinclock.evidence import CaseReview, CaseStore
from tinclock.intake.old_names import COMMANDS, renamed_rules, renamed_text
from tinclock.intake.old_names import FINDINGS as OLD_FINDINGS
from tinclock.recordings import Recorder, Recording, explain_miss, history_around, replay
from tinclock.recordings.compact import compact
from tinclock.recordings.format_4 import claim_now
from tinclock.recordings.labelled import labels_beside
from tinclock.sample import data_file
from tinclock.serve.requests import Reply, Request
from tinclock.wire.messages import ToClient

ROOT = Path(__file__).resolve().parents[1]
DATA = ROOT / "tests" / "data"
OLD_WORDS = {"upheld", "amended", "denied", "strike", "handle", "flight", *OLD_FINDINGS}


def run(*arguments: object, fails: int = 0) -> str:
    done = CliRunner().invoke(main, [str(one) for one in arguments])
    assert done.exit_code == fails, done.output
    return done.output


def test_the_sample_of_the_version_before_is_read_under_todays_names():
    """The shipped sample of 0.2 opens: its tables, rulings and events have today's names, and no row is lost."""
    old = Recording(DATA / "sample-0.2")
    assert (old.is_old, old.verify(), old.rows("rulings")) == (True, [], 3435)
    rulings, events = list(old.rulings()), list(old.events())
    assert (len(rulings), len(events)) == (3435, 429)
    said = {word for one in rulings for word in (one.kind, one.outcome, *(finding.code for finding in one.findings))}
    assert {"accepted", "adjusted", "rejected", "weapon_action"} <= said
    assert not said & OLD_WORDS
    assert not {check.name for one in rulings for check in one.checks} & {"lag", "cadence", "believed health"}
    assert not set(old.table("calls")["call"].to_pylist()) & set(COMMANDS)
    assert old.table("ticks").column_names[0] == "call_number"
    missed = next(one for one in rulings if one.kind == "shot" and one.account and not one.hits and one.view)
    assert explain_miss(history_around(old, missed), missed).describe()


def test_a_recording_of_the_version_before_rules_again_to_the_same_numbers(tmp_path):
    """A match that the last code of 0.2 names recorded is ruled again alike in every value; only words differ."""
    found = replay(Recording(DATA / "short-0.2"))
    assert (found.as_recorded, len(found.rulings), found.refused) == (True, 607, [])
    told = run("replay", DATA / "short-0.2")
    assert "the same values, under the names of 0.2" in told
    assert "bit for bit" not in told
    shutil.copytree(DATA / "short-0.2", tmp_path / "edited")
    header = tmp_path / "edited" / "recording.json"
    header.write_text(header.read_text().replace('"damage": 17.0', '"damage": 18.0'))
    assert not replay(Recording(tmp_path / "edited", recover=True)).as_recorded


def test_a_recording_of_the_version_before_is_not_written_to(tmp_path):
    """It is neither continued nor compacted, and says so; its own tables stay as they are."""
    shutil.copytree(DATA / "short-0.2", tmp_path / "m")
    before = {path: path.read_bytes() for path in (tmp_path / "m").rglob("*") if path.is_file()}
    with pytest.raises(RecordingError, match=r"written by version 0\.2"):
        Recorder.resume(tmp_path / "m")
    with pytest.raises(RecordingError, match="no recording of format 5"):
        compact(tmp_path / "m")
    assert {path: path.read_bytes() for path in (tmp_path / "m").rglob("*") if path.is_file()} == before


def test_rules_of_the_version_before_are_refused_with_the_new_name_of_every_key(tmp_path):
    """Every key and value that changed is named with its new name; `check --fix` rewrites them and keeps comments."""
    text = (DATA / "garden-0.2.toml").read_text()
    file = tmp_path / "garden.toml"
    file.write_text(text)
    with pytest.raises(RulesError) as caught:
        tinclock.load_rules(file)
    problems = "\n".join(caught.value.problems)
    for told in ("cadence.allowance_s is now fire_rate.tolerance_s", "harm is now damage", "'reach' is now 'melee'",
                 "weapons.pebble_sling.flight.fade_s is now weapons.pebble_sling.projectile.blend_s"):  # fmt: skip
        assert told in problems
    assert "is now" in run("check", file, "--fix")
    assert tinclock.load_rules(file) == tinclock.load_rules(data_file("garden.toml"))
    comments = [line for line in text.splitlines() if line.lstrip().startswith("#")]
    assert comments == [line for line in file.read_text().splitlines() if line.lstrip().startswith("#")]
    assert "is now" not in run("check", file, "--fix")  # there is nothing left to rename


AWKWARD = {
    "inline tables": 'weapons.rake = { kind = "reach", lasting = { damage = 1 } } # lasting\n',
    "dotted keys": "harm.friendly_share = 0.5\nview.lag_allowance_s = 0.1\n",
    "a word in a text": '[rigs."harm"]\nworth = 3.0\n[weapons."x.y"]\nkind = "hitscan" # flight = {}\n',
    "lists of tables": "[[rigs.a.parts]]\nname = 'cadence'\n[consequences]\nfast_cadence = \"note\"\n",
    "windows line ends": "[cadence]\r\nallowance_s = 0.1\r\n",
}


@pytest.mark.parametrize("name", AWKWARD)
def test_any_way_of_writing_keys_is_rewritten_alike(name):
    """The text with new names says what the renamed tables say, and has no key of 0.2."""
    text = f"schema = 1\n{AWKWARD[name]}"
    expected, found = renamed_rules(tomllib.loads(text))
    assert tomllib.loads(renamed_text(text, "x")) == expected
    assert found
    assert expected["schema"] == 2


def test_a_store_of_the_version_before_opens_and_names_evidence_as_today(tmp_path):
    """Its case, findings and calibration have today's names; nothing else of them changed."""
    shutil.copy(DATA / "cases-0.2.db", tmp_path / "cases.db")
    with closing(CaseStore(tmp_path / "cases.db")) as store:
        review = CaseReview(store)
        (case,) = review.queue()
        report = review.dossier("clover")
    assert (case.account, round(case.peak, 1)) == ("clover", 345.4)
    names = {*case.kinds, *(change.kind for _, change in report.gains)}
    assert names
    assert not names & OLD_WORDS
    assert report.calibration is not None
    assert not set(report.calibration.findings) & OLD_WORDS
    assert report.calibration.provenance.honest_accounts > 0


def rules_fields() -> list[typing.Any]:
    """Keys of rules files."""
    waiting: list[object] = [Rules]
    found = []
    while waiting:
        kind = waiting.pop()
        waiting += typing.get_args(kind)
        if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
            fields = msgspec.structs.fields(kind)
            found += fields
            waiting += [field.type for field in fields]
    return found


def public_names() -> set[str]:
    """Public names, keys of rules files, findings, commands and their options, messages and service requests."""
    modules = ("claims", "client", "recordings", "evidence", "wire", "logs", "sample", "meshes", "types", "errors")
    names = {*modules, *tinclock.__all__, *FINDINGS}
    for module in modules:
        names |= set(import_module(f"tinclock.{module}").__all__)
    for kind in (tinclock.Referee, Recorder):
        names |= {name for name in dir(kind) if not name.startswith("_")}
    for kind in (*typing.get_args(Request), *typing.get_args(ToClient), Reply):
        names |= {str(kind.__struct_config__.tag or ""), *kind.__struct_fields__}
    names |= {field.name for field in rules_fields()}
    commands: list[tuple[str, click.Command]] = [("", main)]
    while commands:
        name, command = commands.pop()
        names |= {name, *(option for one in command.params for option in one.opts)}
        if isinstance(command, click.Group):
            for sub in command.list_commands(typing.cast("click.Context", None)):
                found = command.get_command(typing.cast("click.Context", None), sub)
                commands.append((sub, typing.cast("click.Command", found)))
    return names


def test_every_public_word_is_in_the_glossary_or_plain_english():
    """A word of a public name has a line in docs/glossary.md, or is in the short list of plain words, not in both."""
    found: dict[str, str] = {}
    for name in public_names():
        for word in re.findall(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+", name):
            found[word.lower()] = name
    plain = set((ROOT / "tests" / "plain_words.txt").read_text().split())
    text = (ROOT / "docs" / "glossary.md").read_text().lower()
    glossary = set(re.findall(r"[a-z]+", text))
    unknown = {word: name for word, name in found.items() if word not in plain and word not in glossary}
    assert unknown == {}
    assert plain - set(found) == set(), "plain words that no name has any more"


UNIT = re.compile(r"_(s|m|m_s|m_s2|n_s|rad|deg|per_s|per_m|hz|fraction|factor|tolerance|e|unit)$")


def public_numbers() -> set[str]:
    """Names of all fields and arguments of the public modules, and keys of rules files, that are one float."""
    bare = (float, float | None, "float", "float | None")
    owners: list[typing.Any] = []
    for module in ("", ".claims", ".client", ".recordings", ".evidence", ".logs", ".sample", ".meshes", ".types"):
        public = import_module(f"tinclock{module}")
        owners += [getattr(public, name) for name in public.__all__]
    owners += [call for one in owners if isinstance(one, type) for name, call in vars(one).items() if name[:1] != "_"]
    found = {
        name
        for one in owners
        for name, kind in getattr(one, "__annotations__", {}).items()
        if name != "return" and getattr(kind, "__forward_arg__", kind) in bare
    }
    return found | {field.name for field in rules_fields() if field.type in bare}


def test_every_public_number_says_its_unit():
    """A name of a number ends in its unit, or its last word is in the table of docs/conventions.md."""
    table = (ROOT / "docs" / "conventions.md").read_text().partition("suffix have these units")[2].partition("**")[0]
    known = set(re.findall(r"`([a-z]+)`", table)) | {"at", "time", "minutes", "damage", "score"}
    names = {name for name in public_numbers() if not name.startswith("_")}
    assert len(names) > 100
    assert {name for name in names if not UNIT.search(name) and not known & set(name.split("_"))} == set()


def test_the_changelog_lists_what_changed():
    """Every renamed finding and command stands in the table of the changelog with its new name."""
    text = (ROOT / "CHANGELOG.md").read_text()
    table = text[text.index("### Breaking: names") : text.index("### Changed")]
    for old, new in {**OLD_FINDINGS, **COMMANDS}.items():
        assert {f"`{old}`", f"`{new}`"} <= set(re.findall("`[^`]+`", table)), old


def test_no_word_of_the_version_before_is_left_in_what_is_shipped():
    """No rules file, schema or message of today has a word that was renamed."""
    text = "".join(path.read_text() for path in (ROOT / "docs" / "schemas").glob("*.json"))
    text += data_file("garden.toml").read_text()
    words = set(re.findall(r"[a-z_]{4,}", json.dumps(text)))
    assert not words & (OLD_WORDS - {"flight", "handle"})


STRANGE = [
    b'{"kind": []}', b'{"kind": {"a": 1}, "sequence": 1}', b'{"kind": null}', b"[1]", b"{", b"\xc1", b"\x81\x90\x01",
    msgspec.msgpack.encode({"kind": [1, 2]}), msgspec.msgpack.encode({"kind": 7}),
    msgspec.msgpack.encode({"kind": "impact", "x": msgspec.msgpack.Ext(1, b"a")}),
]  # fmt: skip


@pytest.mark.parametrize("received", STRANGE, ids=range(len(STRANGE)))
def test_what_a_stranger_sent_to_the_version_before_is_read_as_it_came(received):
    """Bytes that were no claim in 0.2 are none now: nothing raises, and none of them becomes another."""
    assert claim_now(received) == received


def test_labels_of_the_version_before_still_say_who_cheated(tmp_path):
    """labels.json of 0.2 called cheats `dials`: an account that cheated there is no honest one here."""
    (tmp_path / "m-truth").mkdir()
    rows = [{"account": "ada", "dials": {"lucky_numbers": 0.5}}, {"account": "bob", "dials": {}}]
    (tmp_path / "m-truth" / "labels.json").write_text(json.dumps(rows))
    found = labels_beside(tmp_path / "m").of
    assert (found["ada"].cheats, found["bob"].cheats) == ({"spread_number_picking": 0.5}, {})


GONE = {
    *OLD_FINDINGS, *COMMANDS, "seen", "news", "ask", "deliver", "ruled", "again", "send", "rerule",
    "contents", "play", "follow", "undying", "upheld", "amended", "denied", "Border", "Drawing", "strike", "handle",
} - {"damage", "cut", "put", "guide", "place"}  # fmt: skip
"""Names of 0.2 that mean nothing today, wherever they stand as code."""


@pytest.mark.parametrize(
    "page", sorted({*(ROOT / "docs").glob("*.md")} - {ROOT / "docs" / "api.md"}), ids=lambda page: page.name
)
def test_no_page_names_what_is_called_otherwise_now(page):
    """What a page sets as code, in its text or as a key of JSON, is a name of today."""
    text = page.read_text()
    code = set(re.findall(r"`([A-Za-z_]+)(?=[`(])", text)) | set(re.findall(r'"([a-z_]+)": ', text))
    assert code & GONE == set()
