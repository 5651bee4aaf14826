"""Write docs/api.md, the reference of everything public. `--check`: only say whether it is as the code is."""

from __future__ import annotations

import enum
import inspect
import re
import sys
import types
from importlib import import_module
from pathlib import Path
from typing import Any

import tinclock

PAGE = Path(__file__).resolve().parent.parent / "docs" / "api.md"
HEAD = """# API reference

Everything public, from its docstrings (`tools/api.py`; not written by hand). `import tinclock` loads nothing of it:
each name loads what it needs on first use. What isn't here may change without notice.
"""
MODULES = ("tinclock", *(f"tinclock.{name}" for name in (
    "claims", "client", "recordings", "evidence", "wire", "logs", "sample", "meshes", "types", "errors", "testing",
)))  # fmt: skip


def main() -> None:
    """Write, or compare."""
    text, missing = reference()
    if missing:
        sys.exit("without a docstring: " + ", ".join(missing))
    if "--check" in sys.argv:
        same = PAGE.exists() and PAGE.read_text(encoding="utf-8") == text
        sys.exit(None if same else f"{PAGE.name} is not what the code says: run tools/api.py")
    PAGE.write_text(text, encoding="utf-8")


def reference() -> tuple[str, list[str]]:
    """The whole page, and the names that have no docstring."""
    parts, missing = [HEAD], []
    for module in MODULES:
        loaded = import_module(module)
        doc = "The names at the top." if loaded is tinclock else inspect.getdoc(loaded)
        parts.append(f"\n## `{module}`\n\n{doc}\n")
        for name in getattr(loaded, "__all__", None) or _own(loaded):
            value = getattr(loaded, name)
            if not isinstance(value, types.ModuleType):
                parts.append(_entry(f"{module}.{name}", name, value, missing))
    return "".join(parts), missing


def _own(module: Any) -> list[str]:
    return sorted(name for name, value in vars(module).items()
                  if not name.startswith("_") and getattr(value, "__module__", "") == module.__name__)  # fmt: skip


def _entry(path: str, name: str, value: Any, missing: list[str]) -> str:
    """One name: signature and docstring; of a class its public methods too."""
    if isinstance(value, types.UnionType) or not (inspect.isclass(value) or callable(value)):
        kinds = getattr(value, "__args__", ())
        told = ", ".join(getattr(kind, "__name__", str(kind)) for kind in kinds)
        return f"\n### `{name}`\n\nAny of {told}.\n" if kinds else f"\n### `{name}`\n"
    if isinstance(value, types.GenericAlias):
        return f"\n### `{name}`\n\n`{value}`\n"
    if not inspect.getdoc(value):
        missing.append(path)
    out = f"\n### `{name}`\n\n`{name}{_signature(value)}`\n\n{_text(value)}\n"
    for member in sorted(_methods(value)) if inspect.isclass(value) else ():
        method = inspect.getattr_static(value, member)
        call = getattr(value, member)
        if isinstance(method, property):
            doc, shown = method.__doc__, member
        else:
            doc, shown = inspect.getdoc(call), f"{member}{_signature(call)}"
        if not doc:
            missing.append(f"{path}.{member}")
            continue
        first = "\n".join(f"  {line}".rstrip() for line in inspect.cleandoc(doc).splitlines()).strip()
        out += f"\n- `{shown}`: {_escaped(first)}\n"
    return out


def _methods(value: type) -> set[str]:
    """Public methods and properties that are ours."""
    names = set()
    for kind in value.__mro__:
        if kind.__module__.startswith("tinclock"):
            for name, member in vars(kind).items():
                if not name.startswith("_") and (isinstance(member, (property, classmethod, staticmethod))
                                                 or inspect.isfunction(member)):  # fmt: skip
                    names.add(name)
    return names


def _signature(value: Any) -> str:
    if inspect.isclass(value) and issubclass(value, enum.Enum):
        return ""  # nobody calls one, and versions of Python write it differently
    try:
        text = str(inspect.signature(value))
    except (TypeError, ValueError):
        return ""
    text = re.sub(r"(: |-> )'([^']*)'", r"\1\2", text)
    text = re.sub(r"\btinclock\.[a-z_.]+\.(?=[A-Z])", "", text)
    text = text.replace("typing.", "")  # some versions of Python write it and some don't
    text = text.replace("(self, ", "(").replace("(self)", "()")
    return re.sub(r"<factory>|<object object at [^>]*>", "...", text)


def _text(value: Any) -> str:
    return _escaped(inspect.getdoc(value) or "")


def _escaped(text: str) -> str:
    """A docstring for Markdown: its indented lines stay lines."""
    return re.sub(r"(?<=\S)\n(?=\S)", "  \n", text) if " : " in text else text


if __name__ == "__main__":
    main()
