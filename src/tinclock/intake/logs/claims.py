"""Claims out of logged tables: each row one claim, with players as the logs name them."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from tinclock.core.timeline.views import View
from tinclock.intake.logs.columns import name_of
from tinclock.intake.logs.mapping import claim_fields
from tinclock.intake.logs.records import LoggedClaim

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.intake.logs.columns import LogFile
    from tinclock.intake.logs.mapping import ClaimsTable
    from tinclock.intake.logs.records import LoggedPing, LoggedPoses, Players
    from tinclock.intake.logs.sources import Sources

TEXTS = ("weapon", "part", "action", "item")
NUMBERS = ("damage", "charge", "health", "armour")
WHOLE = ("shot", "ammunition")
VECTORS = ("origin", "direction", "position", "push")
PLAYERS = ("victim", "target")


def read_claims(
    sources: Sources, people: Players, pings: Sequence[LoggedPing], poses: LoggedPoses
) -> list[LoggedClaim]:
    """All claims by arrival; those that arrived together in the order of tables and rows."""
    out: list[LoggedClaim] = []
    trips: dict[str, tuple[list[float], list[float]]] = {}
    for ping in pings:
        at, trip = trips.setdefault(ping.player, ([], []))
        at.append(ping.received_at)
        trip.append(ping.received_at - ping.sent_at)
    for table in sources.mapping.claims:
        out += _Rows(sources, table, people, trips, poses).claims()
    return sorted(out, key=lambda claim: claim.received_at)


class _Rows:
    """One table of claims."""

    def __init__(
        self, sources: Sources, table: ClaimsTable, people: Players,
        trips: Mapping[str, tuple[list[float], list[float]]], poses: LoggedPoses,
    ) -> None:  # fmt: skip
        self.sources, self.table, self.people, self.trips, self.poses = sources, table, people, trips, poses
        self.file: LogFile = sources.file(table.file)

    def claims(self) -> list[LoggedClaim]:
        file, table = self.file, self.table
        received = self.sources.server_times(file, table.time)
        players = file.known(table.player, self.people)
        columns = self._columns()
        views = self._views(players, received) if "view" in claim_fields(table.kind) else {}
        projectiles = [None] * file.rows if table.projectile is None else file.texts(table.projectile)
        return [
            LoggedClaim(
                players[index], float(received[index]), table.kind,
                {key: value for key, column in columns.items() if (value := column[index]) is not None}
                | {key: value for key, column in views.items() if (value := column[index]) is not None},
                projectiles[index], f"{file.name}, {file.row(index)}",
            )
            for index in range(file.rows)
        ]  # fmt: skip

    def _columns(self) -> dict[str, Sequence[Any]]:
        file, table, frame = self.file, self.table, self.sources.frame
        out: dict[str, Sequence[Any]] = {}
        for key in (*TEXTS, *NUMBERS, *WHOLE, *PLAYERS, "sequence", "held", "flight_time_s"):
            said = getattr(table, key)
            if said is None:
                continue
            if key in (*TEXTS, *PLAYERS):
                out[key] = file.texts(said)
            elif key == "held":
                out[key] = file.flags(said)
            elif key == "flight_time_s":
                out[key] = _plain(file.times(said, frame.seconds or 1.0))
            else:
                out[key] = file.whole(said) if key in (*WHOLE, "sequence") else _plain(file.numbers(said))
        for key in VECTORS:
            said = getattr(table, key)
            if said is not None:
                found = file.vectors(said, 3)
                ours = frame.places(found) if key in ("origin", "position") else frame.directions(found)
                out[key] = _triples(ours)
        if table.yaw is not None:
            pitch = None if table.pitch is None else file.numbers(table.pitch)
            aims = frame.aims(file.numbers(table.yaw), pitch)
            out["direction"] = _triples(aims)
        self._require(out)
        return out

    def _require(self, out: dict[str, Sequence[Any]]) -> None:
        """A row that lacks what every claim of its kind has is told here: the referee would only call it malformed."""
        for key, required in claim_fields(self.table.kind).items():
            if required and key in out:
                for index, value in enumerate(out[key]):
                    if value is None:
                        said = getattr(self.table, key) or self.table.yaw
                        self.file.wrong(index, name_of(said), f"a {self.table.kind} needs it, got nothing")  # fmt: skip

    def _views(self, players: list[str], received: NDArray[np.float64]) -> dict[str, Sequence[Any]]:
        file, table, frame = self.file, self.table, self.sources.frame
        if table.from_tick is not None and table.to_tick is not None and table.fraction is not None:
            fractions = file.numbers(table.fraction).tolist()
            rows = zip(file.whole(table.from_tick), file.whole(table.to_tick), fractions, strict=True)
            views = [None if None in row or row[2] != row[2] else View(*row) for row in rows]  # type: ignore[arg-type]
            return {"view": views, **self._commands()}
        if table.view_time is not None:
            shown = file.times(table.view_time, frame.seconds) - self.sources.zero
            return {"view": self._at(shown), **self._commands()}
        if table.client_time is not None:
            return self._commands()
        half = [self._half_trip(name, at) for name, at in zip(players, received.tolist(), strict=True)]
        return {"client_time": (received - np.array(half)).tolist()}

    def _commands(self) -> dict[str, Sequence[Any]]:
        table, pings = self.table, self.sources.mapping.pings
        if table.client_time is None:
            return {}
        found = self.file.times(table.client_time, self.sources.frame.seconds)
        theirs = pings is not None and pings.client_time is not None
        return {"client_time": _plain(found if theirs else found - self.sources.zero)}

    def _at(self, shown: NDArray[np.float64]) -> list[View | None]:
        """Views between the two sent ticks on either side of a time."""
        ticks, at = self.poses.ticks[self.poses.published], self.poses.times[self.poses.published]
        later = np.searchsorted(at, shown, "right").clip(1, max(len(at) - 1, 1))
        out: list[View | None] = []
        sent, times = ticks.tolist(), at.tolist()
        for high, when in zip(later.tolist(), shown.tolist(), strict=True):
            if len(times) < 2 or not math.isfinite(when):
                out.append(None)
                continue
            share = (when - times[high - 1]) / (times[high] - times[high - 1])
            out.append(View(sent[high - 1], sent[high], min(max(share, 0.0), 1.0)))
        return out

    def _half_trip(self, player: str, at: float) -> float:
        """Half the round trip that was last known; of the first one before it was known."""
        received, trips = self.trips.get(player, ([], []))
        if not trips:
            return 0.0
        return trips[max(int(np.searchsorted(received, at, "right")) - 1, 0)] / 2.0


def _plain(found: NDArray[np.float64]) -> list[float | None]:
    return [value if value == value else None for value in found.tolist()]


def _triples(found: NDArray[np.float64]) -> list[tuple[float, ...] | None]:
    return [tuple(row) if all(map(math.isfinite, row)) else None for row in found.tolist()]
