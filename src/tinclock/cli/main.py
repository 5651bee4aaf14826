"""The `tinclock` command. Each subcommand's module loads when it is called, so that --help stays quick."""

from __future__ import annotations

from importlib import import_module

import click

import tinclock

GROUPS = {
    "Try": ("demo", "simulate"),
    "Set up": ("new", "check", "rig", "level", "client-rules"),
    "Run": ("serve",),
    "Investigate": ("info", "explain", "replay", "compare-server", "fairness", "batch", "import-logs"),
    "Review": ("review", "doctor", "weigh", "watch", "cases", "calibrate", "detection"),
}
"""The commands in the order of a project's life."""

COMMANDS = {
    "demo": ("tinclock.cli.demo", "demo", "Simulate a match of the demo game and show its rulings."),
    "simulate": ("tinclock.cli.simulate", "simulate", "Simulate a match of the demo game and record it."),
    "new": ("tinclock.cli.new", "new", "Create a small working project: rules, server, client, test."),
    "review": ("tinclock.cli.review", "review", "Start the review site: watch matches, decide cases."),
    "check": ("tinclock.cli.check", "check", "Check rules files for mistakes and unusual settings."),
    "rig": ("tinclock.cli.rig", "rig", "Fit hitboxes to a skinned glTF character."),
    "level": ("tinclock.cli.level", "level", "Check a level file: triangles, holes, surfaces."),
    "client-rules": ("tinclock.cli.client_rules", "client_rules", "Write the part of the rules that clients may know."),
    "serve": ("tinclock.cli.serve", "serve", "Run the service for servers in other languages."),
    "info": ("tinclock.cli.info", "info", "Show the contents of a recording and verify its files."),
    "explain": ("tinclock.cli.explain", "explain", "Explain a claim of a recording, check by check, and draw it."),
    "replay": ("tinclock.cli.replay", "replay", "Replay a recording by its own rules or by others."),
    "compare-server": (
        "tinclock.cli.compare_server",
        "compare_server",
        "Compare your server's results with the rulings.",
    ),
    "fairness": ("tinclock.cli.fairness", "fairness", "Measure what a match cost shooters and victims."),
    "batch": ("tinclock.cli.batch", "batch", "Replay, measure or weigh many recordings."),
    "import-logs": (
        "tinclock.cli.import_logs",
        "import_logs",
        "Import another server's logs and rule on their claims.",
    ),
    "doctor": ("tinclock.cli.doctor", "doctor", "Find integration mistakes in recordings."),
    "watch": ("tinclock.cli.watch", "watch", "Weigh matches while they are recorded, and open cases."),
    "weigh": ("tinclock.cli.weigh", "weigh", "Weigh the evidence of recordings, and open cases."),
    "cases": ("tinclock.cli.cases", "cases", "List, show, decide and export cases."),
    "calibrate": ("tinclock.cli.calibrate", "calibrate", "Make a calibration from labelled recordings."),
    "detection": ("tinclock.cli.detection", "detection", "Show how often and how fast each cheat is found."),
}

EPILOG = """
\b
Examples:
  tinclock demo
      play 20 s of the garden match and rule it
  tinclock demo --seed 3 --json
      the summary as JSON, for scripts
  tinclock demo --shot 57
      draw and explain ruling 57
  tinclock demo projectiles
      a mortar's arc, one dodge under three compensations, a fast dart
  tinclock simulate evening
      a match of a minute, recorded
  tinclock explain evening 58
      why ruling 58 went as it did
  tinclock replay evening
      the same rulings once more, bit for bit
  tinclock weigh evening
      evidence by account; cases wait for a person
  tinclock cases list
      the queue of a reviewer
  tinclock batch weigh matches --out results
      the same of thousands, on all cores or a cluster
  tinclock import-logs logs.toml evening
      your own server's logs, ruled and recorded
  tinclock check garden.toml
      every mistake of a rules file, and how many hits each weapon needs
"""


class _Lazy(click.Group):
    """A group whose commands are imported when they are used."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        module, name, _ = COMMANDS[cmd_name]
        command: click.Command = getattr(import_module(module), name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        widest = max(map(len, COMMANDS))
        for group, names in GROUPS.items():
            with formatter.section(group):
                formatter.write_dl([(f"{name:{widest}}", COMMANDS[name][2]) for name in names])


@click.group(cls=_Lazy, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(tinclock.__version__, prog_name="tinclock")
def main() -> None:
    """Rule on the claims of clients in multiplayer combat, and explain every ruling."""
