"""Reading a scenario file: TOML, checked with the schema, with errors that say where and what is expected."""

from __future__ import annotations

import datetime as dt
import json
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from copy import copy
from functools import cache
from pathlib import Path as File
from typing import Any

from ..errors import IronClockError, ScenarioError, nearest
from .toml_places import Path, places

_SHOWN = 8


class Source:
    """The tables of a scenario, with the place of each key in the file.

    Parameters: `form` is the JSON Schema of the file. Default None: that of scenarios.
    """

    def __init__(self, name: str, text: str, form: dict[str, Any] | None = None) -> None:
        self.name = name
        try:
            self.tables: dict[str, Any] = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise ScenarioError(f"{name}: the file is not TOML: {error}") from None
        self._places = places(text)
        problems = list(_problems(self.tables, self.where, schema() if form is None else form))
        if problems:
            more = f"\n... and {len(problems) - _SHOWN} more" if len(problems) > _SHOWN else ""
            raise ScenarioError("\n".join(problems[:_SHOWN]) + more)

    @classmethod
    def read(cls, path: str, form: dict[str, Any] | None = None) -> Source:
        """Read a file. Parameters: `form` as in the class. Raises `ScenarioError` if it cannot be used."""
        try:
            text = File(path).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise ScenarioError(f"cannot read {path}: {error}") from None
        return cls(path, text, form)

    def but(self, tables: dict[str, Any]) -> Source:
        """Return the same source with other tables."""
        made = copy(self)
        made.tables = tables
        return made

    def where(self, path: Iterable[str | int] = ()) -> str:
        """Return file, line and column of a path, or of the nearest path around it."""
        keys: Path = tuple(path)
        while keys and keys not in self._places:
            keys = keys[:-1]
        line, column = self._places.get(keys, (1, 1))
        return f"{self.name}:{line}:{column}"

    def line(self, path: Iterable[str | int]) -> int:
        """Return the line of a path."""
        return int(self.where(path).rsplit(":", 2)[1])

    @contextmanager
    def at(self, *path: str | int) -> Iterator[None]:
        """Let errors of Iron Clock that are raised inside the block name this place."""
        try:
            yield
        except ScenarioError:
            raise
        except IronClockError as error:
            raise ScenarioError(f"{self.where(self._key_of(path, str(error)))}: {error}") from None

    def _key_of(self, path: Path, words: str) -> Path:
        """Return the path of the key below `path` that an error names first (``timeout is 0; give ...``), or whose text
        it shows."""
        named: list[tuple[int, int, Path]] = []
        shown: list[Path] = []
        for place in self._places:
            key = place[-1] if place else None
            if place[: len(path)] == path and len(place) > len(path) and isinstance(key, str):
                found = re.search(rf"(?<![\w'.-]){re.escape(key)}(?![\w'-])", words)
                if found is not None:
                    named.append((found.start(), len(place), place))
                value = self._value(place)
                if isinstance(value, str) and len(value) > 2 and value in words:
                    shown.append(place)
        return min(named)[2] if named else shown[0] if len(shown) == 1 else path

    def _value(self, path: Path) -> object:
        value: Any = self.tables
        for key in path:
            try:
                value = value[key]
            except (KeyError, IndexError, TypeError):
                return None
        return value

    def error(self, words: str, *path: str | int) -> ScenarioError:
        """Return an error that names this place."""
        return ScenarioError(f"{self.where(path)}: {words}")

    def known(self, kind: str, name: str, *path: str | int) -> None:
        """Raise `ScenarioError` if the file has no job, policy or service of that name."""
        table = self.tables.get(kind, {})
        if name not in table:
            one = {"jobs": "job", "policies": "policy", "services": "service"}[kind]
            raise self.error(f"the file has no {one} {name!r}; {nearest(name, table)}", *path)


@cache
def schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of scenario files."""
    text = (File(__file__).parent / "scenario.schema.json").read_text(encoding="utf-8")
    found: dict[str, Any] = json.loads(text)
    return found


def _problems(
    tables: dict[str, Any], where: Callable[[Iterable[str | int]], str], form: dict[str, Any]
) -> Iterator[str]:  # fmt: skip
    from jsonschema import Draft202012Validator

    validator = Draft202012Validator(form)
    for error in sorted(validator.iter_errors(_for_json(tables)), key=lambda e: [str(k) for k in e.absolute_path]):
        yield from _told(_deepest(error), where)


def _deepest(error: Any) -> Any:
    """Return the error of the alternative that a value nearly fits."""
    while error.validator in ("anyOf", "oneOf") and error.context:
        best = max(error.context, key=lambda e: (len(e.absolute_path), _alike(e), e.validator == "required"))
        if best.validator == "type" and len(best.absolute_path) == len(error.absolute_path):
            return error
        error = best
    return error


def _alike(error: Any) -> int:
    """Return how many keys of a table are keys that were expected."""
    known = error.schema.get("properties", {}) if isinstance(error.schema, dict) else {}
    return len(set(error.instance) & set(known)) if isinstance(error.instance, dict) else 0


def _told(error: Any, where: Callable[[Iterable[str | int]], str]) -> Iterator[str]:
    path = list(error.absolute_path)
    label = ".".join(str(key) for key in path) or "the file"
    value = error.instance
    if error.validator == "additionalProperties":
        known = error.schema.get("properties", {})
        for key in value:
            if key not in known:
                yield f"{where([*path, key])}: {label} has no key {key!r}; {nearest(str(key), known)}"
    elif error.validator == "required":
        missing = [key for key in error.validator_value if key not in value]
        yield f"{where(path)}: {label} needs {' and '.join(missing)}: {_purpose(error, missing[0])}"
    elif error.validator == "enum":
        yield f"{where(path)}: {label} is {value!r}; {nearest(str(value), map(str, error.validator_value))}"
    else:
        words = error.schema.get("description") or error.message
        yield f"{where(path)}: {label} is {_short(value)}, which does not fit. {words}"


def _purpose(error: Any, key: str) -> str:
    return str(error.schema.get("properties", {}).get(key, {}).get("description", "every such table has it"))


def _short(value: Any) -> str:
    words = repr(value)
    return words if len(words) <= 60 else words[:57] + "..."


def _for_json(value: Any) -> Any:
    """Return a value as the schema can check it: dates and times of TOML as text."""
    if isinstance(value, dict):
        return {key: _for_json(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_for_json(item) for item in value]
    if isinstance(value, dt.datetime) and value.tzinfo is not None:
        return {"$datetime": value.isoformat()}
    if isinstance(value, (dt.date, dt.time)):
        return value.isoformat()
    return value
