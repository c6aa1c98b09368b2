"""Reading the files that commands get: saved histories, logs, scenario files, and laws."""

from __future__ import annotations

import importlib
import importlib.util
import os
import shutil
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType
from typing import Any

import click

import ironclock as ic


def pairs(given: Sequence[str], option: str) -> dict[str, str]:
    """Return options of the form NAME=VALUE as a mapping. Raises `InputError`."""
    made = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not (name and equals and value):
            raise ic.InputError(f"{option} is {text!r}; give NAME=VALUE")
        made[name] = value
    return made


_STANDARD_INPUT = "ironclock.standard-input"


def of_standard_input(path: str) -> str:
    """Return a file with what comes in on standard input, for ``-``; and any other path as it is."""
    if path != "-":
        return path
    with tempfile.NamedTemporaryFile("wb", prefix="ironclock-", delete=False) as file:
        shutil.copyfileobj(sys.stdin.buffer, file)
    context = click.get_current_context()
    context.call_on_close(lambda: os.unlink(file.name))
    context.meta[_STANDARD_INPUT] = file.name
    return file.name


def with_names(text: str) -> str:
    """Return a message in which standard input is called so, and not by the file that it was put into."""
    context = click.get_current_context(silent=True)
    place = None if context is None else context.meta.get(_STANDARD_INPUT)
    return text if place is None else text.replace(str(place), "standard input")


def scenario_of(path: str) -> ic.Scenario:
    """Return the scenario in a file, or on standard input for ``-``. Raises `ScenarioError`."""
    if path == "-":
        try:
            text = sys.stdin.buffer.read().decode("utf-8")
        except UnicodeDecodeError as error:
            raise ic.ScenarioError(f"cannot read standard input: {error}") from None
        return ic.Scenario.loads(text, "standard input")
    return ic.Scenario.load(path)


def laws_from(place: str) -> list[tuple[str, Any]]:
    """Return laws with their names: from ``[[laws]]`` of a .toml file, or from LAWS (or the name after a colon) of a
    Python file or module. Raises `InputError`."""
    if place.endswith(".toml"):
        return list(_toml_laws(place))
    file, colon, name = place.rpartition(":")
    if not colon or not name.isidentifier():
        file, name = place, "LAWS"
    module = module_from(file)
    found = getattr(module, name, None)
    if found is None:
        known = [n for n in vars(module) if n.isupper()]
        raise ic.InputError(f"{file} has no {name!r} with laws; known: {', '.join(known) or 'none'}")
    laws = list(found) if isinstance(found, (list, tuple)) else [found]
    return [(repr(law) if hasattr(law, "excuses") else getattr(law, "__name__", repr(law)), law) for law in laws]


def _toml_laws(path: str) -> Any:
    from ..scenario.law_tables import laws_of_tables, read_law_file

    for law in laws_of_tables(read_law_file(path).get("laws"), path):
        yield repr(law), law


def module_from(place: str) -> ModuleType:
    """Return a module by its name, or that of a Python file. Raises `InputError`."""
    if not place.endswith(".py"):
        if str(Path.cwd()) not in sys.path:
            sys.path.insert(0, str(Path.cwd()))
        try:
            return importlib.import_module(place)
        except Exception as error:
            raise ic.InputError(f"{place} cannot be imported: {type(error).__name__}: {error}") from None
    path = Path(place).resolve()
    if not path.is_file():
        raise ic.InputError(f"there is no file {place}; give a file or a module")
    sys.path.insert(0, str(path.parent))
    spec = importlib.util.spec_from_file_location(path.stem, path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    try:
        spec.loader.exec_module(module)
    except Exception as error:
        raise ic.InputError(f"{place} cannot be imported: {type(error).__name__}: {error}") from None
    return module
