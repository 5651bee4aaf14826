"""Options of commands that tell others about cases, and telling them once the command's work is kept."""

from __future__ import annotations

from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from tinclock.store.case_records import Case


def notify_options(command: Any) -> Any:
    """`--webhook`, `--syslog`, `--spool`."""
    for option in (
        click.option("--spool", type=click.Path(path_type=Path), default=Path("notices"), show_default=True,
                     help="Where notices wait for receivers that don't answer."),
        click.option("--syslog", multiple=True, metavar="HOST:PORT",
                     help="Also tell this syslog server (RFC 5424); tcp://HOST:PORT for TCP."),
        click.option("--webhook", "webhooks", multiple=True, metavar="URL",
                     help="POST a CloudEvent here when a case opens or changes."),
    ):  # fmt: skip
        command = option(command)
    return command


@contextmanager
def notifier(options: dict[str, Any]) -> Iterator[Callable[[str, Case], None] | None]:
    """What to call with each case; afterwards everything is delivered, what earlier commands left included."""
    webhooks, syslog, spool = options["webhooks"], options["syslog"], options["spool"]
    if not webhooks and not syslog:
        yield None
        return
    from tinclock.serve.notices import Notices

    notices = Notices(spool, webhooks=webhooks, syslog=syslog)
    yield notices.tell
    for problem in notices.deliver():
        click.echo(f"not told yet: {problem}", err=True)
