"""Summary of a batch, added up over its tables."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tinclock.core.plain import Fields
from tinclock.recordings.pieces import require_pyarrow

if TYPE_CHECKING:
    from pathlib import Path

SHOWN = 10


def summary_of(job: str, folder: Path) -> Fields:
    """Sums over all recordings that are done, of this run and earlier ones."""
    pyarrow = require_pyarrow("batch")

    def rows(name: str) -> list[Fields]:
        found: list[Fields] = pyarrow.parquet.read_table(folder / f"{name}.parquet").to_pylist()
        return found

    return {"replay": _replay, "sweep": _sweep, "fairness": _fairness, "weigh": _weigh}[job](rows)


def _replay(rows: Any) -> Fields:
    table = rows("replay")
    names = ("rulings", "accepted", "adjusted", "rejected", "kills", "flipped", "damage", "seconds")
    sums = {name: sum(row[name] for row in table) for name in names}
    return {**sums, "as_recorded": sum(row["as_recorded"] for row in table), "recordings": len(table)}


def _sweep(rows: Any) -> Fields:
    names = ("accepted", "adjusted", "rejected", "damage", "kills", "flipped", "refused")
    table, values = rows("sweep"), dict[float, Fields]()
    for row in table:
        sums = values.setdefault(row["value"], dict.fromkeys(names, 0))
        for name in names:
            sums[name] += row[name]
    return {
        "setting": table[0]["setting"] if table else "", "recordings": len({row["recording"] for row in table}),
        "rows": [{"value": value, **sums} for value, sums in sorted(values.items())],
    }  # fmt: skip


def _fairness(rows: Any) -> Fields:
    out: Fields = {}
    names = ("hits", "counted", "accepted", "misses", "misses_hit")
    for row in rows("shooters"):
        if row["connection_quality"] == "all":
            sums = out.setdefault(f"{row['max_rewind_s']:g}", dict.fromkeys(names, 0))
            for name in names:
                sums[name] += row[name]
    named = ("claimed", "counted", "elsewhere", "missed", "rejected", "capped")
    table = [row for row in rows("claimed") if row["connection_quality"] == "all"]
    return {"claimed": {name: sum(row[name] for row in table) for name in named}, "by_max_rewind_s": out}


def _weigh(rows: Any) -> Fields:
    table = rows("accounts")
    worst = sorted(table, key=lambda row: (-row["peak"], row["account"]))[:SHOWN]
    return {
        "accounts": len({row["account"] for row in table}), "plays": len(table),
        "minutes": sum(row["minutes"] for row in table),
        "crossed_in_one_match": sum(row["threshold_at_s"] is not None for row in table),
        "worst": [{key: row[key] for key in ("account", "match", "peak", "strongest")} for row in worst],
    }  # fmt: skip


def told(job: str, result: Fields) -> list[str]:
    """The summary in lines."""
    if job == "replay":
        return [
            f"{result['rulings']:,} rulings of {result['seconds']:,.0f} s of play: {result['accepted']:,} accepted, "
            f"{result['adjusted']:,} adjusted, {result['rejected']:,} rejected; {result['kills']:,} kills",
            f"{result['flipped']:,} rulings flipped; {result['as_recorded']} of {result['recordings']} recordings came "
            "out as recorded, bit for bit",
        ]
    if job == "sweep":
        return _by_value(result)
    if job == "fairness":
        said = result["claimed"]
        return [
            f"of {said['claimed']:,} hits that clients claimed {said['counted']:,} counted, {said['elsewhere']:,} hit "
            f"another, {said['missed']:,} nobody, {said['rejected']:,} were rejected; {said['capped']:,} were past "
            "the rewind limit",
            *_by_truth(result),
        ]
    lines = [
        f"{result['accounts']:,} accounts, {result['plays']:,} plays, {result['minutes']:,.0f} minutes; "
        f"{result['crossed_in_one_match']:,} crossed the line within one match"
    ]
    for row in result["worst"]:
        if row["strongest"] is not None:
            lines.append(f"  {row['peak']:>7.1f} decibans  {row['account']} in {row['match']}: {row['strongest']}")
    return lines


def _by_value(result: Fields) -> list[str]:
    head = ("value", "accepted", "adjusted", "rejected", "damage", "kills", "flipped")
    cells = [[f"{row['value']:g}", *(f"{row[name]:,.0f}" for name in head[1:])] for row in result["rows"]]
    wide = [max(map(len, column)) for column in zip(head, *cells, strict=True)]
    title = f"{result['setting']} over {result['recordings']:,} recordings"
    return [title, *("  ".join(map(str.rjust, line, wide)) for line in [head, *cells])]


def _by_truth(result: Fields) -> list[str]:
    """Fairness where the truth about screens is known."""
    return [
        f"max_rewind_s {cap}: {sums['counted']:,} of {sums['hits']:,} honest hits on screen counted, "
        f"{sums['accepted']:,} accepted as they were; {sums['misses_hit']:,} of {sums['misses']:,} misses hit"
        for cap, sums in result["by_max_rewind_s"].items()
    ]
