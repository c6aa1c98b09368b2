"""Progress on one line of a terminal, after the first second."""

from __future__ import annotations

import sys
import threading
import time

import click


class Meter:
    """Shows the share that is done, and about how long the rest takes. Shows nothing outside a terminal."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._began = time.monotonic()
        self._last = 0.0
        self._shown = False
        self._terminal = sys.stderr.isatty()

    def __enter__(self) -> Meter:
        return self

    def __exit__(self, *_: object) -> None:
        if self._shown:
            click.echo("\r" + " " * 78 + "\r", nl=False, err=True)

    def show(self, share: float) -> None:
        """Show the share that is done."""
        now = time.monotonic()
        spent = now - self._began
        if not self._terminal or spent < 1.0 or now - self._last < 0.1:
            return
        self._last = now
        self._shown = True
        left = f", about {spent / share * (1 - share):,.0f} s left" if share > 0.02 else ""
        filled = round(share * 30)
        line = f"{self._what} {'█' * filled}{'·' * (30 - filled)} {share:4.0%}{left}"
        click.echo(f"\r{line}".ljust(79)[:79], nl=False, err=True)


class Waiting:
    """Says what a command does, if that takes more than a second and its progress is not known."""

    def __init__(self, words: str) -> None:
        self._words = words
        self._timer = threading.Timer(1.0, self._say)
        self._timer.daemon = True
        self._said = False

    def _say(self) -> None:
        self._said = True
        click.echo(f"{self._words} ...", nl=False, err=True)

    def __enter__(self) -> None:
        if sys.stderr.isatty():
            self._timer.start()

    def __exit__(self, *_: object) -> None:
        self._timer.cancel()
        if self._said:
            click.echo("\r" + " " * 78 + "\r", nl=False, err=True)
