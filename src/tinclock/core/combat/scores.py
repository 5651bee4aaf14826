"""Scores: the rows of the board, the teams' sums and the leader. Only the ledger changes them, one column at a time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from tinclock.core.combat.events import LeaderEvent, ScoreEvent

if TYPE_CHECKING:
    from tinclock.core.combat.bulletin import Bulletin

Column = Literal["score", "kills", "deaths", "assists", "streak"]


class ScoreLine:
    """One player's row."""

    __slots__ = ("assists", "deaths", "kills", "name", "score", "streak", "team", "totals")

    def __init__(self, name: str, team: str) -> None:
        self.name, self.team = name, team
        self.totals = (0, 0, 0.0, 0.0)
        """Of a player that left: shots, hits, and points of damage given and taken."""
        self.score, self.kills, self.deaths, self.assists, self.streak = 0.0, 0, 0, 0, 0


class Scores:
    """The board. A player's points and its team's change in the same call, so that neither is ever forgotten."""

    def __init__(self, bulletin: Bulletin, led_by: Literal["score", "kills"] = "score") -> None:
        self._bulletin, self.led_by = bulletin, led_by
        self.count = True
        """True if points count; False in a phase in which the board stays as it is."""
        self.rows: dict[int, ScoreLine] = {}
        self.teams: dict[str, float] = {}
        self.leader = 0
        """Entity with the most points (or kills) above 0, the first to have reached them; 0 for none."""

    def open(self, entity: int, name: str, team: str) -> None:
        """Start a row."""
        self.rows[entity] = ScoreLine(name, team)

    def reopen(self, entity: int, row: ScoreLine, server_time: float) -> None:
        """Put a row on the board again, and tell its columns; its team has its points already."""
        if entity not in self.rows:
            self.rows[entity] = row
            for column in ("score", "kills", "deaths", "assists", "streak"):
                value = getattr(row, column)
                if value:
                    before = type(value)()
                    self._bulletin.tell(
                        ScoreEvent(self._bulletin.next, server_time, entity, column, before, value, "rejoin")
                    )
        self._find_leader(server_time)

    def clear(self, server_time: float) -> None:
        """Set all rows and teams to zero."""
        for entity, row in self.rows.items():
            for column in ("score", "kills", "deaths", "assists", "streak"):
                before = getattr(row, column)
                if before:
                    zero = type(before)()
                    setattr(row, column, zero)
                    self._bulletin.tell(
                        ScoreEvent(self._bulletin.next, server_time, entity, column, before, zero, "round")
                    )
        for team, before in self.teams.items():
            if before:
                self.teams[team] = 0.0
                self._bulletin.tell(
                    ScoreEvent(self._bulletin.next, server_time, 0, "score", before, 0.0, "round", team)
                )
        self._find_leader(server_time)

    def add_to_team(self, team: str, amount: float, server_time: float, cause: str) -> None:
        """Give points to a team alone."""
        before = self.teams.get(team, 0.0)
        self.teams[team] = before + amount
        self._bulletin.tell(
            ScoreEvent(self._bulletin.next, server_time, 0, "score", before, before + amount, cause, team)
        )

    def close(self, entity: int, server_time: float) -> None:
        """Take a row off the board; its team keeps its points."""
        if self.rows.pop(entity, None) is not None:
            self._find_leader(server_time)

    def add(self, entity: int, column: Column, amount: float, server_time: float, cause: str) -> None:
        """Change one column of a row; one who has no row (it left, or the server plays it) gets nothing."""
        row = self.rows.get(entity)
        if row is None or amount == 0 or not self.count:
            return
        before = getattr(row, column)
        after = before + amount
        setattr(row, column, after)
        self._bulletin.tell(ScoreEvent(self._bulletin.next, server_time, entity, column, before, after, cause))
        if column == "score" and row.team:
            self.add_to_team(row.team, amount, server_time, cause)
        if column == self.led_by or column == "score":
            self._find_leader(server_time)

    def _find_leader(self, server_time: float) -> None:
        held = self.rows.get(self.leader)
        best = 0.0 if held is None else float(getattr(held, self.led_by))
        best, leader = (best, self.leader) if best > 0.0 else (0.0, 0)
        for entity, row in self.rows.items():
            points = float(getattr(row, self.led_by))
            if points > best:
                best, leader = points, entity
        if leader != self.leader:
            self.leader = leader
            self._bulletin.tell(LeaderEvent(self._bulletin.next, server_time, leader))
