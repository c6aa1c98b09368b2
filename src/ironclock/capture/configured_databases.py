"""Databases for a whole suite: the setting ``databases`` in ``[tool.ironclock]`` of pyproject.toml.

Each is a URL, the name of an environment variable with a URL, or the path of an object that `Rig.database` takes::

    [tool.ironclock]
    databases = ["postgresql://tern@127.0.0.1/bookings", "$DATABASE_URL", "tern_line.db:engine"]
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from typing import Any

from ..errors import InputError
from .targets import find

_PATH = re.compile(r"[\w.]+:[\w.]+")


def found_databases(values: Any) -> Iterator[str | Callable[[], Any]]:
    """Return each database: a URL, or a function that finds it when used. Raises `InputError` for anything else."""
    for value in [values] if isinstance(values, str) else values:
        if not isinstance(value, str) or not value:
            raise InputError(f"databases has {value!r}; give a URL, '$NAME' or 'module:attribute'")
        yield _finds(value) if value.startswith("$") or _PATH.fullmatch(value) else value


def _finds(value: str) -> Callable[[], Any]:
    def found() -> Any:
        if value.startswith("$"):
            if not os.environ.get(value[1:]):
                raise InputError(f"databases has {value!r}, and this environment variable is not set; set it to a URL")
            return os.environ[value[1:]]
        return find(value)[2]

    return found
