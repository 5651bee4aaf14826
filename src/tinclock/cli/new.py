"""`tinclock new`: a small working project to begin from."""

from __future__ import annotations

import json
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path

import click

from tinclock.cli.reading import console_for, json_option

EPILOG = """
\b
Examples:
  tinclock new arena
      then: cd arena; python -m pytest -q; python server.py; and
      beside it python client.py
  tinclock new . --json
      into a folder that is there, as long as it holds none of the files

\b
What it writes: rules and a rig, a level, a match without sockets, a UDP
server around it, a client to play, a test that plays it.
"""
NAMES = ("README.md", "arena.py", "client.py", "level.toml", "rules.toml", "server.py", "test_arena.py")


@click.command(epilog=EPILOG)
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@json_option
def new(folder: Path, as_json: bool) -> None:
    """Write a small working project: rules, a rig, a level, a server loop, a client, a test."""
    there = [name for name in NAMES if (folder / name).exists()]
    if there:
        raise click.ClickException(f"{folder}: holds {', '.join(there)} already; nothing was written")
    source = files("tinclock.cli") / "starter"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in NAMES:
            (folder / name).write_bytes((source / name).read_bytes())
    except OSError as error:
        raise click.ClickException(f"{folder}: can't be written: {error.strerror}") from None
    if as_json:
        click.echo(json.dumps({"folder": str(folder), "files": list(NAMES)}, indent=2))
        return
    console = console_for(False)
    console.print(f"{folder}: {', '.join(NAMES)}", highlight=False, soft_wrap=True)
    tests = "python -m pytest -q"
    if find_spec("pytest") is None:
        tests = f"pip install 'tinclock[testing]'; {tests}"
    console.print(f"next: cd {folder}; {tests}; python server.py & python client.py", highlight=False, soft_wrap=True)
