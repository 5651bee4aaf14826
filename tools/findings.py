"""Write docs/findings.md from the table of findings. `--check`: only say whether it is as the table is."""

from __future__ import annotations

import sys
from pathlib import Path

from tinclock.core.findings import FINDINGS

PAGE = Path(__file__).resolve().parent.parent / "docs" / "findings.md"
HEAD = """# Findings

A finding is what one check saw: the observed value, the limit, the margin between them. It is not proof: the last
column says what else explains it. "must" in the default column can't be changed in the rules. "lenient" and "strict"
say what the finding does under that strictness, where it is something else. Only what has words in the evidence column
can ever weigh against an account. (`tools/findings.py` makes this page from `tinclock.core.findings`.)

| code | default | what was measured | unit | evidence that an account | what else could explain it |
|---|---|---|---|---|---|
"""
TAIL = """
The same is in `findings.jsonl`, one object a line: `code`, `connection`, `account`, `entity`, `sequence`,
`server_time`, `observed`, `limit`, `margin`, `unit`, `detail`.

How much a finding weighs against an account, and when that becomes a case for a person to look at, is
[evidence](evidence.md)'s.
"""


def main() -> None:
    """Write, or compare."""
    text = page()
    if "--check" in sys.argv:
        same = PAGE.exists() and PAGE.read_text(encoding="utf-8") == text
        sys.exit(None if same else f"{PAGE.name} is not what the table says: run tools/findings.py")
    PAGE.write_text(text, encoding="utf-8")


def page() -> str:
    """The whole page."""
    rows = []
    for kind in FINDINGS.values():
        does = kind.action + (", must" if kind.always_rejects else "")
        does += "".join(
            f"; {name}: {word}" for name, word in (("lenient", kind.lenient), ("strict", kind.strict)) if word
        )
        cells = (f"`{kind.code}`", does, kind.measures, kind.unit, kind.title, kind.otherwise)
        rows.append(f"| {' | '.join(cells)} |\n".replace("|  |", "| |").replace("|  |", "| |"))
    return HEAD + "".join(rows) + TAIL


if __name__ == "__main__":
    main()
