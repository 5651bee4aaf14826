"""One connection over a whole recording: its round trips, what it said of its lag, and how old its views were."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import msgspec
import numpy as np

from tinclock.core.combat.roster import Roster
from tinclock.core.kernels.call_rows import MOMENT
from tinclock.core.kernels.dtypes import RULES
from tinclock.core.kernels.moments import SNAPSHOT_FIELDS
from tinclock.core.plain import Fields
from tinclock.core.rules.numbers import RuleNumbers
from tinclock.core.ruling.checks.lag import display_delays, hear
from tinclock.core.ruling.checks.view import ages, bound_views
from tinclock.core.ruling.claims import MoveClaim, StatusClaim
from tinclock.core.timeline.ring import Snapshot
from tinclock.core.timeline.views import Interpolation
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Iterator

    from tinclock.recordings.layout import Flush
    from tinclock.recordings.recording import Recording

HELD_S: Final = 4.0
"""Snapshots are remembered for so long."""


class Trip(NamedTuple):
    """An answered ping: server time, this round trip, jitter so far (seconds), and the share of pings lost lately."""

    at: float
    round_trip_s: float
    jitter_s: float
    loss: float


class Told(NamedTuple):
    """A message that said what its screen showed. Seconds.

    behind_s : how far the screen ran behind the server, by this message
    estimated_s, explained_s, reported_s : by the lag that shots are ruled at, by what the line explains, and by what
    the
        last second's messages told; nan before enough is known
    clock_lag_s : the told lag by the client's own clock
    """

    at: float
    behind_s: float
    estimated_s: float
    explained_s: float
    reported_s: float
    clock_lag_s: float


class Aged(NamedTuple):
    """A shot, blow or launch: how old its view was on arrival, and between which ages it had to lie. Seconds."""

    at: float
    age_s: float
    newest_s: float
    oldest_s: float


class Heard(NamedTuple):
    """All that a recording holds of one connection's line."""

    trips: list[Trip]
    told: list[Told]
    views: list[Aged]


def heard(recording: Recording, connection: str) -> Heard:
    """Follow one connection through a recording, by the same clock and the same lag tracker that a match has.

    Raises `RecordingError` for what can't be read.
    """
    listener = _Listener(recording, connection)
    for flush in recording.flushes:
        listener.take(flush)
    return Heard(listener.trips, listener.told, listener.views)


