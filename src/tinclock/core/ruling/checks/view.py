"""Bounds of a connection's views, for queries; the check itself is compiled: `kernels.checks.view`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tinclock.core.kernels.checks.view import ages_of_line, bound_line

if TYPE_CHECKING:
    from tinclock.core.combat.connections import Connection
    from tinclock.core.rules.numbers import RuleNumbers


def bound_views(connection: Connection, rules: RuleNumbers) -> None:
    """Work out the connection's `shortest_s`, `latest_s` and `back_s` as things stand."""
    bound_line(connection.at, rules.at)


def ages(connection: Connection, rules: RuleNumbers, spacing_s: float = 0.0) -> tuple[float, float]:
    """Return the youngest and the oldest age, in seconds, that the connection's views may have on arrival now.

    spacing_s : how far apart snapshots are; 0 for as far as the rules say
    """
    youngest, oldest = ages_of_line(connection.at, rules.at, spacing_s)
    return float(youngest), float(oldest)
