"""Summary of a played match: counts, findings, and the results of honest shots."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.table import Table

from tinclock.core.analysis.tally import tally
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console

    from tinclock.garden.played import Played


def summarise(played: Played, files: dict[str, str]) -> Fields:
    """Plain data, in a fixed order."""
    honest = {seat.account for seat in played.seats if seat.cheat == "honest"}
    on_screen = accepted = same = missed_elsewhere = 0
    lost: Counter[str] = Counter()
    for ruling in played.rulings:
        shot = played.shot_of(ruling)
        if ruling.account not in honest or shot is None:
            continue
        hit = ruling.hits[0] if ruling.hits else None
        if not shot.seen.victim:
            missed_elsewhere += hit is not None
            continue
        on_screen += 1
        if ruling.outcome == "accepted":
            accepted += 1
            same += hit is not None and (hit.victim, hit.part) == (shot.seen.victim, shot.seen.part)
        else:
            lost[ruling.findings[0].code] += 1
    return {
        "seed": played.seed,
        "seconds": played.seconds,
        **tally(played.rulings),
        "honest_shots_that_hit_on_screen": {
            "count": on_screen,
            "accepted": accepted,
            "accepted_in_the_same_part": same,
            "not_accepted": dict(sorted(lost.items())),
        },
        "honest_shots_that_missed_on_screen_and_hit": missed_elsewhere,
        "cheat": {seat.account: seat.cheat for seat in played.seats},
        "files": files,
    }


def print_summary(console: Console, summary: Fields) -> None:
    """The same, to be read."""
    counts, honest = summary["outcomes"], summary["honest_shots_that_hit_on_screen"]
    console.print(
        f"[bold]{summary['rulings']} rulings[/]: [green]{counts['accepted']} accepted[/], "
        f"[yellow]{counts['adjusted']} adjusted[/], [magenta]{counts['rejected']} rejected[/], "
        f"{counts['repeated']} repeated",
        highlight=False,
    )
    if summary["findings"]:
        table = Table(box=None, pad_edge=False, header_style="bold")
        for name in ("findings", "account", "who is"):
            table.add_column(name)
        table.add_column("times", justify="right")
        for row in summary["findings"]:
            table.add_row(row["code"], row["account"], summary["cheat"][row["account"]], str(row["count"]))
        console.print(table)
    console.print(
        f"honest shots that hit on the shooter's screen: {honest['accepted']} of {honest['count']} accepted, "
        f"{honest['accepted_in_the_same_part']} of those on the same player and part",
        highlight=False,
    )
    for code, count in honest["not_accepted"].items():
        console.print(f"  not accepted: {count} x {code}", highlight=False)


def print_sample(console: Console, sample: Fields) -> None:
    """Results of the sample recording."""
    if sample:
        same = "[green]the same, bit for bit[/]" if sample["as_recorded"] else "[red]not the same[/]"
        console.print(
            f"sample recording: {sample['rulings']} rulings of {sample['seconds']:.0f} s ruled again, {same} "
            f"(digest {sample['rulings_sha256'][:16]})",
            highlight=False,
        )


def print_files(console: Console, summary: Fields) -> None:
    """Folder of all output."""
    for kind, path in summary["files"].items():
        console.print(f"{kind:<17} {path}", highlight=False, soft_wrap=True)
