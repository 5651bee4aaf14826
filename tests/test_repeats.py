"""A repeat is not ruled: it counts nowhere as a rejected claim, in no list, table, picture or metric."""

from __future__ import annotations

import json
from collections import Counter

import pytest
from click.testing import CliRunner
from conftest import Range

import tinclock
from tinclock.cli.main import main
from tinclock.core.analysis.tally import tally
from tinclock.garden.scenario import data_file
from tinclock.recordings import Recording
from tinclock.recordings.claimed import claimed_hits
from tinclock.review.watched import row_of

RULES = tinclock.load_rules(data_file("garden.toml"))


@pytest.fixture
def recorded(tmp_path):
    """Two hits of which one came three times more, and a claim that is rejected."""
    here = Range(RULES, None, record_to=tmp_path / "match")
    for k in range(2):
        claim = here.aimed(victim=here.runner, part="chest")
        for again in range(1 + 3 * k):
            here.server.rule("s", claim, received_at=here.now + again * 0.001)
        here.run(20)
    here.server.rule("s", here.aimed(direction=(2.0, 0.0, 0.0)), received_at=here.now)
    here.server.close()
    return tmp_path / "match"


def run(*arguments: object) -> object:
    done = CliRunner().invoke(main, [str(argument) for argument in arguments], catch_exceptions=False)
    assert done.exit_code == 0, done.output
    return json.loads(done.output)


def test_repeats_are_a_count_of_their_own_in_tallies_and_lists(recorded):
    """Six rulings: two accepted, one rejected, three repeats."""
    counts = {"accepted": 2, "adjusted": 0, "rejected": 1, "repeated": 3}
    rulings = list(Recording(recorded).rulings())
    assert tally(rulings)["outcomes"] == counts
    assert Counter(row_of(ruling)[5] for ruling in rulings) == Counter(counts) + Counter()
    assert run("info", recorded, "--json")["outcomes"] == {k: v for k, v in sorted(counts.items()) if v}
    assert run("explain", recorded, "--outcome", "rejected", "--json")["ruling"]["number"] == 6
    assert run("explain", recorded, "--outcome", "repeated", "--json")["rulings"] == 3


def test_claimed_hits_are_counted_once(recorded):
    """Both claimed hits counted: a hundred percent, and not two fifths."""
    counted = claimed_hits(Recording(recorded))["all"].as_dict()
    assert {k: counted[k] for k in ("claimed", "counted", "rejected", "repeated")} == {
        "claimed": 2, "counted": 2, "rejected": 0, "repeated": 3,
    }  # fmt: skip
