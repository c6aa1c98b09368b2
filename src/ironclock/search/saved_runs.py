"""Saved runs: the results of a search in a file, so that an interrupted search continues where it ended.

JSON Lines: a head that says which search it is, then one line for each run, in order. Because the plans of a search
follow from its results alone, the results are enough.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator
from os import PathLike
from typing import IO, Any

from ..errors import IronClockError
from .plan import Move, Place
from .runners import Runner, RunRequest
from .runs import Broken, RunResult

FORMAT = "ironclock-search"
VERSION = 1


class SavedRunner(Runner):
    """Takes results from a file as long as there are any. Lets another runner do the rest, and saves it."""

    def __init__(self, runner: Runner, path: str | PathLike[str], head: dict[str, Any]) -> None:
        super().__init__(runner.story)
        self._runner = runner
        self._path = os.fspath(path)
        self._head = {"format": FORMAT, "version": VERSION, **head}
        self._stock: list[RunResult] = self._read()
        self._stock.reverse()
        self.resumed = len(self._stock)
        """How many runs were taken from the file."""
        self._file: IO[str] | None = None

    def map(self, requests: Iterable[RunRequest]) -> Iterator[tuple[RunRequest, RunResult]]:
        source = iter(requests)
        while self._stock:
            request = next(source, None)
            if request is None:
                return
            yield request, self._stock.pop()
        self._runner.known = self.known
        for request, result in self._runner.map(source):
            self._write(result)
            yield request, result

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
        self._runner.close()

    def _read(self) -> list[RunResult]:
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
            raise IronClockError(f"{self._path} is not a saved search; give a file that --resume wrote, or a new name")
        changed = [name for name, value in self._head.items() if head.get(name) != value]
        if changed:
            raise IronClockError(
                f"{self._path} is another search: its {' and '.join(changed)} differ; give a new name to begin a new "
                "one"
            )
        results, whole = [], [lines[0]]
        for text in lines[1:]:
            try:
                results.append(_result(json.loads(text)))
            except (ValueError, TypeError, KeyError):
                break  # the search ended while this line was written
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

    def _write(self, result: RunResult) -> None:
        if self._file is None:
            self._file = self._open("a")
        held = {name: value for name, value in vars(result).items() if value}
        self._file.write(json.dumps(held, separators=(",", ":")) + "\n")
        self._file.flush()


def _result(held: dict[str, Any]) -> RunResult:
    made = dict(held)
    if "broken" in made:
        made["broken"] = tuple(Broken(*one) for one in made["broken"])
    if "seams" in made:
        made["seams"] = tuple((Place(*place), tuple(map(_move, moves))) for place, moves in made["seams"])
    for name in ("points", "done"):
        if name in made:
            made[name] = tuple(map(_move, made[name]))
    return RunResult(**made)


def _move(held: list[Any]) -> Move:
    place, *rest = held
    return Move(Place(*place), *rest)
