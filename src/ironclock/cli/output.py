"""What commands share: the screen they print on, and errors of files and missing extras in words."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import ironclock as ic

if TYPE_CHECKING:
    from rich.console import Console


def screen() -> Console:
    """Return the screen; colour only on a terminal."""
    from ..report.text import console

    return console()


@contextmanager
def needing(extra: str) -> Iterator[None]:
    """Say which extra is missing where an import fails."""
    try:
        yield
    except ImportError as error:
        raise ic.IronClockError(f"this needs {error.name}: pip install 'ironclock[{extra}]'") from None


@contextmanager
def shown_error(path: str) -> Iterator[None]:
    """Say which file cannot be written."""
    try:
        yield
    except OSError as error:
        raise ic.IronClockError(f"cannot write {path}: {error.strerror or error}") from None


def write(path: str, text: str) -> None:
    """Write a text file; raise an error in words."""
    with shown_error(path), open(path, "w", encoding="utf-8", newline="") as file:
        file.write(text)
