"""`tinclock simulate`: play a garden match into a recording."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.reading import console_for, json_option, progress, told_plainly
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from rich.console import Console

EPILOG = """
\b
Examples:
  tinclock simulate evening
      8 gardeners, 60 s, three of them cheating
  tinclock simulate big --players 16 --seed 3
  tinclock simulate fair --cheat none
  tinclock simulate run --scenario barrow --cheat none
      with a wheelbarrow to ride, phases, waves and a burst
  tinclock simulate evening --logs evening-logs
      and as another server would have logged it

\b
  tinclock simulate cheats --cheat beryl=snap_aim:0.3 \\
      --cheat beryl=no_spread:1 --cheat fennel=speed:0.5

\b
The recording is RECORDING, the truth about it (who cheated, what
screens showed) RECORDING-truth. Cheats, each with a strength up
to 1:
  {kinds}
"""


def _kinds() -> str:
    from tinclock.garden.cheats import KINDS

    return "\n  ".join(f"{kind:<22}{what}" for kind, what in KINDS.items())


class _SimulateOptions(click.Command):
    """The kinds are listed from where they are defined, and only when help is asked for."""

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        self.epilog = EPILOG.format(kinds=_kinds())
        super().format_epilog(ctx, formatter)


@click.command(cls=_SimulateOptions, epilog=EPILOG)
@click.argument("recording", metavar="RECORDING", type=click.Path(path_type=Path))
@click.option("--players", default=8, show_default=True, type=click.IntRange(2, 100), help="Number of players.")
@click.option(
    "--seconds",
    default=60.0,
    show_default=True,
    type=click.FloatRange(1.0, 7200.0),
    help="Duration of the match in seconds.",
)
@click.option("--seed", default=7, show_default=True, help="Same seed, same match.")
@click.option("--scenario", default="skirmish", show_default=True, type=click.Choice(["skirmish", "barrow"]),
              help="'barrow' adds a wheelbarrow to ride, healing, waves, phases and a barrel that bursts.")  # fmt: skip
@click.option(
    "--rules", "rules_file", type=click.Path(path_type=Path), help="Rules file (default: the demo game's own)."
)
@click.option(
    "--cheat",
    "cheats",
    multiple=True,
    metavar="ACCOUNT=CHEAT:STRENGTH",
    help="Give an account a cheat; 'none': everybody is honest.",
)
@click.option("--logs", "logs_folder", type=click.Path(path_type=Path),
              help="Folder for the same match as another server's logs, for `tinclock import-logs`.")  # fmt: skip
@json_option
def simulate(
    recording: Path, players: int, seconds: float, seed: int, scenario: str, rules_file: Path | None,
    cheats: tuple[str, ...],
    logs_folder: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Simulate a match of the demo game and record it.

    Bots with human hands play over connections of every quality, and some of them cheat.
    """
    from tinclock.core.analysis.tally import tally
    from tinclock.garden.match import simulate_match
    from tinclock.garden.truth import write_truth
    from tinclock.intake.rules_file import load_rules

    console, truth = console_for(as_json), recording.with_name(recording.name + "-truth")
    with told_plainly():
        if truth.exists():
            raise click.ClickException(f"{truth}: is there already; the truth about a match is never written over")
        with progress(console, f"playing {seconds:g} s with {players} gardeners, seed {seed}") as show:
            played = simulate_match(
                seed=seed, seconds=seconds, players=players, cheats=_cheats(cheats),
                rules=None if rules_file is None else load_rules(rules_file), scenario=scenario, record_to=recording,
                on_progress=show,
            )  # fmt: skip
        write_truth(played, truth)
        mapping = None if logs_folder is None else _logs(recording, logs_folder)

    counts = tally(played.rulings)
    summary: Fields = {
        "recording": str(recording), "truth": str(truth), "logs": mapping,
        "seed": seed, "seconds": seconds, "players": players,
        "rulings": counts["rulings"], "outcomes": counts["outcomes"],
        "accounts": {seat.account: {"connection_quality": seat.line.name,
        "cheat": seat.cheat} for seat in played.seats},
    }  # fmt: skip
    if as_json:
        click.echo(json.dumps(summary, indent=2))
        return
    _print(console, summary)


def _print(console: Console, summary: Fields) -> None:
    from rich.table import Table

    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in ("account", "connection_quality", "cheat"):
        table.add_column(name)
    for account, row in summary["accounts"].items():
        cheat = row["cheat"]
        table.add_row(
            account, row["connection_quality"].replace("_", " "), cheat if cheat == "honest" else f"[red]{cheat}[/]"
        )
    console.print(table)
    told = ", ".join(f"{count} {outcome}" for outcome, count in summary["outcomes"].items())
    console.print(f"[bold]{summary['rulings']} rulings[/]: {told}", highlight=False)
    console.print(f"recording {summary['recording']}\ntruth     {summary['truth']}", highlight=False, soft_wrap=True)
    if summary["logs"] is not None:
        console.print(f"logs      {summary['logs']}", highlight=False, soft_wrap=True)


def _logs(recording: Path, folder: Path) -> str:
    from tinclock.garden.foreign import write_foreign_logs
    from tinclock.recordings.recording import Recording

    return str(write_foreign_logs(Recording(recording), folder))


def _cheats(texts: tuple[str, ...]) -> dict[str, dict[str, float]] | None:
    """Return the options' cheats; None for the default ones."""
    if not texts:
        return None
    out: dict[str, dict[str, float]] = {}
    for text in texts:
        if text == "none":
            continue
        account, _, rest = text.partition("=")
        kind, _, strength = rest.partition(":")
        try:
            out.setdefault(account, {})[kind] = float(strength or "1")
        except ValueError:
            raise click.UsageError(
                f"--cheat {text}: expected ACCOUNT=CHEAT:STRENGTH, such as beryl=snap_aim:0.3"
            ) from None
    return out
