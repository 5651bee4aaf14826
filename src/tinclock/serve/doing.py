"""Helpers of requests: calls made beside the loop, rulings of many claims, and the number of a broken frame."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, Final, Literal

from tinclock.core.timeline.instants import are_seconds, seconds
from tinclock.recordings.recorder import Recorder
from tinclock.serve.requests import NUMBER_JSON, NUMBER_PACKED
from tinclock.wire.codec import Received, decode_claims

if TYPE_CHECKING:
    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling

BUSY: Final = "busy"
"""Value that a request yields while another one of its match has to be finished first."""
Todo = Callable[[], Any] | Literal["busy"] | None
"""Values that a request yields: a call to be made beside the loop, `BUSY`, or None where others may have their turn."""


def require_times(name: str, claims: Sequence[tuple[str, float, bytes]]) -> None:
    """Raise `BadNumberError` for the first claim or message whose time of arrival can't be one. name : of them all"""
    if not are_seconds([received_at for _, received_at, _ in claims]):
        for place, (_, received_at, _) in enumerate(claims):
            seconds(f"{name}[{place}]: received_at", received_at)


def rulings_of(server: Referee | Recorder, claims: Sequence[tuple[str, float, bytes]]) -> list[Ruling]:
    """A recorder is given what came as well, to keep it."""
    decoded: Iterable[object] = decode_claims([data for _, _, data in claims])
    if isinstance(server, Recorder):
        decoded = map(Received, [data for _, _, data in claims], decoded)
    return server.rule_many([(name, claim, at) for (name, at, _), claim in zip(claims, decoded, strict=True)])


def outcome_of(todo: Callable[[], Any]) -> tuple[Any, Exception | None]:
    """Result of a call, or its exception."""
    try:
        return todo(), None
    except Exception as error:
        return None, error


def unwrapped(outcome: tuple[Any, Exception | None]) -> Any:
    """Return its result; raises its exception."""
    found, error = outcome
    if error is not None:
        raise error
    return found


def number_of(frame: bytes | str) -> int:
    """The number of a request that is otherwise unreadable, 0 where even that is."""
    try:
        return (NUMBER_JSON.decode(frame) if isinstance(frame, str) else NUMBER_PACKED.decode(frame)).request
    except Exception:
        return 0
