"""What a game's server asks of `tinclock serve`, and what it gets back. MessagePack, or JSON in text frames.

Every request carries a number of the asker's own, `request`, which its reply repeats; replies come in order.
"""

from __future__ import annotations

from typing import Annotated, Any

import msgspec
from msgspec import Meta, Struct

from tinclock.core.combat.published import State
from tinclock.core.records import Event, Finding, Receipt

MatchName = Annotated[str, Meta(min_length=1, max_length=64, pattern="^[A-Za-z0-9][A-Za-z0-9_.-]*$")]
MOST_CLAIMS = 1024


class Open(Struct, frozen=True, tag="open", tag_field="do"):
    """Begin a match. rules, level : the text of the files; level None for open ground."""

    request: int
    match: MatchName
    rules: str
    level: str | None = None
    seed: int = 0


class Call(Struct, frozen=True, tag="call", tag_field="do"):
    """One of the referee's calls by its name: admit, place, remove, dismiss, hand_over, spawn, wield, put, ..."""

    request: int
    match: MatchName
    call: str
    arguments: dict[str, Any] = {}


class Tick(Struct, frozen=True, tag="tick", tag_field="do"):
    """Record a tick, let time pass, and say whether it was sent to clients.

    entities : ids, 64-bit integers, little-endian; bones : of all of them end to end, seven 32-bit floats each,
    little-endian; in JSON both are base64
    """

    request: int
    match: MatchName
    tick: int
    server_time: float
    entities: bytes
    bones: bytes
    published: bool = True


class Claims(Struct, frozen=True, tag="claims", tag_field="do"):
    """Rule on claims as they came: (connection, received_at, bytes)."""

    request: int
    match: MatchName
    claims: Annotated[tuple[tuple[str, float, bytes], ...], Meta(max_length=MOST_CLAIMS)]


class Events(Struct, frozen=True, tag="events", tag_field="do"):
    """What changed after an event number."""

    request: int
    match: MatchName
    since: int


class GetState(Struct, frozen=True, tag="state", tag_field="do"):
    """The published state."""

    request: int
    match: MatchName


class Close(Struct, frozen=True, tag="close", tag_field="do"):
    """End a match."""

    request: int
    match: MatchName


class Numbered(Struct, frozen=True):
    """What can be said of a request that can't be read otherwise."""

    request: int = 0


Request = Open | Call | Tick | Claims | Events | GetState | Close


class Ruled(Struct, frozen=True):
    """What became of one claim: for its client the receipt, for the server's log the findings."""

    number: int
    connection: str
    outcome: str
    receipt: Receipt
    findings: tuple[Finding, ...] = ()


class Reply(Struct, frozen=True, omit_defaults=True):
    """What comes back; only what the request asks for is filled in.

    ok : whether it was done; error : why not; failed : whether the match is lost by a fault of ours
    """

    request: int
    ok: bool = True
    error: str = ""
    failed: bool = False
    answer: Any = None
    ruled: tuple[Ruled, ...] = ()
    events: tuple[Event, ...] = ()
    state: State | None = None


FROM_JSON, FROM_PACKED = msgspec.json.Decoder(Request), msgspec.msgpack.Decoder(Request)
NUMBER_JSON, NUMBER_PACKED = msgspec.json.Decoder(Numbered), msgspec.msgpack.Decoder(Numbered)
TO_JSON, TO_PACKED = msgspec.json.Encoder().encode, msgspec.msgpack.Encoder().encode
