"""The files of the examples: found from every folder, in a checkout and in an installed package."""

from __future__ import annotations

import importlib.util
import sys
from pathlib import Path

from ..errors import IronClockError


def _homes() -> list[Path]:
    """Return the folders in which the examples can be: in the installed package, or in a checkout."""
    package = Path(__file__).resolve().parents[1]
    return [package.parent / "ironclock_examples", package.parents[1] / "examples"]


def find_ferry_line() -> None:
    """Make `tern_line` importable, if it is not. Raises `IronClockError` if this copy does not have it."""
    _find("tern_line")


def find_mistakes() -> None:
    """Make the example mistakes importable, and `tern_line`. Raises `IronClockError` if they are not there."""
    _find("mistakes")
    _find("tern_line")


def _find(package: str) -> None:
    for home in _homes():
        if (home / package / "__init__.py").exists():
            if str(home) not in sys.path:
                sys.path.insert(0, str(home))
            return
    if importlib.util.find_spec(package) is None:
        raise IronClockError(
            f"the example code ({package}) is not part of this copy of Iron Clock; install it again, or use a checkout"
        )


def example(path: str) -> str:
    """Return a path. One that begins with ``examples/`` is found from every folder.

    The ferry line's code is made importable only for a file of the examples.
    """
    rest = Path(path)
    if not rest.exists() and rest.parts[:1] == ("examples",):
        found = (home.joinpath(*rest.parts[1:]) for home in _homes())
        path = next((str(file) for file in found if file.exists()), path)
    if any(home in Path(path).resolve().parents for home in _homes()):
        find_ferry_line()
    return path
