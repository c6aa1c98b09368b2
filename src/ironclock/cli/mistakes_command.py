"""`ironclock mistakes`: ten mistakes of background jobs, the law that shows each, and its fix."""

from __future__ import annotations

import importlib
from collections.abc import Callable
from typing import Any

import ironclock as ic

from ..errors import nearest
from .demo_story import find_ferry_line


def names() -> tuple[str, ...]:
    """Return the names of the mistakes."""
    find_ferry_line()
    found: tuple[str, ...] = importlib.import_module("mistakes").NAMES
    return found


def show(chosen: tuple[str, ...], say: Callable[[str, str], None]) -> int:
    """Show mistakes, line by line with a style; return how many are not as they should be.

    Raises `InputError` for an unknown name.
    """
    known = names()
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
