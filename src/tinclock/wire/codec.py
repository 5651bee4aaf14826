"""Bytes from strangers become messages, or what stands for bytes that are none. Nothing here raises.

MessagePack, or JSON where the first byte is a brace (which no MessagePack map begins with). What is no message of ours
is handed on as plain data where it is small and shallow, so that the referee can say what was wrong with it.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import msgspec

from tinclock.core.ruling.claims import Claim, plain_numbers
from tinclock.core.text import excerpt
from tinclock.wire.messages import FromClient, GameMessage, Join, Pong, ViewReport

if TYPE_CHECKING:
    from collections.abc import Sequence

_CLAIM_JSON, _CLAIM_PACKED = msgspec.json.Decoder(Claim), msgspec.msgpack.Decoder(Claim)
_DECODE_PACKED = _CLAIM_PACKED.decode
_OURS_JSON, _OURS_PACKED = msgspec.json.Decoder(FromClient), msgspec.msgpack.Decoder(FromClient)
_ANY_JSON, _ANY_PACKED = msgspec.json.Decoder(), msgspec.msgpack.Decoder()
_PACK = msgspec.msgpack.Encoder(enc_hook=plain_numbers).encode
_FAULTS = (Exception,)  # whatever a decoder does with what a stranger sent; some raise SystemError


class Limits(NamedTuple):
    """Maximum size of a message."""

    bytes: int = 4096
    depth: int = 8
    items: int = 256
    text: int = 256


LIMITS = Limits()


class Unreadable(str):
    """Stands for bytes that are no message; the referee rejects it as malformed and quotes it."""

    __slots__ = ()


class Received(NamedTuple):
    """A claim as it came and as it was decoded: a recorder keeps the one and has the other ruled."""

    data: bytes
    claim: object


def decode_claim(received: bytes, limits: Limits = LIMITS) -> Claim | object:
    """Decode a client's message: a claim, or plain data that is none, or a stand-in for unreadable bytes.

    Never raises. The same bytes always give the same.
    """
    if len(received) > limits.bytes:
        return Unreadable(f"{len(received)} bytes, beginning {excerpt(received, 30)}")
    as_json = received[:1] == b"{"
    try:
        known: Claim = (_CLAIM_JSON if as_json else _CLAIM_PACKED).decode(received)
        return known
    except _FAULTS:
        return _plain(received, as_json, limits)


def decode_claims(received: Sequence[bytes], limits: Limits = LIMITS) -> list[Claim | object]:
    """`decode_claim` of each. All at once where all of them are claims in MessagePack, which is usual."""
    if max(map(len, received), default=0) <= limits.bytes:
        try:
            return list(map(_DECODE_PACKED, received))
        except _FAULTS:
            pass
    return [decode_claim(one, limits) for one in received]


def decode_message(received: bytes, limits: Limits = LIMITS) -> Join | Pong | ViewReport | GameMessage | Claim | object:
    """`decode_claim` for everything that a client sends."""
    if len(received) <= limits.bytes:
        as_json = received[:1] == b"{"
        try:
            known: Join | Pong | ViewReport | GameMessage | Claim = (_OURS_JSON if as_json else _OURS_PACKED).decode(
                received
            )
            return known
        except _FAULTS:
            pass
    return decode_claim(received, limits)


def _plain(received: bytes, as_json: bool, limits: Limits) -> object:
    try:
        plain: object = (_ANY_JSON if as_json else _ANY_PACKED).decode(received)
    except _FAULTS:
        return Unreadable(excerpt(received))
    return plain if _is_small(plain, limits) else Unreadable(f"too deep or too long, beginning {excerpt(received, 30)}")


def _is_small(value: object, limits: Limits) -> bool:
    """True if plain data keeps the limits; looked at level by level, so that no depth can hurt."""
    level, items = [value], 0
    for _ in range(limits.depth):
        below: list[object] = []
        for one in level:
            if isinstance(one, (str, bytes)):
                if len(one) > limits.text:
                    return False
            elif isinstance(one, dict):
                below += [*one.keys(), *one.values()]
            elif isinstance(one, (list, tuple)):
                below += one
        items += len(below)
        if items > limits.items:
            return False
        if not below:
            return True
        level = below
    return False


def encode_claim(claim: Claim | object) -> bytes:
    """A claim as MessagePack. What can't be encoded becomes a short text about it, which decodes to no claim."""
    try:
        return _PACK(claim)
    except Exception as error:  # a stranger's object: whatever encoding it does, the match goes on
        return _PACK(f"{type(error).__name__}: {excerpt(claim)}")
