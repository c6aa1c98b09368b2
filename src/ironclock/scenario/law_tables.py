"""Laws that are written in TOML: ``[[laws]]`` in a file of laws, and ``[[tool.ironclock.laws]]`` of a project."""

from __future__ import annotations

import importlib
import inspect
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .. import laws
from ..errors import InputError, nearest
from ..foundation.example_files import example
from ..history.log_columns import FIELDS
from ..laws.law import Law, must_be_law

_EXAMPLE = 'law = "attempts_at_most", with = ["submit_manifest", 5]'
_KEYS = ("zone", "delimiter", "encoding", "columns", "outcomes", "laws")
_OUTCOMES = ["done", "failed", "timed-out", "crashed", "dead", "enqueued", "started"]


def law_names() -> list[str]:
    """Return the names of the built-in laws that a file can state."""
    return [name for name in laws.__all__ if getattr(getattr(laws, name), "makes_laws", False)]


def law_of(name: str, given: Any) -> Law:
    """Return a law by its name and arguments. Raises `InputError`."""
    known = law_names()
    if name not in known:
        raise InputError(f"there is no law {name!r}; {nearest(name, known)}")
    state: Callable[..., Law] = getattr(laws, name)
    try:
        made = state(**given) if isinstance(given, dict) else state(*given)
    except TypeError as error:
        raise InputError(f"the law {name}{inspect.signature(state)} does not take these arguments: {error}") from None
    return made


def laws_of_tables(tables: object, where: str, name: str = "[[laws]]") -> list[Law]:
    """Return the laws of a list of tables. Each has ``law``, the name of one of `ironclock.laws` or the import path of
    a law (``"package.module:name"``), and ``with``, a list or a table of the arguments.

    Parameters: `where` is the file and `name` how the tables are written there, for errors. Raises `InputError`.
    """
    if not isinstance(tables, list) or not tables:
        shown = "nothing" if tables in (None, []) else repr(tables)
        raise InputError(f"{where}: {name} is {shown}; give {name}, {_EXAMPLE}")
    made = []
    for number, table in enumerate(tables, 1):
        if not isinstance(table, dict) or not isinstance(table.get("law"), str) or set(table) - {"law", "with"}:
            raise InputError(f"{where}: table {number} of {name} is {table!r}; give law = NAME, and with = [...]")
        law, given = table["law"], table.get("with", ())
        try:
            made.append(_imported(law, given) if ":" in law else law_of(law, given))
        except InputError as error:
            raise InputError(f"{where}: table {number} of {name}: {error}") from None
    return made


def _imported(path: str, given: Any) -> Law:
    module, _, name = path.partition(":")
    try:
        found = getattr(importlib.import_module(module), name)
    except (ImportError, AttributeError) as error:
        raise InputError(f"the law {path!r} cannot be imported: {error}") from None
    law = (found(**given) if isinstance(given, dict) else found(*given)) if given else found
    must_be_law(law)
    return law  # type: ignore[no-any-return]


def read_law_file(path: str) -> dict[str, Any]:
    """Return the tables of a file of laws. Raises `InputError` for a file that is not TOML, or has an unknown key."""
    tables = toml_tables(path)
    for key in tables:
        if key not in _KEYS:
            raise InputError(f"{path}: the file has an unknown key {key!r}; {nearest(key, _KEYS)}")
    return tables


def toml_tables(path: str) -> dict[str, Any]:
    """Return the tables of a TOML file. Raises `InputError` if it cannot be read."""
    try:
        return tomllib.loads(Path(example(path)).read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise InputError(f"{path}: {error}") from None


def law_file_schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of files of laws, for editors that complete and check TOML."""
    texts = {"type": "object", "additionalProperties": {"type": "string"}}
    cases = []
    for name in law_names():
        factory = getattr(laws, name)
        says = inspect.getdoc(factory) or ""
        signature = inspect.signature(factory)
        given = [p for p in signature.parameters.values() if p.kind is not p.VAR_POSITIONAL]
        parameters = {parameter.name: {"description": f"Of {name}{signature}."} for parameter in given}
        needed = [parameter.name for parameter in given if parameter.default is parameter.empty]
        table: dict[str, Any] = {"type": "object", "properties": parameters, "additionalProperties": False}
        if needed:
            table["required"] = needed
        cases.append({
            "properties": {
                "law": {"const": name, "description": says.split("\n\n")[0].replace("\n", " ")},
                "with": {"description": f"The arguments: {name}{signature}.", "anyOf": [{"type": "array"}, table]},
            },
        })  # fmt: skip
    own = {"properties": {"law": {"pattern": ":", "description": "The import path of a law: package.module:name."}}}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "urn:ironclock:laws:1",
        "title": "Iron Clock laws, version 1",
        "description": "Laws for ironclock check, and how to read the log. Written in TOML.",
        "type": "object",
        "additionalProperties": False,
        "properties": {
            "zone": {"type": "string", "description": "The zone of times without an offset. Default: UTC."},
            "delimiter": {"type": "string", "description": "What separates the columns of CSV.", "maxLength": 1},
            "encoding": {"type": "string", "description": "The encoding of the log. Default: UTF-8."},
            "columns": {
                "description": "By what a column means, its name in the log.", "type": "object",
                "properties": {
                    field: {"type": "string", "description": f"The column that holds {says}."}
                    for field, says in FIELDS.items()
                },
                "additionalProperties": False,
            },
            "outcomes": {
                **texts, "description": "By a word of the log, what it means.",
                "additionalProperties": {"enum": _OUTCOMES},
            },
            "laws": {
                "description": "The laws.", "type": "array", "minItems": 1,
                "items": {
                    "type": "object", "required": ["law"], "additionalProperties": False,
                    "properties": {
                        "law": {"description": "The name of a law.", "type": "string"},
                        "with": {"description": "Its arguments: a list, or a table of names and values."},
                    },
                    "anyOf": [*cases, own],
                },
            },
        },
    }  # fmt: skip
