"""`tinclock doctor`: what in recordings is a mistake of the integration, not of the players."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tinclock.cli.case_options import calibration_at, calibration_option
from tinclock.cli.reading import (
    console_for,
    counted,
    json_option,
    level_from,
    level_option,
    opened,
    part,
    progress,
    recordings_argument,
    say,
    told_plainly,
)
from tinclock.core.errors import RecordingError
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from rich.console import Console

    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.evidence.doctor import Diagnostic, Doctor
    from tinclock.core.geometry.level import Level

EPILOG = """
\b
Examples:
  tinclock doctor evening
      after the first match with your own game
  tinclock doctor matches --calibration calibration.json
      and whether players still do what they did when the
      calibration were made

\b
What shows on most accounts at once is the game's or the integration's
doing, and nobody's evidence. Each line says what shows, what most likely
makes it, and where to look.
"""


@click.command(epilog=EPILOG)
@recordings_argument
@calibration_option
@level_option
@json_option
def doctor(recordings: tuple[Path, ...], calibration_file: Path | None, level_file: Path | None, as_json: bool) -> None:
    """Find integration mistakes: rates, eyes, angles, views and findings that most accounts share."""
    console = console_for(as_json)
    with told_plainly():
        calibration, level = calibration_at(calibration_file), level_from(level_file)
        with progress(console, "reading") as show:
            found = examined(recordings, calibration, level, show)
    complaints, little = found.complaints(), found.too_little()
    drifts = [] if little else found.drifts()
    if as_json:
        report: Fields = {"mend": complaints, "drift": drifts}
        told = {name: [one._asdict() for one in each] for name, each in report.items()}
        click.echo(json.dumps({**told, "too_little": little}, indent=2))
        return
    _print(console, complaints, drifts, little)


def examined(
    recordings: Sequence[Path], calibration: Calibration | None, level: Level | None, show: Callable[[float], None], *,
    expect_pings: bool = True,
    from_logs: bool = False,
) -> Doctor:  # fmt: skip
    """A doctor who has seen some recordings of one game. One that can't be read is passed over, and told.

    Raises the last error where none of them can be read.
    """
    from tinclock.core.evidence.doctor import Doctor
    from tinclock.recordings.observed import observed_in

    found: Doctor | None = None
    problem: RecordingError | None = None
    for k, path in enumerate(recordings):
        try:
            recording = opened(path, False)
            found = found or Doctor(
                recording.require_header().rules, calibration, expect_pings=expect_pings, from_logs=from_logs
            )
            for seen in observed_in(recording, level, part(show, k, len(recordings))):
                found.add(seen)
            times = recording.tick_times()
            found.ticks(times)
            found.arrivals(recording.arrival_times(), times)
        except RecordingError as error:
            problem = error
            say(f"passed over: {error}", err=True)
    if found is None:
        raise problem or RecordingError("recordings", "none were given")
    return found


def print_complaints(console: Console, complaints: list[Diagnostic]) -> None:
    """Return the problems to fix, three lines each."""
    from rich.markup import escape

    for one in complaints:
        shown = f" ({one.accounts} of {counted(one.of, 'account')})" if one.of else ""
        console.print(f"[yellow]{escape(one.what)}[/]{shown}", highlight=False)
        console.print(f"  likely: {escape(one.cause)}\n  look at: {escape(one.look)}", highlight=False)


def _print(console: Console, complaints: list[Diagnostic], drifts: list[Diagnostic], little: str) -> None:
    from rich.markup import escape

    print_complaints(console, complaints)
    if little:
        console.print(f"Too little was played to tell what most accounts show: {little}.", highlight=False)
    elif not complaints:
        console.print("Nothing shows on most accounts that shouldn't.", highlight=False)
    for one in drifts:
        console.print(f"[cyan]{escape(one.what)}[/]\n  likely: {one.cause}\n  then: {one.look}", highlight=False)
