"""What commands share: the screen, files that are written, and errors about files and missing extras."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import ironclock as ic

if TYPE_CHECKING:
    from rich.console import Console


def screen() -> Console:
    """Return the screen. It has colour only on a terminal."""
    from ..reports.terminal import console

    return console()


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


def write(path: str, text: str) -> None:
    """Write a text file. Raises a clear error if that fails."""
    with shown_error(path), open(path, "w", encoding="utf-8", newline="") as file:
        file.write(text)
