"""Scores: the rows of the board, the teams' sums and the leader. Only the ledger changes them, one column at a time."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

from tinclock.core.combat.events import LeaderEvent, ScoreEvent

if TYPE_CHECKING:
    from tinclock.core.combat.bulletin import Bulletin

Column = Literal["score", "kills", "deaths", "assists", "streak"]


class ScoreLine:
    """One player's row."""

    __slots__ = ("assists", "deaths", "kills", "name", "score", "streak", "team")

    def __init__(self, name: str, team: str) -> None:
        self.name, self.team = name, team
        self.score, self.kills, self.deaths, self.assists, self.streak = 0.0, 0, 0, 0, 0


class Scores:
    """The board. A player's points and its team's change in the same call, so that neither is ever forgotten."""

    def __init__(self, bulletin: Bulletin) -> None:
        self._bulletin = bulletin
        self.rows: dict[int, ScoreLine] = {}
        self.teams: dict[str, float] = {}
        self.leader = 0
        """Entity with most points above 0, the first to have reached them; 0 for none."""

    def open(self, entity: int, name: str, team: str) -> None:
        """Start a row."""
        self.rows[entity] = ScoreLine(name, team)

    def close(self, entity: int, server_time: float) -> None:
        """Take a row off the board; its team keeps its points."""
        if self.rows.pop(entity, None) is not None:
            self._find_leader(server_time)

    def add(self, entity: int, column: Column, amount: float, server_time: float, cause: str) -> None:
        """Change one column of a row; one who has no row (it left, or the server plays it) gets nothing."""
        row = self.rows.get(entity)
        if row is None or amount == 0:
            return
        before = getattr(row, column)
        after = before + amount
        setattr(row, column, after)
        self._bulletin.tell(ScoreEvent(self._bulletin.next, server_time, entity, column, before, after, cause))
        if column == "score":
            if row.team:
                total = self.teams.get(row.team, 0.0)
                self.teams[row.team] = total + amount
                after = total + amount
                self._bulletin.tell(
                    ScoreEvent(self._bulletin.next, server_time, 0, "score", total, after, cause, row.team)
                )
            self._find_leader(server_time)

    def _find_leader(self, server_time: float) -> None:
        held = self.rows.get(self.leader)
        best, leader = (held.score, self.leader) if held is not None and held.score > 0.0 else (0.0, 0)
        for entity, row in self.rows.items():
            if row.score > best:
                best, leader = row.score, entity
        if leader != self.leader:
            self.leader = leader
            self._bulletin.tell(LeaderEvent(self._bulletin.next, server_time, leader))
