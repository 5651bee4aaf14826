"""Counting rulings."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from tinclock.core.plain import Fields
from tinclock.core.ruling.records import REPEATED, counted_as

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tinclock.core.ruling.records import Ruling


def tally(rulings: Sequence[Ruling]) -> Fields:
    """Counts over rulings: outcomes, and findings by code and account, in a fixed order."""
    outcomes = Counter(map(counted_as, rulings))
    found = Counter((f.code, f.account) for ruling in rulings for f in ruling.findings)
    return {
        "rulings": len(rulings),
        "outcomes": {name: outcomes.get(name, 0) for name in ("accepted", "adjusted", "rejected", REPEATED)},
        "findings": [{"code": code, "account": account, "count": n} for (code, account), n in sorted(found.items())],
    }