class _Listener:
    """Holds the connection's clock and lag, and nothing of the match but when its snapshots were sent."""

    def __init__(self, recording: Recording, connection: str) -> None:
        header = recording.require_header()
        self._recording, self._name, self._rules = recording, connection, header.rules
        self._numbers = RuleNumbers(header.rules)
        self._roster = Roster(header.rules, {}, header.seed)
        self.snapshots: dict[int, Snapshot] = {}
        self._rows_of_snapshots = np.zeros((0, SNAPSHOT_FIELDS))
        self.moments = np.zeros(len(MOMENT), np.int64)
        self._times: dict[int, float] = {}
        self._line: Any = None
        self.trips: list[Trip] = []
        self.told: list[Told] = []
        self.views: list[Aged] = []
        self._nonce_of: dict[int, float] = {}

    @property
    def snapshot_spacing_s(self) -> float:
        """Seconds between two snapshots."""
        return self._numbers.numbers[RULES.snapshot_every] / self._numbers.numbers[RULES.tick_rate_hz]

    def take(self, flush: Flush) -> None:
        for _, what, row in sorted(self._rows(flush), key=lambda one: one[0]):
            if what == "tick":
                self._tick(*row)
            elif what == "call":
                self._call(*row)
            elif self._line is not None:
                self._claim(*row)

    def _rows(self, flush: Flush) -> Iterator[tuple[int, str, tuple[Any, ...]]]:
        recording = self._recording
        ticks = recording.piece("ticks", flush)
        columns = (ticks[name].to_pylist() for name in ("call_number", "what", "tick", "server_time"))
        yield from ((step, "tick", rest) for step, *rest in zip(*columns, strict=True) if rest[0] != "advance")  # type: ignore[misc]
        for table in ("calls", "pings"):
            rows = recording.piece(table, flush)
            columns = (rows[name].to_pylist() for name in ("call_number", "call", "arguments", "answer"))
            for step, call, arguments, answer in zip(*columns, strict=True):
                if call in ("admit", "spectate") or f'"{self._name}"' in arguments:
                    yield step, "call", (call, msgspec.json.decode(arguments), answer)
        claims = recording.piece("claims", flush)
        columns = (claims[name].to_pylist() for name in ("call_number", "connection", "received_at", "received"))
        for step, connection, at, received in zip(*columns, strict=True):
            if connection == self._name:
                yield step, "claim", (at, received)

    def _tick(self, what: str, tick: int, server_time: float | None) -> None:
        if what == "record":
            self._times[tick] = server_time or 0.0
            return
        if tick not in self._times:
            return
        at = self._times[tick] if server_time is None else server_time  # sent at its own time, if nothing else is said
        self.snapshots[tick] = Snapshot(0, self._times[tick], at)
        for old in [t for t, held in self.snapshots.items() if held.time < at - HELD_S]:
            del self.snapshots[old]
        rows = [(tick, held.time, held.sent_at, held.slot) for tick, held in self.snapshots.items()]
        self._rows_of_snapshots = np.array(rows, np.float64)
        self.moments[MOMENT.snapshots] = self._rows_of_snapshots.ctypes.data
        self.moments[MOMENT.snapshot_count] = len(rows)
        if len(self._times) > 4096:
            self._times = {t: held for t, held in self._times.items() if held >= at - HELD_S}

    def _call(self, call: str, given: Fields, answer: str | None) -> None:
        if call in ("admit", "spectate") and answer is not None:
            interpolation = msgspec.convert(given.get("interpolation") or {}, Interpolation)
            at = float(given.get("server_time") or 0.0)
            line = self._roster.connect(given["connection"], given.get("account", ""), 0, interpolation, at)
            if given["connection"] == self._name:
                self._line = line
        elif self._line is None or given.get("connection") != self._name:
            return
        elif call == "ping":
            self._nonce_of[self._line.clock.ping(given["sent_at"])] = given["sent_at"]
        elif call == "pong":
            self._pong(given)
        elif call == "seen":
            self._hear(given.get("view"), given.get("client_time"), given["received_at"], 0)
        elif call == "set_interpolation":
            self._line.interpolation = msgspec.convert(given["interpolation"], Interpolation)

    def _pong(self, given: Fields) -> None:
        clock, at = self._line.clock, given["received_at"]
        if clock.pong(given["nonce"], given["client_time"], at) == "used":
            trip = at - self._nonce_of.get(given["nonce"], math.nan)
            self.trips.append(Trip(at, trip, clock.jitter_s, clock.loss))
            bound_views(self._line, self._numbers)

    def _hear(self, view: object, client_time: object, at: float, sequence: int) -> None:
        line: Any = self._line
        if not hear(self, line, view, client_time, at, sequence):
            return
        offset, last = line.clock.offset_s, line.lag.last
        if line.clock.samples and last is not None:
            up = line.clock.round_trip_s / 2.0
            told, explained, tracked = (age - up for age in display_delays(line, self._numbers, self, at))
            self.told.append(Told(at, last.lag_s - offset, tracked, explained, told, line.lag.lag_s))

    def _claim(self, at: float, received: bytes) -> None:
        claim: Any = decode_claim(received)
        if isinstance(claim, (MoveClaim, StatusClaim)):
            self._hear(claim.view, claim.client_time, at, claim.sequence)
            return
        view: Any = getattr(claim, "view", None)
        before = None if view is None else self.snapshots.get(view.from_tick)
        after = None if view is None else self.snapshots.get(view.to_tick)
        if before is not None and after is not None and self._line.clock.samples:
            age = at - (before.time + view.fraction * (after.time - before.time))
            bound_views(self._line, self._numbers)
            youngest, oldest = ages(self._line, self._numbers)
            self.views.append(Aged(at, age, youngest, min(oldest, self._rules.view.max_rewind_s)))
