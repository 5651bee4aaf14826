"""The guides: every block is of a kind that something runs, every page can be reached, what is generated is current."""

from __future__ import annotations

import re
import subprocess
import sys
import tomllib
from pathlib import Path

import msgspec
import pytest

from tinclock.intake.level_file import LevelTable
from tinclock.intake.logs.mapping import LogMap, parse_log_map
from tinclock.intake.toml_tables import convert_table

ROOT = Path(__file__).resolve().parent.parent
PAGES = sorted((ROOT / "docs").glob("*.md"))
RUN_BY = {
    "sh": "tools/docs_commands.py", "python scene": "tools/docs_commands.py", "python": "test_command.py",
    "toml": "test_command.py and here", "json from_client": "test_border.py", "json to_client": "test_border.py",
    "text": "nobody: output, or commands of other programs",
}  # fmt: skip


def blocks(page, language):
    return re.findall(rf"^```{language}\n(.*?)^```", page.read_text(encoding="utf-8"), re.S | re.M)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_block_of_a_page_is_of_a_kind_that_something_runs(page):
    """Every block of a page is of a kind that something runs."""
    opened = re.findall(r"^```(.*)\n", page.read_text(encoding="utf-8"), re.M)
    assert set(opened[0::2]) <= set(RUN_BY)
    assert set(opened[1::2]) <= {""}


def test_every_page_can_be_reached_from_the_readme():
    """Every page can be reached from the README."""
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    assert [page.name for page in PAGES if f"docs/{page.name}" not in readme] == []


def test_the_page_of_findings_is_what_the_table_says():
    """docs/findings.md is made from the table, and every code in it does something."""
    check = [sys.executable, str(ROOT / "tools" / "findings.py"), "--check"]
    done = subprocess.run(check, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_the_rules_reference_is_what_the_types_say():
    """The rules reference is what the types say."""
    check = [sys.executable, str(ROOT / "tools" / "reference.py"), "--check"]
    done = subprocess.run(check, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    page = (ROOT / "docs" / "rules-reference.md").read_text(encoding="utf-8")
    assert [line for line in page.splitlines() if line.endswith("|  |")] == []  # every key says what it is


def test_the_mapping_file_in_the_guide_is_one_and_leaves_out_no_table():
    """The mapping file in the guide is one and leaves out no table."""
    (block,) = blocks(ROOT / "docs" / "logs.md", "toml")
    found = parse_log_map(tomllib.loads(block))
    assert found.claims[0].kind == "shot"
    page = (ROOT / "docs" / "logs.md").read_text(encoding="utf-8")
    keys = {key for table in (LogMap, *map(type, (found.units, found.axes, found.players, found.poses, found.pings)))
            for key in table.__struct_fields__}  # fmt: skip
    assert [key for key in sorted(keys) if not re.search(rf"\b{key}\b", page)] == []


def test_the_level_files_in_the_guide_are_ones():
    """The level files in the guide are ones."""
    texts = blocks(ROOT / "docs" / "level-file.md", "toml")
    found = [convert_table(LevelTable, tomllib.loads(text), "level guide") for text in texts]
    assert [msgspec.structs.asdict(level)["mesh"] is not None for level in found] == [False, True]


def test_the_readmes_example_prints_what_the_readme_says():
    """The first example of the README prints the text that stands below it."""
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    code, said = re.search(r"```python\n(.*?)```.*?```text\n(.*?)```", text, re.S).groups()
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == said


def test_what_commands_must_print_is_held_of_commands_that_are_there(monkeypatch):
    """Each expectation is about a command of the README or of a guide."""
    monkeypatch.syspath_prepend(str(ROOT / "tools"))
    from printed import EXPECTED, complaint

    text = "\n".join(page.read_text(encoding="utf-8") for page in [ROOT / "README.md", *PAGES])
    assert [begins for begins in EXPECTED if begins not in text] == []
    assert complaint("tinclock weigh evening", "0 cases") != ""
    assert complaint("tinclock weigh evening", "case opened: clover") == ""
