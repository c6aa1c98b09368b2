"""What commands share: the screen, files that are written, and errors about files and missing extras."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import textwrap
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

import ironclock as ic

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

_ASIDE = "ironclock.aside"


def set_aside(*outputs: str | None) -> None:
    """Let the report of the command go to standard error if one of its output files is ``-``, standard output.

    Raises `UsageError` if several are.
    """
    count = sum(path == "-" for path in outputs)
    if count > 1:
        raise click.UsageError(f"{count} outputs are -, and there is one standard output; give files to the others")
    if count:
        click.get_current_context().meta[_ASIDE] = True


def _is_aside() -> bool:
    context = click.get_current_context(silent=True)
    return context is not None and bool(context.meta.get(_ASIDE))


def screen() -> Console:
    """Return the screen. It has colour only on a terminal."""
    from ..reports.terminal import console

    return console(stderr=_is_aside())


def print_text(console: Console, text: Text | str, style: str = "") -> None:
    """Print text of one style. Its lines are wrapped, with an indent, on a terminal and if COLUMNS says how wide it is;
    for a file or another program they stay whole."""
    from rich.text import Text

    if isinstance(text, str):
        text = Text(text, style=style)
    if not (os.environ.get("COLUMNS") or console.is_terminal):
        console.print(text, soft_wrap=True)
        return
    for line in text.plain.split("\n"):
        indent = " " * min(len(line) - len(line.lstrip()) + 2, console.width // 2)
        wrapped = textwrap.wrap(
            line, console.width, subsequent_indent=indent, break_long_words=False, break_on_hyphens=False
        ) or [""]
        for part in wrapped:
            console.print(Text(part, style=text.style), soft_wrap=True)


def say(text: str) -> None:
    """Print a line of the report."""
    click.echo(text, err=_is_aside())


@contextmanager
def needing(extra: str) -> Iterator[None]:
    """Say which extra is missing if an import fails inside the block."""
    try:
        yield
    except ImportError as error:
        raise ic.IronClockError(
            f"this command needs {error.name}; install it with: pip install 'ironclock[{extra}]'"
        ) from None


@contextmanager
def shown_error(path: str) -> Iterator[None]:
    """Say which file cannot be written if that fails inside the block."""
    try:
        yield
    except OSError as error:
        raise ic.IronClockError(f"cannot write {path}: {error.strerror or error}") from None


@contextmanager
def output_file(path: str, ending: str = "") -> Iterator[str]:
    """Give the path of a file to write. For ``-`` its content goes to standard output after the block, from a file with
    that ending.

    Raises a clear error if it cannot be written.
    """
    with shown_error(path):
        if path != "-":
            yield path
            return
        with tempfile.TemporaryDirectory(prefix="ironclock-") as folder:
            made = os.path.join(folder, f"out{ending}")
            yield made
            with open(made, "rb") as file:
                shutil.copyfileobj(file, sys.stdout.buffer)
            sys.stdout.buffer.flush()


def write(path: str, text: str) -> None:
    """Write a text file, or standard output for ``-``. Raises a clear error if that fails."""
    with output_file(path) as place, open(place, "w", encoding="utf-8", newline="") as file:
        file.write(text)


def told_written(path: str, more: str = "") -> None:
    """Say that a file is written, unless it is standard output."""
    if path != "-":
        say(f"wrote {path}{more}")
