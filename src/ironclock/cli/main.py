"""The command line: the group of all commands, each in its own file.

Exit codes: 0 as expected, 1 a broken expectation, 2 a command or file that cannot be used, 3 the program has failed
itself or cannot write what it has to say.
"""

from __future__ import annotations

import os
import sys
import traceback
from importlib import import_module
from typing import Any, NoReturn

import click

import ironclock as ic

_CONTEXT = {"help_option_names": ["-h", "--help"]}
_COMMANDS = (
    "check", "compare", "completion", "demo", "estimate", "export", "forecast", "init", "lint", "mistakes", "probe",
    "rehearse", "run", "show", "when",
)  # fmt: skip
"""Each command is in a module of its name. It is imported only if it is used, so each one answers at once."""


_OWN_ERROR = 3
_EXIT_CODES = (
    "Exit codes: 0: as expected; 1: a law or an expectation is broken; 2: a command, a file or a value that cannot be "
    "used; 3: the program itself has failed, or cannot write its output."
)


class _Commands(click.Group):
    """Shows errors of Iron Clock as one clear line, with exit code 2. No error of the program itself ends with 1."""

    def main(self, *args: Any, **extra: Any) -> Any:
        for stream in (sys.stdout, sys.stderr):
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="replace")  # what an encoding does not have is shown as a question mark
        try:
            try:
                return super().main(*args, **extra)
            finally:
                sys.stdout.flush()
        except OSError as error:
            _cannot_write(error)

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
        except (click.ClickException, click.Abort, click.exceptions.Exit):
            raise
        except OSError as error:
            _cannot_write(error)
        except Exception as error:
            traceback.print_exc()
            click.echo(f"Error: this is a mistake of ironclock itself: {type(error).__name__}: {error}", err=True)
            sys.exit(_OWN_ERROR)


def _cannot_write(error: OSError) -> NoReturn:
    """End the program, whose output nobody takes any more."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # what is left is written there when the interpreter ends
    if not isinstance(error, BrokenPipeError):  # a reader such as `head` has seen enough
        place = f" {error.filename}" if error.filename else " the output"
        os.write(2, f"Error: cannot use{place}: {error.strerror or error}\n".encode())
    sys.stdout = open(os.devnull, "w")  # noqa: SIM115
    raise SystemExit(_OWN_ERROR)


@click.group(cls=_Commands, context_settings=_CONTEXT, epilog=_EXIT_CODES)
@click.version_option(ic.__version__, prog_name="ironclock")
def main() -> None:
    """Test background and scheduled jobs in simulated time.

    Start with `ironclock demo`: one evening at a made-up ferry company, in less than a second.
    """


if __name__ == "__main__":
    main()
