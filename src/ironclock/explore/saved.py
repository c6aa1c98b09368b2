"""A search on file: what was run so far, so that an interrupted search goes on where it stood.

JSON Lines: a head that says which search it is, then one line a run, in order. Because the plans of a search follow
from its results alone, the results are enough.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from os import PathLike
from typing import IO, Any

from ..core.errors import IronClockError
from ..steering.plan import Move, Place
from .crew import Crew, Order
from .trial import Broken, Result

FORMAT = "ironclock-search"
VERSION = 1


class SavedCrew(Crew):
    """Takes results from a file as far as it goes, lets another crew do the rest, and writes that down."""

    def __init__(self, crew: Crew, path: str | PathLike[str], head: dict[str, Any]) -> None:
        super().__init__(crew.trial)
        self._crew = crew
        self._path = os.fspath(path)
        self._head = {"format": FORMAT, "version": VERSION, **head}
        self._stock: list[Result] = self._read()
        self._stock.reverse()
        self.resumed = len(self._stock)
        """How many runs the file had."""
        self._file: IO[str] | None = None

    def map(self, orders: Iterable[Order]) -> Iterator[tuple[Order, Result]]:
        source = iter(orders)
        while self._stock:
            order = next(source, None)
            if order is None:
                return
            yield order, self._stock.pop()
        self._crew.known = self.known
        for order, result in self._crew.map(source):
            self._write(result)
            yield order, result

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
        self._crew.close()

    def _read(self) -> list[Result]:
        try:
            with open(self._path, encoding="utf-8") as file:
                lines = file.read().split("\n")
        except FileNotFoundError:
            self._begin()
            return []
        except (OSError, UnicodeDecodeError) as error:
            raise IronClockError(f"cannot read {self._path}: {error}") from None
        try:
            head = json.loads(lines[0])
        except ValueError:
            head = None
        if not isinstance(head, dict) or head.get("format") != FORMAT:
            raise IronClockError(f"{self._path} is no saved search; give a file that is one, or a new name")
        changed = [name for name, value in self._head.items() if head.get(name) != value]
        if changed:
            raise IronClockError(
                f"{self._path} is another search: its {' and '.join(changed)} differ; give a new name to begin anew"
            )
        results, whole = [], [lines[0]]
        for text in lines[1:]:
            try:
                results.append(_result(json.loads(text)))
            except (ValueError, TypeError, KeyError):
                break  # the last line was being written when it ended
            whole.append(text)
        with self._open("w") as file:
            file.write("\n".join(whole) + "\n")
        return results

    def _begin(self) -> None:
        with self._open("w") as file:
            file.write(json.dumps(self._head) + "\n")

    def _open(self, mode: str) -> IO[str]:
        try:
            return open(self._path, mode, encoding="utf-8")
        except OSError as error:
            raise IronClockError(f"cannot write {self._path}: {error.strerror}") from None

    def _write(self, result: Result) -> None:
        if self._file is None:
            self._file = self._open("a")
        held = {name: value for name, value in vars(result).items() if value}
        self._file.write(json.dumps(held, separators=(",", ":")) + "\n")
        self._file.flush()


def _result(held: dict[str, Any]) -> Result:
    made = dict(held)
    if "broken" in made:
        made["broken"] = tuple(Broken(*one) for one in made["broken"])
    if "seams" in made:
        made["seams"] = tuple((Place(*place), tuple(map(_move, moves))) for place, moves in made["seams"])
    for name in ("points", "done"):
        if name in made:
            made[name] = tuple(map(_move, made[name]))
    return Result(**made)


def _move(held: list[Any]) -> Move:
    place, kind, by = held
    return Move(Place(*place), kind, by)
