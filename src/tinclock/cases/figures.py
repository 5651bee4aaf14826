"""Numbers about cases: two accounts compared, decisions against evidence, exports."""

from __future__ import annotations

import csv
import io
from collections import Counter
from typing import TYPE_CHECKING, Any

import msgspec

from tinclock.cases.records import NOTED, STATES
from tinclock.core.errors import MissingExtraError
from tinclock.core.plain import Fields
from tinclock.core.text import printable

if TYPE_CHECKING:
    from tinclock.cases.records import AccountReport
    from tinclock.cases.review import CaseReview

EDGES = (0.0, 30.0, 40.0, 60.0, 100.0, 200.0, 1e9)


def compared(first: AccountReport, second: AccountReport) -> list[Fields]:
    """Rows of (name, of, values of both): facts, decibans by kind, shares of detectors in percent."""
    rows: list[Fields] = [
        {"name": name, "of": "fact", "values": [float(getattr(d.account, field)) for d in (first, second)]}
        for name, field in (("decibans now", "decibans"), ("decibans at most", "peak"), ("matches", "matches"),
                            ("minutes", "minutes"))
    ]  # fmt: skip
    kinds, shares = [_kinds(d) for d in (first, second)], [_shares(d) for d in (first, second)]
    for name in sorted({*kinds[0], *kinds[1]}, key=lambda n: -max(kinds[0].get(n, 0.0), kinds[1].get(n, 0.0))):
        values = [each.get(name) for each in kinds]
        if max(value or 0.0 for value in values) >= 1.0:
            rows.append({"name": name, "of": "decibans", "values": values})
    for name in sorted({*shares[0], *shares[1]}):
        rows.append({"name": name, "of": "share", "values": [each.get(name) for each in shares]})
    return rows


def _kinds(dossier: AccountReport) -> dict[str, float]:
    out: Counter[str] = Counter()
    for play in dossier.plays:
        out.update(play.course.kinds)
    return dict(out)


def _shares(dossier: AccountReport) -> dict[str, float]:
    from tinclock.core.evidence.detectors import DETECTORS

    total: dict[str, tuple[float, float]] = {}
    for play in dossier.plays:
        for name, (k, n) in play.course.aim.items():
            a, b = total.get(name, (0.0, 0.0))
            total[name] = (a + k, b + n)
    return {
        name: 100.0 * k / n
        for name, (k, n) in total.items()
        if n and name in DETECTORS and DETECTORS[name].family == "share"
    }


def summed_up(review: CaseReview) -> Fields:
    """Reviewers' last decisions against the evidence that there was: by strongest kind, and by decibans.

    What is confirmed and cleared by kind is what recalibrating learns from; see `labels_of`.
    """
    last = {decision.account: decision for decision in review.decisions() if decision.verdict != NOTED}
    kinds: dict[str, Counter[str]] = {}
    bands: dict[int, Counter[str]] = {}
    for decision in last.values():
        if decision.verdict == "reopened":
            continue
        strongest = next(iter(decision.kinds), "")
        kinds.setdefault(strongest, Counter())[decision.verdict] += 1
        band = max(k for k, edge in enumerate(EDGES) if decision.decibans >= edge or k == 0)
        bands.setdefault(band, Counter())[decision.verdict] += 1
    return {
        "decided": sum(row.total() for row in kinds.values()),
        "kinds": [
            {
                "kind": kind, **{v: row[v] for v in ("confirmed", "cleared", "waiting")},
                "share": row["confirmed"] / n if (n := row["confirmed"] + row["cleared"]) else None,
            }
            for kind, row in sorted(kinds.items(), key=lambda item: -item[1].total())
        ],
        "decibans": [
            {"from": EDGES[k], "to": EDGES[k + 1], **{v: row[v] for v in ("confirmed", "cleared", "waiting")}}
            for k, row in sorted(bands.items())
        ],
    }  # fmt: skip


def labels_of(review: CaseReview) -> dict[str, bool]:
    """Accounts that reviewers have decided about: whether they were confirmed. For `tinclock calibrate --store`."""
    out = {}
    for decision in review.decisions():
        if decision.verdict in ("confirmed", "cleared"):
            out[decision.account] = decision.verdict == "confirmed"
        elif decision.verdict != NOTED:
            out.pop(decision.account, None)
    return out


def exported(review: CaseReview, what: str, form: str, account: str | None = None) -> bytes:
    """Cases, decisions or an account's findings as the bytes of a JSON, CSV or Parquet file."""
    if what == "cases":
        records: list[Any] = list(review.queue(STATES, 10**9))
    elif what == "decisions":
        records = list(review.decisions())
    else:
        records = list(review.findings(account or "", most=10**9))
    rows = [msgspec.to_builtins(record) for record in records]
    if form == "json":
        return msgspec.json.format(msgspec.json.encode(rows), indent=2) + b"\n"
    for row in rows:
        if "kinds" in row:
            row["kinds"] = msgspec.json.encode(row["kinds"]).decode()
    if form == "csv":
        out = io.StringIO()
        if rows:
            writer = csv.DictWriter(out, list(rows[0]))
            writer.writeheader()
            writer.writerows({key: _harmless(value) for key, value in row.items()} for row in rows)
        return out.getvalue().encode()
    return _parquet(rows)


def _harmless(value: object) -> Any:
    """A text that a spreadsheet would take for a formula gets a quote before it, and control characters are written
    out: names come from players.
    """
    if not isinstance(value, str):
        return value
    text = printable(value)
    return f"'{text}" if value.strip()[:1] in ("=", "+", "-", "@") else text


def _parquet(rows: list[Fields]) -> bytes:
    try:
        import pyarrow as pa
        import pyarrow.parquet as parquet
    except ImportError:
        raise MissingExtraError("exported", "pyarrow", "recordings") from None
    sink = pa.BufferOutputStream()
    parquet.write_table(pa.Table.from_pylist(rows), sink, compression="zstd")
    return bytes(sink.getvalue())
