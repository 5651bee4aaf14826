"""Shared parts of commands that read recordings: options, opening, progress, and one clear message for each error."""

from __future__ import annotations

import os
import sys
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeElapsedColumn

from tinclock.core.errors import TinClockError
from tinclock.core.text import printable_lines

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

    from rich.console import ConsoleOptions
    from rich.segment import Segment

    from tinclock.core.geometry.level import Level
    from tinclock.recordings.recording import Recording

PIPE_WIDTH = 120
STYLES = {"accepted": "green", "adjusted": "yellow", "rejected": "magenta", "repeated": "dim", "-": "dim"}

recording_argument = click.argument("recording", metavar="RECORDING", type=click.Path(path_type=Path))


def _listed(_context: click.Context, _parameter: click.Parameter, paths: tuple[Path, ...]) -> tuple[Path, ...]:
    from tinclock.recordings.listing import recordings_in

    try:
        return tuple(recordings_in(paths))
    except TinClockError as error:
        raise click.ClickException(str(error)) from None


recordings_argument = click.argument(
    "recordings", metavar="RECORDINGS...", nargs=-1, required=True, type=click.Path(path_type=Path), callback=_listed
)
"""Recordings, or folders that hold them."""
salvage_option = click.option("--recover", "recover", is_flag=True, help="Read damaged recordings as far as possible.")
level_option = click.option(
    "--level",
    "level_file",
    type=click.Path(path_type=Path),
    help="Level file, for a recording without its level.",
)
json_option = click.option("--json", "as_json", is_flag=True, help="Print the result as JSON and nothing else.")


class SafeConsole(Console):
    """A console that writes control characters out, also those in names: players choose their own."""

    def render(self, renderable: Any, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Yield the pieces to print."""
        for segment in super().render(renderable, options):
            whole = segment.control is not None or segment.text.replace("\n", "").isprintable()
            yield segment if whole else segment._replace(text=printable_lines(segment.text))


def console_for(as_json: bool) -> Console:
    """Return the console; it prints nothing when only JSON was asked for."""
    width = None if sys.stdout.isatty() or os.environ.get("COLUMNS", "").isdigit() else PIPE_WIDTH
    return SafeConsole(quiet=as_json, width=width)


def counted(number: int, one: str, many: str = "") -> str:
    """A number of things in words: "1 minute", "2 minutes"."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


@contextmanager
def told_plainly() -> Iterator[None]:
    """End the command with the library's message, and not with a traceback."""
    try:
        yield
    except TinClockError as error:
        raise click.ClickException(printable_lines(str(error))) from None


def say(text: str, err: bool = False) -> None:
    """Print a line that may hold names of strangers."""
    click.echo(printable_lines(text), err=err)


def opened(path: Path, recover: bool) -> Recording:
    """Open a recording."""
    from tinclock.recordings.recording import Recording

    return Recording(path, recover=recover)


def level_from(file: Path | None) -> Level | None:
    """The level file that was given, if any."""
    from tinclock.intake.level_file import load_level

    return None if file is None else load_level(file)


def report_problems(recording: Recording) -> None:
    """Say on stderr what salvaging left out."""
    for problem in dict.fromkeys(recording.problems):
        say(f"salvaged past: {problem}", err=True)


@contextmanager
def progress(console: Console, text: str) -> Iterator[Callable[[float], None]]:
    """A bar that moves while something long goes on."""
    columns = (TextColumn("{task.description}"), BarColumn(), TaskProgressColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console, transient=True) as bar:
        task = bar.add_task(text, total=1.0)
        yield lambda share: bar.update(task, completed=share)


def part(show: Callable[[float], None], place: int, parts: int) -> Callable[[float], None]:
    """The progress of one part of several that take equally long."""
    return lambda share: show((place + share) / parts)


def written(path: Path, draw: Callable[[Path], Any]) -> Path | None:
    """Draw into a file, its folder made; None (with a word on stderr) where matplotlib isn't installed."""
    from tinclock.core.errors import MissingExtraError

    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        draw(path)
    except MissingExtraError as error:
        click.echo(f"no picture: {error}", err=True)
        return None
    except OSError as error:
        raise click.ClickException(f"{path}: can't be written: {error.strerror}") from None
    return path
