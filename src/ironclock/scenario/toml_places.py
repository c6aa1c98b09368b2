"""The places of the keys of a TOML text, so that an error can name line and column.

The standard parser returns values without places. This one returns places without values. It reads only text that the
standard parser has accepted, so that it need not check anything. Source: TOML 1.0.0 (toml.io/en/v1.0.0).
"""

from __future__ import annotations

import re
import tomllib
from typing import TypeAlias

Path: TypeAlias = "tuple[str | int, ...]"
"""The keys and indices that lead to a value."""
Place: TypeAlias = "tuple[int, int]"
"""Line and column, both from 1."""

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_SPACE = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_STRING = re.compile(
    r'"""(?:\\.|[^\\])*?"{3,5}|' r"'''.*?'{3,5}|" r'"(?:\\.|[^"\\\n])*"|' r"'[^'\n]*'",
    re.DOTALL,
)
_SCALAR = re.compile(r"[^,\]}#\n]+")


def places(text: str) -> dict[Path, Place]:
    """Return the place of each key, and of each item of a list."""
    return _Places(text).found


class _Places:
    def __init__(self, text: str) -> None:
        self._text = text
        self._at = 0
        self._counts: dict[Path, int] = {}
        self._starts = [0, *(m.end() for m in re.finditer("\n", text))]
        self.found: dict[Path, Place] = {}
        self._document()

    def _document(self) -> None:
        table: Path = ()
        self._skip()
        while self._at < len(self._text):
            if self._text[self._at] == "[":
                table = self._header()
            else:
                self._pair(table)
            self._skip()

    def _header(self) -> Path:
        many = self._text.startswith("[[", self._at)
        here = self._at
        self._at += 2 if many else 1
        keys = self._keys()
        self._at += 2 if many else 1
        path: Path = ()
        for number, key in enumerate(keys):
            path = (*path, key)
            last = number == len(keys) - 1
            if last and many:
                self.found.setdefault(path, self._place(here))
                count = self._counts[path] = self._counts.get(path, -1) + 1
                path = (*path, count)
            elif not last and path in self._counts:
                path = (*path, self._counts[path])
            self.found.setdefault(path, self._place(here))
        return path

    def _pair(self, table: Path) -> None:
        here = self._at
        path = table
        for key in self._keys():
            path = (*path, key)
            self.found.setdefault(path, self._place(here))
        self._at += 1  # the equals sign
        self._skip()
        self._value(path)

    def _keys(self) -> list[str]:
        keys = []
        while True:
            self._skip()
            word = _STRING.match(self._text, self._at) or _BARE.match(self._text, self._at)
            assert word is not None
            quoted = word[0][0] in "\"'"
            keys.append(str(tomllib.loads(f"k = {word[0]}")["k"]) if quoted else word[0])
            self._at = word.end()
            self._skip()
            if self._text[self._at] != ".":
                return keys
            self._at += 1

    def _value(self, path: Path) -> None:
        text = self._text
        string = _STRING.match(text, self._at)
        if string is not None:
            self._at = string.end()
        elif text[self._at] in "[{":
            close = "]" if text[self._at] == "[" else "}"
            self._at += 1
            self._skip()
            number = 0
            while text[self._at] != close:
                if close == "]":
                    self.found[(*path, number)] = self._place(self._at)
                    self._value((*path, number))
                    number += 1
                else:
                    self._pair(path)
                self._skip()
                if text[self._at] == ",":
                    self._at += 1
                    self._skip()
            self._at += 1
        else:
            scalar = _SCALAR.match(text, self._at)
            assert scalar is not None
            self._at = scalar.end()

    def _skip(self) -> None:
        space = _SPACE.match(self._text, self._at)
        assert space is not None
        self._at = space.end()

    def _place(self, at: int) -> Place:
        from bisect import bisect_right

        line = bisect_right(self._starts, at)
        return line, at - self._starts[line - 1] + 1
