"""What the search of each test found, kept in files: a test that has not changed is not searched again."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any


@dataclass
class BrokenInTest:
    """One law that the search found broken under a test."""

    law: str
    """The name of the law."""
    cause: str
    """What went wrong, without the numbers of jobs: the same cause can break a law under many tests."""
    words: str
    """The finding in words, its story included."""
    repeat: str
    """The command that repeats it."""
    shrunk: bool = True
    """True if its story is as short as shrinking makes it."""


@dataclass
class SearchedTest:
    """What the search of one test came to."""

    test: str
    """The node id of the test."""
    key: str = ""
    """The digest of all that the search depends on."""
    left_out: str = ""
    """Why the test was not searched. Empty if it was."""
    runs: int = 0
    """How many runs were made, without shrinking."""
    shrinking: int = 0
    """How many runs shrinking has made."""
    seconds: float = 0.0
    fitting: int = 0
    """How many single faults fit at its seams."""
    tried: int = 0
    """How many of them were tried."""
    ended_early: int = 0
    """In how many runs the test itself raised an error, as most tests do under a fault."""
    in_outage: int = 0
    """In how many runs an outage lasted until the end."""
    too_long: int = 0
    """How many runs were given up because they took too long."""
    cells: list[tuple[str, str, str, bool]] = field(default_factory=list)
    """What was put where, for the fault coverage, and if a law was broken."""
    broken: list[BrokenInTest] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    """What else there is to say."""
    kept: bool = False
    """True if this is from an earlier session."""
    tried_before: int = 0
    """How many faults earlier sessions have tried of the test as it is now. This one begins after them."""

    def go_on(self, earlier: SearchedTest) -> None:
        """Take over what earlier sessions have found, which had no time for the rest."""
        self.tried_before = earlier.tried_before + earlier.tried
        self.cells = earlier.cells
        self.broken = earlier.broken

    @property
    def is_complete(self) -> bool:
        """True if every fault was tried, so that nothing is left for a later session."""
        return not self.left_out and self.tried >= self.fitting


def file_of(folder: Path, test: str) -> Path:
    """Return where what is known of a test is kept in a folder."""
    return folder / f"{hashlib.sha256(test.encode()).hexdigest()[:24]}.json"


def write_whole(path: Path, held: Any) -> None:
    """Write JSON: the file is the old one or the new one, and never half of it. Raises `OSError`."""
    part = path.with_suffix(f".{os.getpid()}.part")
    part.write_text(json.dumps(held), encoding="utf-8")
    part.replace(path)


class SearchCache:
    """The files in one folder, one for each test.

    Parameters: `folder` is where they are, None: nothing is kept. `warn` is called with the words about a file that
    cannot be read; its test is searched again.
    """

    def __init__(self, folder: Path | None, warn: Callable[[str], None]) -> None:
        self._folder = folder
        self._warn = warn

    def load(self, test: str, key: str) -> SearchedTest | None:
        """Return what was found for a test. None if nothing is kept for this key."""
        if self._folder is None:
            return None
        path = file_of(self._folder, test)
        try:
            text = path.read_text(encoding="utf-8")
        except FileNotFoundError:
            return None
        except (OSError, UnicodeDecodeError) as error:
            self._warn(f"the kept search {path} cannot be read ({error}); {test} is searched again")
            return None
        try:
            found = from_dict(json.loads(text))
        except (ValueError, TypeError, KeyError, AttributeError) as error:
            self._warn(
                f"the kept search {path} is damaged ({type(error).__name__}: {error}); {test} is searched again, and "
                "the file is written anew"
            )
            return None
        if found.test != test or found.key != key:
            return None
        found.kept = True
        return found

    def save(self, found: SearchedTest) -> None:
        """Keep what was found for a test."""
        if self._folder is None:
            return
        path = file_of(self._folder, found.test)
        try:
            write_whole(path, asdict(found))
        except OSError as error:
            self._warn(f"the search of {found.test} cannot be kept in {path}: {error.strerror}")


def from_dict(held: Any) -> SearchedTest:
    """Return what `dataclasses.asdict` made of a searched test. Raises `ValueError` or `TypeError` for other data."""
    if not isinstance(held, dict):
        raise ValueError(f"it holds {type(held).__name__}, and not an object")
    broken = [BrokenInTest(**one) for one in held.pop("broken")]
    cells = [(str(kind), str(name), str(failure), bool(found)) for kind, name, failure, found in held.pop("cells")]
    made = SearchedTest(**held, broken=broken, cells=cells)
    if not isinstance(made.test, str) or not isinstance(made.runs, int) or not isinstance(made.fitting, int):
        raise ValueError("its fields have other types than expected")
    return made
