"""The command line: the group of all commands, each in its own file.

Exit codes: 0 as expected, 1 a broken expectation, 2 a command or file that cannot be used.
"""

from __future__ import annotations

import sys
from importlib import import_module
from typing import Any

import click

import ironclock as ic

_CONTEXT = {"help_option_names": ["-h", "--help"]}
_COMMANDS = (
    "check", "compare", "completion", "demo", "estimate", "export", "forecast", "init", "lint", "mistakes", "probe",
    "run", "show", "when",
)  # fmt: skip
"""Each command is in a module of its name. It is imported only if it is used, so each one answers at once."""


class _Commands(click.Group):
    """Shows errors of Iron Clock as one clear line, with exit code 2."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        made: click.Command = getattr(import_module(f".{cmd_name}_command", __package__), cmd_name)
        return made

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except ic.IronClockError as error:
            from .given_files import with_names

            click.echo(f"Error: {with_names(str(error))}", err=True)
            sys.exit(2)


@click.group(cls=_Commands, context_settings=_CONTEXT)
@click.version_option(ic.__version__, prog_name="ironclock")
def main() -> None:
    """Test background and scheduled jobs in simulated time.

    Start with `ironclock demo`: one evening at a made-up ferry company, in less than a second.
    """


if __name__ == "__main__":
    main()
