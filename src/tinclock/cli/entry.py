"""Entry point of the command."""

from __future__ import annotations

from tinclock.recordings.no_pandas import without_pandas


def run() -> None:
    """Run the command that was typed."""
    without_pandas()
    from tinclock.cli.main import main

    main()
