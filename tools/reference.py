"""Write docs/rules-reference.md from the types of the rules file. `--check`: only say whether it is as they are."""

from __future__ import annotations

import ast
import inspect
import json
import sys
from pathlib import Path
from typing import Any, get_args, get_origin, get_type_hints

import msgspec

from tinclock.core.rules.ruleset import Rules
from tinclock.intake.toml_tables import _bare, _wanted

PAGE = Path(__file__).resolve().parent.parent / "docs" / "rules-reference.md"
HEAD = """# Rules reference

Every key of a rules file, from the types that read it (`tools/reference.py`; not written by hand). What they are for,
with an example, stands in [rules file](rules-file.md). A key without a default must be given.
"""


def main() -> None:
    """Write, or compare."""
    text = reference()
    if "--check" in sys.argv:
        same = PAGE.exists() and PAGE.read_text(encoding="utf-8") == text
        sys.exit(None if same else f"{PAGE.name} is not what the types say: run tools/reference.py")
    PAGE.write_text(text, encoding="utf-8")


def reference() -> str:
    """The whole page."""
    sections: dict[str, str] = {}
    _section(Rules, "", sections)
    return HEAD + "".join(sections.values())


def _section(kind: type[msgspec.Struct], path: str, sections: dict[str, str]) -> None:
    title = f"`[{path}]`" if path else "At the top"
    notes, hints = _notes(kind), get_type_hints(kind, include_extras=True)
    lines = [f"\n## {title}\n\n{inspect.getdoc(kind)}\n", "\n| key | value | default | |\n|---|---|---|---|\n"]
    inner: list[tuple[type[msgspec.Struct], str]] = []
    for field in msgspec.structs.fields(kind):
        table, many = _table_in(hints[field.name])
        if table is not None:
            inner.append((table, ".".join(part for part in (path, field.name, many) if part)))
        if table is None or _is_list(hints[field.name]):
            value = _wanted(hints[field.name]) if table is None else f"a list of tables, see `[{inner[-1][1]}]`"
            default = "" if field.required else _default(field)
            lines.append(f"| `{field.name}` | {value} | {default} | {notes.get(field.name, '')} |\n")
    sections[path] = "".join(lines) if len(lines) > 2 else lines[0]
    for table, where in inner:
        _section(table, where, sections)


def _table_in(hint: Any) -> tuple[type[msgspec.Struct] | None, str]:
    """The table that a key holds, and how one of many is written."""
    bare = _bare(hint)
    if get_origin(bare) is dict:
        return _table_in(get_args(bare)[1])[0], "NAME"
    if get_origin(bare) is list:
        return _table_in(get_args(bare)[0])[0], ""
    return (bare if isinstance(bare, type) and issubclass(bare, msgspec.Struct) else None), ""


def _is_list(hint: Any) -> bool:
    return get_origin(_bare(hint)) is list


def _default(field: Any) -> str:
    value = field.default if field.default is not msgspec.NODEFAULT else field.default_factory()
    if value is None:
        return "none"
    return f"`{json.dumps(value if not isinstance(value, tuple) else list(value))}`"


def _notes(kind: type) -> dict[str, str]:
    """The text below each field in the source."""
    (tree,) = ast.parse(inspect.getsource(kind)).body
    out: dict[str, str] = {}
    for before, after in zip(tree.body, tree.body[1:], strict=False):
        if isinstance(before, ast.AnnAssign) and isinstance(after, ast.Expr) and isinstance(after.value, ast.Constant):
            out[before.target.id] = " ".join(str(after.value.value).split()).replace("|", "\\|")
    return out


if __name__ == "__main__":
    main()
