"""Every exception that Tin Clock raises at programmers. Clients never cause one: they get rulings.

::

    TinClockError
    ├── RulesError          (ValueError)   a rules table or level file can't be used
    ├── BadArrayError       (ValueError)   an array has the wrong shape, kind or values
    ├── BadNumberError      (ValueError)   a single number is out of its range
    ├── BadNameError        (ValueError)   a name is too long, or holds what no store holds
    ├── MeshError           (ValueError)   a mesh can't be a level
    ├── TimeOrderError      (ValueError)   a tick or a server time runs backwards
    ├── OutOfHistoryError   (LookupError)  an instant that the history no longer (or not yet) holds
    ├── UnknownNameError    (LookupError)  an entity, rig, connection or weapon nobody declared
    ├── AlreadyKnownError   (ValueError)   something was declared twice
    ├── ReadOnlyError       (TypeError)    something that may only be read was asked to change
    ├── RecordingError      (ValueError)   a recording that can't be read, written or ruled again
    ├── CheckpointError     (ValueError)   bytes that are no state of a match
    ├── LogError            (ValueError)   another server's logs that can't be read as the mapping says
    ├── BatchError          (ValueError)   a sweep's folder or cluster that can't be used
    ├── EvidenceError       (ValueError)   an evidence log, calibration file or case store that can't be used
    │   ├── DecisionConflictError                  a decision on a case that somebody wrote to meanwhile
    │   └── AlreadyImportedError                a match that the store has already, at least as far
    └── MissingExtraError   (ImportError)  an optional package is not installed
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NoReturn


class TinClockError(Exception):
    """Root of all exceptions of this package."""

    def __reduce__(self) -> tuple[object, ...]:
        """Pickle by message and attributes, whatever the constructor of the leaf looks like."""
        return (_rebuild, (type(self), self.args, self.__dict__))


def _rebuild(kind: type[TinClockError], args: tuple[object, ...], data: dict[str, object]) -> TinClockError:
    error = kind.__new__(kind)
    error.args = args
    error.__dict__.update(data)
    return error


class RulesError(TinClockError, ValueError):
    """A rules or level file with mistakes; `problems` lists them all, each with its key path."""

    def __init__(self, source: str, problems: Iterable[str]) -> None:
        self.source = source
        self.problems = tuple(problems)
        count = len(self.problems)
        head = f"{source}: {count} mistake{'' if count == 1 else 's'}"
        super().__init__("\n".join([head, *(f"  {problem}" for problem in self.problems)]))


class BadArrayError(TinClockError, ValueError):
    """An array argument that can't be used: says which, what was expected and what came."""

    def __init__(self, name: str, expected: str, given: str, row: int | None = None) -> None:
        self.name, self.expected, self.given, self.row = name, expected, given, row
        where = "" if row is None else f" (first bad row: {row})"
        super().__init__(f"{name}: expected {expected}, got {given}{where}")


class BadNumberError(TinClockError, ValueError):
    """A number argument outside its range."""

    def __init__(self, name: str, expected: str, given: object) -> None:
        self.name, self.expected, self.given = name, expected, given
        super().__init__(f"{name}: expected {expected}, got {given!r}")


class BadNameError(TinClockError, ValueError):
    """A name that can't be kept: too long, or with characters that no store holds."""

    def __init__(self, name: str, expected: str, given: object) -> None:
        self.name, self.expected, self.given = name, expected, given
        shown = ascii(given)
        super().__init__(f"{name}: expected {expected}, got {shown if len(shown) <= 80 else shown[:77] + '...'}")


class MeshError(TinClockError, ValueError):
    """A mesh that can't be a level."""


class TimeOrderError(TinClockError, ValueError):
    """A tick or server time that is not later than the one before it."""

    def __init__(self, name: str, given: float, previous: float) -> None:
        self.name, self.given, self.previous = name, given, previous
        super().__init__(f"{name} must rise: {given!r} was given after {previous!r}; hand times over in order")


