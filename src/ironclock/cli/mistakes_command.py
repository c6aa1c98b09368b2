"""`ironclock mistakes`: ten mistakes of background jobs, the law that shows each, and its fix."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Callable
from typing import Any

import click

import ironclock as ic

from ..errors import nearest
from ..foundation.example_files import find_mistakes
from .output import print_text, screen


@click.command(short_help="Show ten ways in which background jobs go wrong.")
@click.argument("names", nargs=-1)
@click.option("--list", "listed", is_flag=True, help="List their names.")
def mistakes(names: tuple[str, ...], listed: bool) -> None:
    """Show what goes wrong with background jobs: NAMES, or all ten.

    Each mistake is a story at the ferry line, with the bug, the law that it breaks, the entries of the history that
    prove it, and the fix. Exit code 1 if one of them is not as it should be.
    """
    if listed:
        for name in _names():
            click.echo(name)
        return
    console = screen()
    wrong = _show(names, lambda line, style: print_text(console, line, style=style))
    sys.exit(1 if wrong else 0)


def _names() -> tuple[str, ...]:
    """Return the names of the mistakes."""
    find_mistakes()
    found: tuple[str, ...] = importlib.import_module("mistakes").NAMES
    return found


def _show(chosen: tuple[str, ...], say: Callable[[str, str], None]) -> int:
    """Show mistakes, line by line with a style; return how many are not as they should be.

    Raises `InputError` for an unknown name.
    """
    known = _names()
    for name in chosen:
        if name not in known:
            raise ic.InputError(f"unknown mistake {name!r}; {nearest(name, known)}")
    broken: Any = importlib.import_module("mistakes.__main__").broken
    wrong = 0
    for name in chosen or known:
        module = importlib.import_module(f"mistakes.{name}")
        say(name.replace("_", " "), "bold")
        say("  " + str(module.__doc__).strip().replace("\n\n", "\n").replace("\n", "\n  "), "")
        with_bug, with_fix = broken(module, module.bug), broken(module, module.fix)
        what, *proof = (with_bug or "no law is broken").split("\n")
        say(f"  ✗ with the bug {what}", "red")
        for line in proof:
            say(f"  {line}", "" if line.startswith("      ") else "bold")
        if with_fix:
            say(f"  ✗ with the fix {with_fix}\n", "red")
        else:
            say("  ✓ with the fix every law holds\n", "green")
        wrong += not with_bug or bool(with_fix)
    return wrong
