"""Public names that load what they need on first use. Each stands once, in the `.pyi` file beside its module.

Type checkers read that file as it is; `attach` reads it for the interpreter. What a module imports from itself there is
a public module inside it.
"""

from __future__ import annotations

import ast
import sys
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Callable


def attach(module: str, file: str) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """`__getattr__`, `__dir__` and `__all__` of a module, from the imports in the `.pyi` file beside it."""
    stub = ast.parse(Path(file).with_suffix(".pyi").read_text(encoding="utf-8"))
    homes = {
        name.name: statement.module or ""
        for statement in stub.body if isinstance(statement, ast.ImportFrom)
        for name in statement.names
    }  # fmt: skip

    def load(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {module!r} has no attribute {name!r}")
        home = homes[name]
        value = import_module(f"{home}.{name}") if home == module else getattr(import_module(home), name)
        setattr(sys.modules[module], name, value)
        return value

    names = sorted(homes)
    return load, lambda: names, names
