"""Progress on one line of a terminal, after the first second."""

from __future__ import annotations

import sys
import threading
import time

import click


class ProgressLine:
    """The last line of a terminal, written again and again, with words in place of those before."""

    def __init__(self) -> None:
        self.on_terminal = sys.stderr.isatty()
        self.shown = False

    def clear(self) -> None:
        """Clear the line, if anything was shown."""
        if self.shown:
            click.echo("\r" + " " * 78 + "\r", nl=False, err=True)

    def show(self, words: str) -> None:
        """Show these words in place of those before."""
        self.shown = True
        click.echo(f"\r{words}".ljust(79)[:79], nl=False, err=True)


class Meter:
    """Shows the share that is done, and about how long the rest takes. Shows nothing outside a terminal."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._began = time.monotonic()
        self._last = 0.0
        self._line = ProgressLine()

    def __enter__(self) -> Meter:
        return self

    def __exit__(self, *_: object) -> None:
        self._line.clear()

    def show(self, share: float) -> None:
        """Show the share that is done."""
        now = time.monotonic()
        spent = now - self._began
        if not self._line.on_terminal or spent < 1.0 or now - self._last < 0.1:
            return
        self._last = now
        left = f", about {spent / share * (1 - share):,.0f} s left" if share > 0.02 else ""
        filled = round(share * 30)
        self._line.show(f"{self._what} {'█' * filled}{'·' * (30 - filled)} {share:4.0%}{left}")


class Waiting:
    """Says what a command does, if that takes more than a second and its progress is not known."""

    def __init__(self, words: str) -> None:
        self._words = words
        self._timer = threading.Timer(1.0, self._say)
        self._timer.daemon = True
        self._line = ProgressLine()

    def _say(self) -> None:
        self._line.show(f"{self._words} ...")

    def __enter__(self) -> Waiting:
        if self._line.on_terminal:
            self._timer.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.end()
        self._line.clear()

    def end(self) -> None:
        """Say nothing from now on: something else shows the progress."""
        self._timer.cancel()
