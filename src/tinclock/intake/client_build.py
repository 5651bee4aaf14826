"""Search of a client's build for what only the server should have, and comparison of its rules with the server's."""

from __future__ import annotations

import re
import struct
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import msgspec

from tinclock.core.errors import RulesError
from tinclock.core.rules.client_rules import PUBLIC, client_rules

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from pathlib import Path

    from tinclock.core.rules.ruleset import Rules

CHUNK_BYTES: Final = 1 << 24
OVERLAP_BYTES: Final = 4096
"""Bytes of a chunk that the next one repeats, so that nothing is cut in two."""
MIN_NAME, MIN_KEY, MIN_NUMBERS = 5, 10, 4
"""Lengths below which a name, a key or a run of numbers says nothing: shorter ones are everywhere."""
_APART: Final = rb"[^0-9.]{1,12}"


class Leak(NamedTuple):
    """Something of the server's in a file. offset : bytes from its beginning; what : the key path in the rules"""

    file: str
    offset: int
    what: str


class Difference(NamedTuple):
    """A value that client and server hold differently, by its key path; None where one of them has none."""

    key: str
    client: Any
    server: Any


def _text(number: float) -> bytes:
    return re.escape(f"{number:g}").encode() + rb"(?:\.0+)?(?![0-9.])"


def _of_names(what: str, name: str) -> Iterator[tuple[str, re.Pattern[bytes]]]:
    """Yield the pattern of a name as ASCII and as UTF-16."""
    plain, wide = re.escape(name.encode()), re.escape(name.encode("utf-16-le"))
    word = rb"(?<![A-Za-z0-9_])" + plain + rb"(?![A-Za-z0-9_])"
    yield what, re.compile(word + b"|" + wide)


def _of_numbers(what: str, numbers: Sequence[float]) -> Iterator[tuple[str, re.Pattern[bytes]]]:
    """Yield the pattern of a run of numbers: as text, or packed as float32 or float64."""
    if len(numbers) < MIN_NUMBERS:
        return
    packed = [re.escape(struct.pack(f"<{len(numbers)}{code}", *numbers)) for code in "fd"]
    yield what, re.compile(b"|".join([_APART.join(map(_text, numbers)), *packed]), re.DOTALL)


def _keys_of(table: object) -> set[str]:
    """Return all keys of a record's tables, and of those in them."""
    keys, waiting = set[str](), [msgspec.to_builtins(table)]
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict):
            keys |= {*one}
            waiting += one.values()
        elif isinstance(one, (list, tuple)):
            waiting += one
    return keys


def _private_keys(rules: Rules) -> set[str]:
    """Return keys that a client's rules never have, long enough to mean something."""
    public = _keys_of(client_rules(rules)) | {key for keys in PUBLIC.values() for key in keys}
    named = {name for table in (rules.rigs, rules.weapons, rules.items, rules.loadouts, rules.teams) for name in table}
    return {key for key in _keys_of(rules) - public - named if len(key) >= MIN_KEY and "_" in key}


def patterns_of(rules: Rules) -> list[tuple[str, re.Pattern[bytes]]]:
    """Return what to search for, by the key path in the rules that it stands for."""
    found: list[tuple[str, re.Pattern[bytes]]] = []
    for table, entries in (("weapons", rules.weapons), ("items", rules.items)):
        for name, one in entries.items():
            if not one.for_clients and len(name) >= MIN_NAME:
                found += _of_names(f"{table}.{name}", name)
    for key in sorted(_private_keys(rules)):
        found += _of_names(f"key {key}", key)
    for name, weapon in rules.weapons.items():
        tables = {"falloff": weapon.falloff, "splash.falloff": [] if weapon.splash is None else weapon.splash.falloff}
        for key, rows in tables.items():
            found += _of_numbers(f"weapons.{name}.{key}", [number for row in rows for number in row])
        if len(weapon.zones) > 1:
            factors = [
                re.escape(zone.encode()) + rb"[^0-9A-Za-z]{1,8}" + _text(it) for zone, it in weapon.zones.items()
            ]
            found.append((f"weapons.{name}.zones", re.compile(_APART.join(factors), re.DOTALL)))
    return found


def leaks_in(folder: Path, rules: Rules, on_file: Callable[[Path], None] | None = None) -> Iterator[Leak]:
    """Yield the server's names, keys and tables of damage that files of a folder hold, in order of file and place.

    Single numbers, such as a weapon's damage, are not searched for: they are in every build by chance.
    """
    patterns = patterns_of(rules)
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        if on_file is not None:
            on_file(path)
        with path.open("rb") as file:
            begin, kept = 0, b""
            seen: set[tuple[int, str]] = set()
            while True:
                chunk = file.read(CHUNK_BYTES)
                data = kept + chunk
                found = sorted(
                    {(begin + one.start(), what) for what, pattern in patterns for one in pattern.finditer(data)} - seen
                )
                seen |= {*found}
                yield from (Leak(str(path.relative_to(folder)), offset, what) for offset, what in found)
                if not chunk:
                    break
                kept = data[-OVERLAP_BYTES:]
                begin += len(data) - len(kept)


def client_differences(rules: Rules, text: bytes) -> list[Difference]:
    """Return where a client's rules (what `client-rules` once wrote for it) differ from the server's, by key path.

    Hitboxes are named. Raises `RulesError` for a text that is no client's rules.
    """
    try:
        client = msgspec.json.decode(text)
    except msgspec.DecodeError as error:
        raise RulesError("client's rules", [f"not JSON: {error}"]) from None
    if not isinstance(client, dict) or "rigs" not in client:
        raise RulesError("client's rules", ["expected what `tinclock client-rules` writes, with `rigs` and `weapons`"])
    server = msgspec.json.decode(msgspec.json.encode(client_rules(rules)))
    out: list[Difference] = []
    for key in sorted({*client, *server} - {"digests", "format"}):
        _compare(key, client.get(key), server.get(key), out)
    return out


def _compare(key: str, client: Any, server: Any, out: list[Difference]) -> None:
    if isinstance(client, dict) and isinstance(server, dict):
        for name in sorted({*client, *server}):
            _compare(f"{key}.{name}", client.get(name), server.get(name), out)
    elif isinstance(client, list) and isinstance(server, list) and len(client) == len(server):
        for place, (one, other) in enumerate(zip(client, server, strict=True)):
            name = f" ({other['name']})" if isinstance(other, dict) and "name" in other else ""
            _compare(f"{key}[{place}]{name}", one, other, out)
    elif client != server:
        out.append(Difference(key, client, server))