class OutOfHistoryError(TinClockError, LookupError):
    """An instant outside what the history holds."""

    def __init__(self, what: str, given: int | float, oldest: int | float, newest: int | float) -> None:
        self.given, self.oldest, self.newest = given, oldest, newest
        super().__init__(
            f"{what} {given} is outside the history ({oldest}..{newest}); "
            f"record more with history_s, or lower max_rewind_s"
        )


class UnknownNameError(TinClockError, LookupError):
    """A name or id that nobody declared; lists those that exist."""

    def __init__(self, what: str, given: object, known: Iterable[object]) -> None:
        self.what, self.given = what, given
        self.known = tuple(known)
        listed = ", ".join(repr(name) for name in self.known[:12]) or "none"
        more = "" if len(self.known) <= 12 else f" and {len(self.known) - 12} more"
        super().__init__(f"unknown {what} {given!r}; known: {listed}{more}")


class AlreadyKnownError(TinClockError, ValueError):
    """Something that may be declared once was declared again."""

    def __init__(self, what: str, given: object) -> None:
        self.what, self.given = what, given
        super().__init__(f"{what} {given!r} is already there; each may be declared once")


class ReadOnlyError(TinClockError, TypeError):
    """A view that may only be read was asked to change what it shows; `instead` is the command that changes it."""

    def __init__(self, asked: str, instead: str) -> None:
        self.asked, self.instead = asked, instead
        super().__init__(f"{asked} would change a match past its recorder; call {instead} instead")


def only_by(asked: str, instead: str) -> Any:
    """A method of a view that may only be read: raises `ReadOnlyError`, which names the command to call instead."""

    def refuse(*_: object, **__: object) -> NoReturn:
        raise ReadOnlyError(asked, f"{instead} of the referee or recorder")

    refuse.__doc__ = "Raises `ReadOnlyError`."
    return refuse


class RecordingError(TinClockError, ValueError):
    """A recording that can't be used: `path` is the file at fault, or the folder."""

    def __init__(self, path: object, problem: str) -> None:
        self.path, self.problem = str(path), problem
        super().__init__(f"{path}: {problem}")


class CheckpointError(TinClockError, ValueError):
    """Bytes that hold no state of a match, or that of another release."""

    def __init__(self, expected: str, given: str) -> None:
        self.expected, self.given = expected, given
        super().__init__(f"checkpoint: expected {expected}, got {given}; rule the recording again instead")


class LogError(TinClockError, ValueError):
    """Tables of another server that can't be read as the mapping says; `problems` has file, row and column of each."""

    def __init__(self, problems: Iterable[str]) -> None:
        self.problems = tuple(problems)
        super().__init__("\n".join(self.problems))


class BatchError(TinClockError, ValueError):
    """A sweep that can't begin or go on: `add_entity` is its folder, or the address of the cluster."""

    def __init__(self, place: object, problem: str) -> None:
        self.place, self.problem = str(place), problem
        super().__init__(f"{place}: {problem}")


class EvidenceError(TinClockError, ValueError):
    """An evidence log, calibration file or case store that can't be used: `path` is the file or address at fault."""

    def __init__(self, path: object, problem: str) -> None:
        self.path, self.problem = str(path), problem
        super().__init__(f"{path}: {problem}")


class AlreadyImportedError(EvidenceError):
    """A match whose evidence is in the case store already; it counts once."""


class DecisionConflictError(EvidenceError):
    """Something was written to a case after the reviewer looked at it: look again, then decide."""


class MissingExtraError(TinClockError, ImportError):
    """An optional package that this call needs is not installed."""

    def __init__(self, caller: str, package: str, extra: str) -> None:
        self.caller, self.package, self.extra = caller, package, extra
        super().__init__(f"{caller} needs {package}: pip install 'tinclock[{extra}]'")
