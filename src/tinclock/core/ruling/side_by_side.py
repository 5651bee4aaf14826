"""Rows for many claims side by side, as the kernel takes them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final

import numpy as np

from tinclock.core.kernels.call_rows import CALL, MAX_AT_ONCE
from tinclock.core.kernels.checking import check_claims
from tinclock.core.kernels.dtypes import CLAIM, FOUND_LENGTH
from tinclock.core.packed import address_of, memory_of
from tinclock.core.ruling.procedures import QUICK

if TYPE_CHECKING:
    from collections.abc import Iterator

    from tinclock.core.ruling.quick import Quick

ORDERS: Final = {kind: (order.at, order.count) for kind, order in QUICK.items()}
"""The order of checks of each kind of claim that may be plain: its address, and how many they are."""


class SideBySide:
    """Memory for so many claims as one kernel call takes: a row each for what it says, what is found, and its call.

    found : (claims, numbers) float64, what is found about them, in many units
    claim_rows, found_rows, call_rows : each row's memory; at : the address of the first call
    """

    def __init__(self) -> None:
        self._claims, self.found = np.zeros((MAX_AT_ONCE, len(CLAIM))), np.zeros((MAX_AT_ONCE, FOUND_LENGTH))
        self._claims[:, CLAIM.push] = np.nan
        self._calls = np.zeros((MAX_AT_ONCE, len(CALL)), np.int64)
        self._calls[:, CALL.plain] = 1
        for rows, place in ((self._claims, CALL.claim), (self.found, CALL.found)):
            self._calls[:, place] = address_of(rows) + rows.strides[0] * np.arange(MAX_AT_ONCE)
        self.claim_rows, self.found_rows, self.call_rows = (
            [memory_of(row) for row in rows] for rows in (self._claims, self.found, self._calls)
        )
        self.at = address_of(self._calls)

    def put(self, row: int, quick: Quick, kind: type, world: int) -> None:
        """Fill in a row's call, for a claim of a kind whose own row is filled in. world : address of its match's"""
        call = self.call_rows[row]
        call[CALL.world], call[CALL.who] = world, quick.who_at
        call[CALL.order], call[CALL.checks] = ORDERS[kind]

    def run(self, count: int) -> Iterator[tuple[int, int]]:
        """Rule on the first rows. Yields (begin, end) of rows that are done; row `end`, if any, is left to Python."""
        begin = 0
        while begin < count:
            end = check_claims(self.at, begin, count, 0)
            yield begin, end
            begin = end + 1

    def call_at(self, row: int) -> int:
        """The address of a claim's call."""
        return self.at + self._calls.strides[0] * row
