"""Records whose encoded form leaves out what is as usual."""

from __future__ import annotations

from functools import cache
from typing import Any

from msgspec import Struct

from tinclock.core.plain import Fields


class Sparse(Struct, frozen=True, omit_defaults=True, gc=False):
    """A record that encodes as the same bytes after it was pickled.

    An encoder leaves out a field that *is* its default, not one that equals it; so a pickle leaves out the same ones.
    """

    def __reduce__(self) -> tuple[Any, ...]:
        said = {name: value for name, usual in _usual(type(self)) if (value := getattr(self, name)) is not usual}
        return again, (type(self), said)


def again(kind: type[Sparse], said: Fields) -> Sparse:
    """What a pickle makes of the fields that it holds."""
    return kind(**said)


@cache
def _usual(kind: type[Sparse]) -> tuple[tuple[str, Any], ...]:
    """Each field's name and default; one without a default is held against a thing that nothing is."""
    names, usual = kind.__struct_fields__, kind.__struct_defaults__
    return tuple(zip(names, (*[object()] * (len(names) - len(usual)), *usual), strict=True))
