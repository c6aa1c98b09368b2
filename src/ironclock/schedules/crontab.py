"""Crontabs: schedules in crontab files of users and systems, and in TOML tables."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..errors import InputError

_SETTING = re.compile(r"\s*([A-Za-z_]\w*)\s*=\s*(.*?)\s*$")


@dataclass(frozen=True)
class Line:
    """One scheduled line: its place, its expression, what it runs, and its zone if it has one."""

    file: str
    number: int
    expression: str
    command: str
    zone: str | None
    given: str | None = None
    """What the command gets as its standard input: the text after a percent sign. None: there is no such sign."""


def read(path: str, *, system: bool | None = None) -> list[Line]:
    """Return the scheduled lines of a file. A file that ends in ``.toml`` is TOML, any other a crontab.

    Parameters: `system` True means that each command of a crontab has a user before it. Default None: True for files
    under ``/etc``. Raises `InputError`, which names the file and the line.
    """
    try:
        text = Path(path).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"cannot read {path}: {error}") from None
    if path.endswith(".toml"):
        return list(_toml(path, text))
    return list(_crontab(path, text, "/etc/" in str(Path(path).resolve()) if system is None else system))


def _crontab(path: str, text: str, system: bool) -> Iterator[Line]:
    zone: str | None = None
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if not line or line.startswith("#"):
            continue
        setting = _SETTING.match(line)
        if setting:
            if setting[1] in ("CRON_TZ", "TZ"):
                zone = setting[2].strip("\"'") or None
            continue
        count = 1 if line.startswith("@") else 5
        words = line.split(None, count + system)
        if len(words) <= count + system:
            what = "no user and command" if system else "no command"
            raise InputError(f"{path}:{number}: {what} after the expression: {line!r}")
        # A percent sign ends the command and begins its input, if it is not escaped.
        command, *given = [part.replace("\\%", "%") for part in re.split(r"(?<!\\)%", words[-1], maxsplit=1)]
        yield Line(path, number, " ".join(words[:count]), command, zone, *given)


def _toml(path: str, text: str) -> Iterator[Line]:
    try:
        tables: Any = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"{path}: the file is not TOML: {error}") from None
    found = tables.get("tool", {}).get("ironclock", {}).get("schedules") or tables.get("schedules")
    if not isinstance(found, dict):
        raise InputError(f"{path} has no schedules; add [tool.ironclock.schedules] or [schedules]")
    for name, value in found.items():
        zone = None
        if isinstance(value, dict):
            zone, value = value.get("zone"), value.get("cron")
        named = re.compile(rf"\b{re.escape(name)}\b")
        number = next((n for n, line in enumerate(text.splitlines(), 1) if named.search(line)), 1)
        if not isinstance(value, str):
            raise InputError(f"{path}:{number}: {name} is {value!r}; give an expression, or a table with cron and zone")
        yield Line(path, number, value, name, zone)
