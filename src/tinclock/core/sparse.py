"""Records whose encoded form leaves out what is as usual."""

from __future__ import annotations

from functools import cache
from typing import Any

import msgspec

_encode = msgspec.msgpack.Encoder().encode


class Sparse(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """A record that encodes as the same bytes after it was pickled.

    An encoder leaves out a field that *is* its default, not one that equals it. So a pickle holds what an encoder makes
    of the record: what is left out is the default itself again.
    """

    def __reduce__(self) -> tuple[Any, ...]:
        return again, (type(self), _encode(self))


def again(kind: type[Sparse], data: bytes) -> Sparse:
    """The record that a pickle holds as MessagePack."""
    read: Sparse = _decoder(kind).decode(data)
    return read


@cache
def _decoder(kind: type[Sparse]) -> msgspec.msgpack.Decoder[Any]:
    return msgspec.msgpack.Decoder(kind)
