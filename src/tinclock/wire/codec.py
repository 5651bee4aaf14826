"""Claims as bytes: MessagePack, or JSON where the first byte is a brace (which no MessagePack map begins with)."""

from __future__ import annotations

import msgspec

from tinclock.core.checks.context import excerpt
from tinclock.core.claims import Claim

_TYPED_JSON, _TYPED_PACKED = msgspec.json.Decoder(Claim), msgspec.msgpack.Decoder(Claim)
_ANY_JSON, _ANY_PACKED = msgspec.json.Decoder(), msgspec.msgpack.Decoder()
_PACK = msgspec.msgpack.Encoder().encode


class Unreadable(str):
    """Stands for bytes that are no message; the referee denies it as malformed and quotes it."""

    __slots__ = ()


def decode_claim(received: bytes) -> Claim | object:
    """What a client sent, decoded: a claim, or plain data that is none, or what stands for bytes that say nothing.

    Never raises. The same bytes always give the same.
    """
    as_json = received[:1] == b"{"
    try:
        known: Claim = (_TYPED_JSON if as_json else _TYPED_PACKED).decode(received)
        return known
    except (msgspec.DecodeError, RecursionError, ValueError, OverflowError):
        pass
    try:
        plain: object = (_ANY_JSON if as_json else _ANY_PACKED).decode(received)
        return plain
    except (msgspec.DecodeError, RecursionError, ValueError, OverflowError):
        return Unreadable(excerpt(received))


def encode_claim(claim: Claim | object) -> bytes:
    """A claim as MessagePack. What can't be encoded becomes a short text about it, which decodes to no claim."""
    try:
        return _PACK(claim)
    except Exception as error:  # a stranger's object: whatever encoding it does, the match goes on
        return _PACK(f"{type(error).__name__}: {excerpt(claim)}")
