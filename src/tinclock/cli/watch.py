"""`tinclock watch`: weighing matches while they are recorded, and opening cases as soon as there is enough."""

from __future__ import annotations

import signal
import threading
import time
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.case_options import (
    calibration_at,
    calibration_option,
    log_for_now,
    log_option,
    store_at,
    store_option,
)
from tinclock.cli.notices import notifier, notify_options
from tinclock.cli.reading import console_for, level_from, level_option, told_plainly
from tinclock.cli.weigh import mute_option, weigh_one
from tinclock.core.errors import TinClockError
from tinclock.recordings.layout import HEADER

if TYPE_CHECKING:
    from collections.abc import Callable, Collection

    from tinclock.cases.store import CaseStore
    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.geometry.level import Level
    from tinclock.recordings.recording_watcher import RecordingWatcher

TRIES, LAST_S = 4, 0.5
"""Number of attempts to read a recording before it is given up."""

EPILOG = """
\b
Examples:
  tinclock watch matches
      every match that a server records in matches/, until
      SIGTERM or Ctrl-C
  tinclock watch evening --webhook https://chat.example/hook
      one match, until it is over

\b
A case opens as soon as the evidence is enough, some five seconds after it
happened, and the match is taken in whole once it is over, as `weigh` does
it. The match itself isn't slowed down: only what was recorded is read.
`tinclock serve --record matches --cases cases` runs this beside itself.
"""


@click.command(epilog=EPILOG)
@click.argument("paths", metavar="PATHS...", nargs=-1, required=True, type=click.Path(path_type=Path))
@store_option
@log_option
@calibration_option
@mute_option
@click.option("--server-name", "server", default="", help="Name of the server that records the matches.")
@click.option("--interval", "every_s", default=2.0, show_default=True, type=click.FloatRange(0.1, 600.0),
              help="Seconds between two looks at the folders.")  # fmt: skip
@level_option
@notify_options
def watch(
    paths: tuple[Path, ...], store: str, log_folder: Path | None, calibration_file: Path | None, mute: tuple[str, ...],
    server: str, every_s: float, level_file: Path | None, **notices: object,
) -> None:  # fmt: skip
    """Weigh matches while they are recorded, and open cases. PATHS are recordings or folders of recordings."""
    stop, console, shown = _told_to_end(), console_for(True), console_for(False)

    def tell_of(text: str) -> None:
        shown.print(text, markup=False, highlight=False, soft_wrap=True)  # paths stay whole

    with told_plainly(), notifier(notices, meanwhile=True) as tell:
        calibration, level = calibration_at(calibration_file), level_from(level_file)
        cases = store_at(store, tell)

        def finish(path: Path) -> None:
            with log_for_now(store, log_folder, "soon") as log:  # reviewers write into it meanwhile
                report = weigh_one(path, calibration, mute, cases, log, level, server, console)
            for case in report["opened"]:
                tell_of(f"case opened: {case['account']}: {case['why']}")
            tell_of(f"{path}: taken in" + (", as it was before" if report["taken_before"] else ""))

        for path in paths:
            if path.is_file():
                raise click.UsageError(f"{path} is a file; give a recording's folder, or a folder that holds them")
            if not path.exists():
                tell_of(f"{path}: nothing is there yet; it is looked for again and again")
            elif not _is_recording(path) and not any(path.glob(f"*/{HEADER}")):
                tell_of(f"{path}: holds no recording yet; it is looked at again and again")
        _until_over(Followed(paths, calibration, cases, level, mute, finish, tell_of), every_s, stop)


class Followed:
    """Recordings and folders of recordings, looked at again and again until they are closed or somebody says stop.

    finish : takes a closed recording in whole, as `weigh` does; say : tells what happens, a line each
    """

    def __init__(
        self, paths: Collection[Path], calibration: Calibration, cases: CaseStore | None, level: Level | None,
        mute: Collection[str], finish: Callable[[Path], Any], say: Callable[[str], None],
    ) -> None:  # fmt: skip
        self._paths, self._weights, self._cases, self._level, self._mute = paths, calibration, cases, level, mute
        self._finish, self._say = finish, say
        self._under_way: dict[Path, RecordingWatcher] = {}
        self._done: set[Path] = set()
        self._failed: Counter[Path] = Counter()
        self._opened: set[tuple[Path, str]] = set()

    def look(self) -> bool:
        """Look at all of them once; returns whether anything is still to come."""
        from tinclock.recordings.recording_watcher import RecordingWatcher

        for path in self._found():
            if path not in self._under_way and path not in self._done:
                self._under_way[path] = RecordingWatcher(path, self._weights, self._level, self._mute)
        for path, one in list(self._under_way.items()):
            try:
                one.look()
                if one.closed:
                    self._finish(path)
                else:
                    self._open(path, one)
            except TinClockError as error:
                self._failed[path] += 1
                if self._failed[path] < TRIES:  # it may be put together into fewer files just now
                    continue
                self._say(f"{path}: {error}")  # the others go on
            if one.closed or self._failed[path] >= TRIES:
                del self._under_way[path]
                self._done.add(path)
        return bool(self._under_way) or any(not _is_recording(path) for path in self._paths)

    def finishing(self) -> bool:
        """True if something that is over still has to be taken in."""
        self.look()
        return any(one.closed for one in self._under_way.values())

    def _found(self) -> list[Path]:
        found: list[Path] = []
        for path in self._paths:
            found += [path] if _is_recording(path) else sorted(one.parent for one in path.glob(f"*/{HEADER}"))
        return found

    def _open(self, path: Path, one: RecordingWatcher) -> None:
        from tinclock.cases.weighed import match_name
        from tinclock.recordings.recording import Recording

        timeline = one.timeline
        for account in timeline.stages if timeline is not None and self._cases is not None else ():
            if (path, account) in self._opened:
                continue
            assert self._cases is not None
            assert timeline is not None
            case = self._cases.open_during(match_name(Recording(path)), account, timeline, self._weights)
            if case is not None:
                self._opened.add((path, account))
                self._say(f"case opened: {account}: {case.why}")


def _is_recording(path: Path) -> bool:
    return (path / HEADER).exists()


def _told_to_end() -> threading.Event:
    """Set once this process is told to end."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    if hasattr(signal, "pthread_sigmask"):  # `serve` keeps a SIGTERM back that comes while this process begins
        signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGTERM})
    return stop


def _until_over(followed: Followed, every_s: float, stop: threading.Event) -> None:
    """Look again and again, until everything is closed or this process is told to end."""
    while followed.look() and not stop.wait(every_s):
        pass
    for _ in range(TRIES if stop.is_set() else 0):  # what was closed meanwhile is still taken in
        if not followed.finishing():
            break
        followed.look()
        time.sleep(LAST_S)
