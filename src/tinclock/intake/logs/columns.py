"""Columns of CSV, JSON Lines and Parquet files; what is wrong in one is told with its file, row and column."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from tinclock.core.errors import LogError, MissingExtraError
from tinclock.core.plain import Fields
from tinclock.intake.logs.mapping import Cell
from tinclock.intake.parquet_file import read_bounded

if TYPE_CHECKING:
    from collections.abc import Callable, Container, Iterable

    from numpy.typing import NDArray

    from tinclock.intake.logs.mapping import Said

MAX_TOLD = 20
"""Maximum number of problems of one file that are listed one by one."""

YES, NO = frozenset({"true", "yes", "1", "1.0"}), frozenset({"false", "no", "0", "0.0", "none"})


class Problems:
    """Problems of the logs, gathered until they are read."""

    def __init__(self, told_most: int = MAX_TOLD) -> None:
        self.lines: list[str] = []
        self._counts: dict[str, int] = {}
        self._most = told_most

    def add(self, file: str, row: str, column: str, problem: str) -> None:
        """One more."""
        count = self._counts[file] = self._counts.get(file, 0) + 1
        if count <= self._most:
            where = ", ".join(part for part in (file, row, column and f"column {column!r}") if part)
            self.lines.append(f"{where}: {problem}")

    def stop_if_any(self) -> None:
        """Raise `LogError` with what was gathered."""
        more = sum(max(count - self._most, 0) for count in self._counts.values())
        if self.lines:
            raise LogError([*self.lines, f"and {more} more"] if more else self.lines)


class LogFile:
    """One file of rows.

    path : `.csv` (or `.tsv`), `.jsonl` (or `.ndjson`), `.parquet`; a `.gz` behind the first two is opened
    problems : where to note what is wrong

    Raises `LogError` for a file that can't be read, `MissingExtraError` without pyarrow.
    """

    def __init__(self, path: Path, problems: Problems, delimiter: str = ",") -> None:
        self.name, self._problems, self._rows_are = path.name, problems, "row"
        self._first = 1  # the number of the first row, as a reader of the file would count
        self._skipped: list[int] = []  # lines that are no rows
        suffix = next((s for s in reversed(path.suffixes) if s != ".gz"), "").lower()
        readers: dict[str, Callable[[Path], Fields]] = {
            ".csv": lambda p: self._csv(p, delimiter), ".tsv": lambda p: self._csv(p, "\t"),
            ".jsonl": self._json_lines, ".ndjson": self._json_lines, ".parquet": self._parquet,
        }  # fmt: skip
        if suffix not in readers:
            raise LogError([f"{self.name}: is no table this reads; expected {', '.join(readers)}"])
        try:
            self._columns = readers[suffix](path)
        except FileNotFoundError:
            raise LogError([f"{path}: no such file"]) from None
        except (OSError, UnicodeDecodeError) as error:
            raise LogError([f"{self.name}: can't be read: {error}"]) from None
        self.rows = len(next(iter(self._columns.values()), ()))

    # -- formats ----------------------------------------------------------------------------------------------

    def _csv(self, path: Path, delimiter: str) -> Fields:
        """All cells as texts, so that a bad one can be told by its row."""
        pyarrow = _pyarrow("reading CSV")
        from pyarrow import csv

        self._first, self._rows_are = 2, "line"
        kept = csv.ReadOptions(use_threads=False)
        broken: list[tuple[int | None, int, int]] = []

        def note(row: Any) -> str:
            broken.append((row.number, row.expected_columns, row.actual_columns))
            return "skip"

        parse = csv.ParseOptions(delimiter=delimiter, ignore_empty_lines=False, invalid_row_handler=note)
        try:
            with pyarrow.input_stream(str(path), compression="detect") as stream:
                names = csv.open_csv(stream, kept, parse).schema.names
            if len(set(names)) < len(names):
                twice = ", ".join(sorted({name for name in names if names.count(name) > 1}))
                raise LogError([f"{self.name}: has the columns {twice} more than once"])
            broken.clear()
            types = csv.ConvertOptions(column_types=dict.fromkeys(names, pyarrow.string()), strings_can_be_null=False)
            with pyarrow.input_stream(str(path), compression="detect") as stream:
                table = csv.read_csv(stream, kept, parse, types)
        except pyarrow.ArrowInvalid as error:
            raise LogError([f"{self.name}: is no CSV: {error}"]) from None
        for number, expected, actual in broken:
            where = f"line {number}" if number else ""
            self._skipped += [number] if number else []
            self._problems.add(self.name, where, "", f"expected {expected} cells, got {actual}")
        return {name: table[name] for name in names}

    def _json_lines(self, path: Path) -> Fields:
        pyarrow = _pyarrow("reading JSON Lines")
        self._rows_are = "line"
        with pyarrow.input_stream(str(path), compression="detect") as stream:
            lines = stream.read().split(b"\n")
        while lines and not lines[-1].strip():
            lines.pop()
        rows: list[Fields] = []
        decode = msgspec.json.Decoder(Fields).decode
        for number, line in enumerate(lines, 1):
            try:
                rows.append(decode(line))
            except (msgspec.DecodeError, UnicodeDecodeError) as error:
                self._problems.add(self.name, f"line {number}", "", f"is no JSON object: {error}")
                rows.append({})
        names = dict.fromkeys(name for row in rows for name in row)
        return {name: [row.get(name) for row in rows] for name in names}

    def _parquet(self, path: Path) -> Fields:
        pyarrow = _pyarrow("reading Parquet")
        from pyarrow import parquet

        try:
            table = read_bounded(parquet.ParquetFile(path))
        except (pyarrow.ArrowInvalid, ValueError) as error:
            raise LogError([f"{self.name}: is no Parquet file that can be read: {error}"]) from None
        return {name: table[name] for name in table.column_names}

    # -- columns ----------------------------------------------------------------------------------------------

    def row(self, index: int) -> str:
        """Return the name of a row for a reader of the file."""
        number = index + self._first
        for skipped in self._skipped:
            number += skipped <= number
        return f"{self._rows_are} {number}"

    def wrong(self, index: int, column: str, problem: str) -> None:
        """Note that something is wrong with a row."""
        self._problems.add(self.name, self.row(index), column, problem)

    def _raw(self, path: str) -> Any:
        """A column, or what a dotted path reaches within one. None where there is no such."""
        if path in self._columns:
            return self._columns[path]
        head, *rest = path.split(".")
        while rest and head not in self._columns:
            head = f"{head}.{rest.pop(0)}"
        if head not in self._columns:
            self._problems.add(self.name, "", path, f"is not there; it has {', '.join(list(self._columns)[:24])}")
            return None
        return [_within(value, rest) for value in _listed(self._columns[head])]

    def values(self, said: Said) -> list[Any]:
        """Return each row's value, None for nothing; the logs' words are translated."""
        cell = said if isinstance(said, Cell) else Cell(column=said)
        if cell.column is None:
            return [cell.value] * self.rows
        raw = self._raw(cell.column)
        found = [None] * self.rows if raw is None else _listed(raw)
        found = [None if value == "" else value for value in found]
        if cell.words:
            found = [value if value is None else cell.words.get(_text(value), value) for value in found]
        return found if cell.value is None else [cell.value if value is None else value for value in found]

    def texts(self, said: Said) -> list[str | None]:
        """Texts; a whole number is one too."""
        return [None if value is None else _text(value) for value in self.values(said)]

    def numbers(self, said: Said) -> NDArray[np.float64]:
        """Numbers, NaN for nothing: (rows,) float64."""
        quick = self._quick(said)
        return self._each(said, float, "a number") if quick is None else quick

    def _quick(self, said: Said) -> NDArray[np.float64] | None:
        """A plain column as an array at once; None where it must be looked at row by row."""
        if not isinstance(said, str) or said not in self._columns or isinstance(self._columns[said], list):
            return None
        import pyarrow
        from pyarrow import compute, types

        column = self._columns[said]
        if types.is_string(column.type):
            column = compute.if_else(compute.equal(column, ""), None, column)
        elif not (types.is_integer(column.type) or types.is_floating(column.type)):
            return None
        try:
            return np.asarray(compute.cast(column, pyarrow.float64()).to_numpy(), np.float64)
        except pyarrow.ArrowInvalid:  # a text that is no number, or a whole number that no float64 holds
            return None

    def flags(self, said: Said) -> list[bool]:
        """Yes or no; nothing is no."""
        out = []
        for index, value in enumerate(self.values(said)):
            word = str(value).lower()
            if word not in YES | NO:
                self.wrong(index, name_of(said), f"expected true or false, got {_short(value)}")
            out.append(word in YES)
        return out

    def named(self, said: Said) -> list[str]:
        """Return each row's participant; a row without one is noted."""
        names = self.texts(said)
        for index, name in enumerate(names):
            if name is None:
                self.wrong(index, name_of(said), "expected a player, got nothing")
        return [name or "" for name in names]

    def known(self, said: Said, people: Container[str]) -> list[str]:
        """Return each row's participant; others are noted."""
        names = self.named(said)
        for index, name in enumerate(names):
            if name and name not in people:
                self.wrong(index, name_of(said), f"{name!r} is no player that the logs bring in")
        return names

    def times(self, said: Said, per_unit: float | None) -> NDArray[np.float64]:
        """Seconds. per_unit : how long the unit is; None: they are ISO 8601 texts, whose seconds count from 1970.

        Returns (rows,) float64.
        """
        quick = None if per_unit is None else self._quick(said)
        if quick is not None and per_unit is not None:
            return quick * per_unit
        return self._each(said, lambda value: seconds(value, per_unit), "a time")

    def _each(self, said: Said, convert: Callable[[Any], float], expected: str) -> NDArray[np.float64]:
        out = np.full(self.rows, np.nan)
        name = name_of(said)
        for index, value in enumerate(self.values(said)):
            if value is not None:
                try:
                    out[index] = convert(value)
                except (TypeError, ValueError, OverflowError):
                    self.wrong(index, name, f"expected {expected}, got {_short(value)}")
        return out

    def vectors(self, said: str | list[str], size: int) -> NDArray[np.float64]:
        """Several numbers a row: (rows, size) float64, NaN where one is missing."""
        if isinstance(said, list):
            return np.stack([self.numbers(name) for name in said], axis=1)
        out = np.full((self.rows, size), np.nan)
        for index, value in enumerate(self.values(said)):
            if value is None:
                continue
            try:
                row = np.asarray(value, np.float64)
                if row.shape != (size,):
                    raise ValueError(value)
                out[index] = row
            except (TypeError, ValueError):
                self.wrong(index, said, f"expected {size} numbers, got {_short(value)}")
        return out

    def require(self, found: NDArray[np.float64], said: object) -> None:
        """Note each row in which a number is missing or isn't finite.

        found : (rows,) or (rows, n) float64, in any unit.
        """
        name = name_of(said)
        good = np.isfinite(found) if found.ndim == 1 else np.isfinite(found).all(axis=1)
        for index in np.flatnonzero(~good).tolist():
            self.wrong(index, name, "expected a number, got nothing")

    def whole(self, said: Said) -> list[int | None]:
        """Whole numbers, None for nothing."""
        found, name = self.numbers(said), name_of(said)
        for index in np.flatnonzero(np.isfinite(found) & (found != np.round(found))).tolist():
            self.wrong(index, name, f"expected a whole number, got {found[index]:g}")
        return [int(value) if np.isfinite(value) else None for value in found.tolist()]


def name_of(said: object) -> str:
    """Names in messages for a mapping's entries about a column."""
    if isinstance(said, list):
        return ", ".join(said)
    return said if isinstance(said, str) else getattr(said, "column", None) or "(value)"


def _pyarrow(caller: str) -> Any:
    try:
        import pyarrow
    except ImportError:
        raise MissingExtraError(caller, "pyarrow", "logs") from None
    return pyarrow


def _listed(column: Any) -> list[Any]:
    return column if isinstance(column, list) else list(column.to_pylist())


def _within(value: object, path: Iterable[str]) -> Any:
    """Return the value at a path: keys of objects, places in lists."""
    for step in path:
        if isinstance(value, dict):
            value = value.get(step)
        elif isinstance(value, list) and step.isdigit() and int(step) < len(value):
            value = value[int(step)]
        else:
            return None
    return value


def _text(value: object) -> str:
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def _short(value: object) -> str:
    told = repr(value)
    return told if len(told) <= 40 else told[:37] + "..."


def seconds(value: Any, per_unit: float | None) -> float:
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
    if per_unit is not None:
        return float(value) * per_unit
    return seconds(datetime.fromisoformat(value), None)
