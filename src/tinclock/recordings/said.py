"""Return clients' messages as a recording can hold them."""

from __future__ import annotations

from tinclock.core.plain import plain_number
from tinclock.core.timeline.views import View
from tinclock.wire.codec import Received, decode_claim, encode_claim


def received_of(claim: object) -> Received:
    """A claim as bytes, and as what these decode to, which is what is ruled."""
    if isinstance(claim, Received):
        return claim
    data = claim if isinstance(claim, bytes) else encode_claim(claim)
    return Received(data, decode_claim(data))


def name_said(connection: object) -> str:
    """A connection's name as UTF-8 can say it. An admitted one always is; what isn't is nobody's."""
    if not isinstance(connection, str):
        return str(plain_said(connection))
    return connection.encode("utf-8", "backslashreplace").decode()


def plain_said(value: object) -> object:
    """Something of a client's as JSON can say it: numbers and texts as they are, else a text about it."""
    value = [value.from_tick, value.to_tick, value.fraction] if isinstance(value, View) else plain_number(value)
    if type(value) is int:
        return value if abs(value) < 2**63 else str(value)[:40]
    if type(value) is float:
        return value if abs(value) < 1e300 else repr(value)
    if type(value) is str:
        return value[:200].encode("ascii", "backslashreplace").decode()
    if isinstance(value, (tuple, list)) and len(value) == 3:
        return [plain_said(one) for one in value]
    return type(value).__name__
