"""The command ``checkpost``. Commands are imported when they are called, so that help comes at once."""

from __future__ import annotations

import importlib
import sys

import click

from checkpost import __version__
from checkpost.errors import CheckPostError

#: Each command's module and what it is for, in the order of work.
COMMANDS = {
    "demo": "Start the bundled stand-in API and run the complete example against it.",
    "survey": "Show what a contract exposes, how it was understood, and its flaws.",
    "roles": "Try each role's credentials, and show whose they are.",
    "plan": "List the checks that would run and which of them write; sends nothing.",
    "run": "Run the checks against a live API.",
    "show": "Show a stored run, or one finding with its evidence.",
    "report": "Write a stored run to files: HTML, JUnit XML, SARIF, HAR, Markdown, CSV, JSON.",
    "compare": "Compare two runs: what is new, what is fixed.",
    "sweep": "Remove rows that a run left behind.",
}


class Commands(click.Group):
    """Commands by name, each in a module of its own; errors end in one sentence."""

    def list_commands(self, context: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        command: click.Command = getattr(importlib.import_module(f"checkpost.commands.{name}"), name)
        return command

    def format_commands(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))

    def invoke(self, context: click.Context) -> object:
        try:
            return super().invoke(context)
        except CheckPostError as error:
            click.echo(f"checkpost: {error}", err=True)
            sys.exit(error.exit_status)
        except BrokenPipeError:
            sys.exit(1)


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="checkpost")
def main() -> None:
    """Check that a data API generated from a database keeps the promises of its OpenAPI description.

    Start with `checkpost demo`. Exit status: 0 nothing at or above the failing severity, 1 findings,
    2 what you gave cannot be used, 3 the run could not be completed.
    """
