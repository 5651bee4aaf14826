"""`tinclock client-bundle`: what a client build is given of a rules file."""

from __future__ import annotations

from pathlib import Path

import click

from tinclock.cli.reading import told_plainly

EPILOG = """
\b
Examples:
  tinclock client-bundle garden.toml
      to the screen
  tinclock client-bundle garden.toml --out client.json
      into a file, for the client's build

\b
It holds what an honest client needs to draw and to predict (rates, rigs,
weapons in hand, flights, items) and a digest of each part, which the
client states when it joins. Allowances, limits, damage, and entries that have
for_clients = false, stay here.
"""


@click.command(epilog=EPILOG)
@click.argument("rules_file", metavar="RULES", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="Write it there instead of printing it.")
def client_bundle(rules_file: Path, out: Path | None) -> None:
    """Write what a client build is given of a rules file, as JSON."""
    import msgspec

    from tinclock.intake.rules_file import load_rules
    from tinclock.wire.bundle import client_bundle

    with told_plainly():
        text = msgspec.json.format(msgspec.json.encode(client_bundle(load_rules(rules_file))), indent=2).decode()
    if out is None:
        click.echo(text)
        return
    try:
        out.write_text(text + "\n", encoding="utf-8")
    except OSError as error:
        raise click.ClickException(f"{out}: can't be written: {error.strerror}") from None
