"""TOML into typed records, with every mistake found, not just the first, each with its key path and a hint."""

from __future__ import annotations

import math
import tomllib
import types
from difflib import get_close_matches
from functools import cache
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin, get_type_hints

import msgspec

from tinclock.core.errors import RulesError
from tinclock.core.plain import Fields

Record = TypeVar("Record", bound=msgspec.Struct)


def read_toml(path: str | Path) -> Fields:
    """The tables of a TOML file; raises `RulesError` when it is missing or isn't TOML."""
    file = Path(path)
    try:
        return tomllib.loads(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise RulesError(str(path), ["no such file"]) from None
    except (OSError, UnicodeDecodeError) as error:
        raise RulesError(str(path), [f"can't be read: {error}"]) from error
    except tomllib.TOMLDecodeError as error:
        raise RulesError(str(path), [f"is not TOML: {error}"]) from error


LONGEST = 16_000_000
"""Characters of a file: a level of a million triangles has its mesh in a file of its own."""
DEEPEST = 16


def parse_toml(text: str, source: str) -> Fields:
    """The tables of TOML text; raises `RulesError` when it isn't TOML. `source` names it in messages."""
    if len(text) > LONGEST:
        raise RulesError(source, [f"has {len(text):,} characters; at most {LONGEST:,} are read"])
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RulesError(source, [f"is not TOML: {error}"]) from None
    except RecursionError:
        tables = None
    if tables is None or _is_deep(tables):
        raise RulesError(source, [f"is nested deeper than {DEEPEST} tables and lists"])
    return tables


def _is_deep(tables: Fields) -> bool:
    """True if tables and lists lie in each other deeper than any file of ours has them."""
    level: list[object] = [tables]
    for _ in range(DEEPEST):
        level = [
            item
            for one in level
            for item in (one.values() if isinstance(one, dict) else one if isinstance(one, list) else ())
            if isinstance(item, (dict, list))
        ]
    return bool(level)


def convert_table(kind: type[Record], table: object, source: str) -> Record:
    """`table` as a `kind`; raises one `RulesError` that lists all mistakes."""
    problems: list[str] = []
    try:
        converted = msgspec.convert(table, kind)
        if _finite(table):
            return converted
    except msgspec.ValidationError as error:
        problems.append(str(error))
    found: list[str] = []
    _walk(kind, table, "", found)  # only now: what all the mistakes are takes a hundred times as long to say
    raise RulesError(source, found or problems)


def _walk(kind: object, value: object, path: str, problems: list[str]) -> None:
    """Collect the mistakes in `value`, descending where there is structure and converting leaves by themselves."""
    kind, value_kind = _bare(kind), type(value)
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        if value_kind is not dict:
            problems.append(f"{path or 'file'}: expected a table, got {_shown(value)}")
        else:
            _walk_record(kind, value, path, problems)  # type: ignore[arg-type]
    elif get_origin(kind) is dict and value_kind is dict:
        for key, item in value.items():  # type: ignore[attr-defined]
            _leaf(get_args(kind)[0], key, f"{path}.{key} (name)", problems)
            _walk(get_args(kind)[1], item, _join(path, key), problems)
    elif get_origin(kind) is list and value_kind is list:
        for place, item in enumerate(value):  # type: ignore[arg-type]
            name: object = item.get("name") if isinstance(item, dict) else None
            label = f"{path}[{place}]" + (f" ({name})" if isinstance(name, str) else "")
            _walk(get_args(kind)[0], item, label, problems)
    else:
        _leaf(kind, value, path, problems)


def _walk_record(kind: type[msgspec.Struct], table: dict[str, object], path: str, problems: list[str]) -> None:
    hints, fields = _shape_of(kind)
    for key in table:
        if key not in fields:
            near = get_close_matches(key, fields, 1, 0.6)
            hint = f"did you mean {near[0]!r}?" if near else f"keys here are {', '.join(fields)}"
            problems.append(f"{_join(path, key)}: unknown key; {hint}")
    for name, field in fields.items():
        if name in table:
            _walk(hints[name], table[name], _join(path, name), problems)
        elif field.required:
            problems.append(f"{_join(path, name)}: missing; {_to_write(hints[name], _join(path, name))}")


def _to_write(kind: object, path: str) -> str:
    """Text for a missing value."""
    inner = get_args(_bare(kind))
    if get_origin(_bare(kind)) is dict and isinstance(inner[1], type) and issubclass(inner[1], msgspec.Struct):
        needed = [name for name, field in _shape_of(inner[1])[1].items() if field.required]
        return f"write at least one [{path}.NAME]" + (f" with {', '.join(needed)}" if needed else "")
    return f"expected {_wanted(kind)}"


@cache
def _shape_of(kind: type[msgspec.Struct]) -> tuple[Fields, Fields]:
    """Types and fields of a record, by name."""
    return get_type_hints(kind, include_extras=True), {field.name: field for field in msgspec.structs.fields(kind)}


def _bare(kind: object) -> Any:
    """Without the optional part: `X | None` is X, since TOML has no null."""
    if get_origin(kind) in (Union, types.UnionType):
        inner = [choice for choice in get_args(kind) if choice is not type(None)]
        if len(inner) == 1:
            return inner[0]
    return kind


def _leaf(kind: object, value: object, path: str, problems: list[str]) -> None:
    if not _finite(value):
        problems.append(f"{path}: got {_shown(value)}, expected {_wanted(kind)} (finite)")
        return
    try:
        msgspec.convert(value, kind)
    except msgspec.ValidationError:
        problems.append(f"{path}: got {_shown(value)}, expected {_wanted(kind)}")


def _finite(value: object) -> bool:
    if isinstance(value, (list, dict)):
        return all(map(_finite, value.values() if isinstance(value, dict) else value))
    return not isinstance(value, float) or math.isfinite(value)


def _wanted(kind: Any) -> str:
    """Return the values that a type allows, in words."""
    kind = _bare(kind)
    origin, arguments = get_origin(kind), get_args(kind)
    if origin is Annotated:
        meta = [note for note in arguments[1:] if isinstance(note, msgspec.Meta)]
        bounds = [
            text
            for note in meta
            for text, bound in (
                (f"above {note.gt}", note.gt),
                (f"at least {note.ge}", note.ge),
                (f"at most {note.le}", note.le),
                (f"at least {note.min_length} long", note.min_length),
                (f"at most {note.max_length} long", note.max_length),
            )
            if bound is not None
        ]
        return f"{_wanted(arguments[0])} {' and '.join(bounds)}".strip()
    if origin in (Union, types.UnionType):
        return " or ".join(dict.fromkeys(_wanted(choice) for choice in arguments if choice is not type(None)))
    if origin is Literal:
        return "one of " + ", ".join(repr(choice) for choice in arguments)
    if origin is tuple:
        return f"[{', '.join(_wanted(item) for item in arguments)}]"
    if origin is list:
        return f"a list of {_wanted(arguments[0])}"
    if origin is dict:
        return f"a table of {_wanted(arguments[1])}"
    names = {float: "a number", int: "a whole number", str: "a text", bool: "true or false"}
    return names.get(kind, "a table" if isinstance(kind, type) else str(kind))


def _shown(value: object) -> str:
    text = repr(value)
    return f"{text if len(text) <= 60 else text[:57] + '...'} ({type(value).__name__})"


def _join(path: str, key: str) -> str:
    return f"{path}.{key}" if path else key
