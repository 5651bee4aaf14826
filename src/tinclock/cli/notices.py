"""Options of commands that tell others about cases, and telling them once the command's work is kept."""

from __future__ import annotations

import os
import threading
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from tinclock.cli.reading import say
from tinclock.core.plain import Fields

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from tinclock.cases.records import Case
    from tinclock.serve.notices import Notices

DELIVER_S = 2.0
"""Seconds between two deliveries of a command that runs for days."""


def notify_options(command: Any) -> Any:
    """`--webhook`, `--webhook-key`, `--syslog`, `--notification-queue`."""
    for option in (
        click.option("--notification-queue", "spool", type=click.Path(path_type=Path), default=Path("notices"),
        show_default=True,
                     help="Folder for notifications until their receivers answer."),
        click.option("--syslog", multiple=True, metavar="HOST:PORT",
                     help="Syslog server (RFC 5424) to notify; tcp://HOST:PORT for TCP."),
        click.option("--webhook-key", "key_file", type=click.Path(exists=True, dir_okay=False, path_type=Path),
                     help="File with the key that signs webhooks (default: TINCLOCK_WEBHOOK_KEY)."),
        click.option("--webhook", "webhooks", multiple=True, metavar="URL",
                     help="POST a CloudEvent here when a case opens, changes or is decided."),
    ):  # fmt: skip
        command = option(command)
    return command


def _key(file: Path | None) -> bytes:
    key = os.environ.get("TINCLOCK_WEBHOOK_KEY", "").encode() if file is None else file.read_bytes().strip()
    if file is not None and not key:
        raise click.ClickException(f"{file}: is empty; a key of 32 random bytes or more belongs in it")
    return key


@contextmanager
def notifier(options: Fields, *, meanwhile: bool = False) -> Iterator[Callable[[str, Case], None] | None]:
    """Give a function to call with each case; afterwards everything is delivered, what earlier commands left included.

    meanwhile : deliver while the command runs too, for one that runs for days
    """
    webhooks, syslog, spool = options["webhooks"], options["syslog"], options["spool"]
    if not webhooks and not syslog:
        yield None
        return
    from tinclock.serve.notices import Notices

    notices = Notices(spool, webhooks=webhooks, syslog=syslog, key=_key(options["key_file"]))
    over = threading.Event()
    if meanwhile:
        threading.Thread(target=_deliver, args=(notices, over), name="tinclock-notices", daemon=True).start()
    try:
        yield notices.tell
    finally:
        over.set()
    for problem in notices.deliver():
        say(f"not told yet: {problem}", err=True)


def _deliver(notices: Notices, over: threading.Event) -> None:
    said: set[str] = set()
    while not over.wait(DELIVER_S):
        problems = set(notices.deliver())
        for problem in problems - said:
            say(f"not told yet: {problem}", err=True)
        said = problems
