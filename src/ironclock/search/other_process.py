"""Another process with another hash seed: it runs the story once, to see if it does the same there."""

from __future__ import annotations

import contextlib
import os
import pickle
import subprocess
import sys

from ..errors import InputError, NotDeterministic
from ..history.history import History
from .determinism import plain_history, refusal, told_entry
from .runners import pack, unpack
from .runs import SearchedStory

CHILD = "IRONCLOCK_PROBE_CHILD"
PATIENCE_S = 60


class OnlyImported(BaseException):
    """Raised when a script that is only imported for its story begins a search."""


def in_child() -> bool:
    """Return True if this process was started to run a story once."""
    return CHILD in os.environ


class OtherSeed:
    """A run of the story in another process: it begins now, and is looked at later."""

    def __init__(self, story: SearchedStory, history: History) -> None:
        self._history = history
        self._process: subprocess.Popen[bytes] | None = None
        self.note = ""
        """Why the story could not be run there. Empty if it could."""
        try:
            packed = pack(story)
        except InputError:
            self.note = "not checked: if the story depends on the order of sets (it cannot be sent to another process)"
            return
        main = sys.modules.get("__main__")
        script = getattr(main, "__file__", None) if getattr(story.story, "__module__", "") == "__main__" else None
        paths = os.pathsep.join(filter(None, sys.path))
        seed = "1" if os.environ.get("PYTHONHASHSEED") != "1" else "2"
        self._process = subprocess.Popen(
            [sys.executable, "-c", "from ironclock.search.other_process import child; child()"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            env={**os.environ, "PYTHONHASHSEED": seed, CHILD: "1", "PYTHONPATH": paths},
        )  # fmt: skip
        assert self._process.stdin is not None
        self._process.stdin.write(pickle.dumps((script, packed)))
        self._process.stdin.close()
        self._process.stdin = None

    def check(self) -> None:
        """Raise `NotDeterministic` if the story was different there."""
        process, self._process = self._process, None
        if process is None:
            return
        try:
            out, said = process.communicate(timeout=PATIENCE_S)
            lines, told = pickle.loads(out)
        except (subprocess.TimeoutExpired, pickle.UnpicklingError, EOFError) as error:
            process.kill()
            last = "" if isinstance(error, subprocess.TimeoutExpired) else said.decode(errors="replace").strip()
            reason = last.splitlines()[-1] if last else "it did not end"
            self.note = f"not checked: if the story depends on the order of sets (in another process: {reason})"
            return
        mine = list(self._history.lines())
        if mine == lines:
            return
        number = next((n for n, (a, b) in enumerate(zip(mine, lines, strict=False)) if a != b), None)
        if number is None:
            difference = f"it has {len(mine)} entries with one hash seed and {len(lines)} with another"
        else:
            one, other = told_entry(self._history, number), told[number]
            difference = f"entry {number + 1} is {one!r} with one hash seed and {other!r} with another"
        raise NotDeterministic(
            refusal(difference, "hash order: what the story does follows the order of a set of texts; sort the set")
        )

    def same(self) -> bool:
        """Return True if the story ran there and did the same."""
        try:
            self.check()
        except NotDeterministic:
            return False
        return not self.note

    def drop(self) -> None:
        """End the other process."""
        if self._process is not None:
            self._process.kill()
            self._process.communicate()
            self._process = None


def child() -> None:
    """Run the story that comes in on standard input; write its history to standard output."""
    script, packed = pickle.loads(sys.stdin.buffer.read())
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what the story prints is not part of the answer
    if script is not None:
        _load_main(script)
    history = plain_history(unpack(packed))
    out.write(pickle.dumps((list(history.lines()), [told_entry(history, n) for n in range(len(history))])))
    out.close()


def _load_main(script: str) -> None:
    """Load a script as the main module, without what it does when it is run, or after it begins a search."""
    from types import ModuleType

    module = ModuleType("__main__")
    module.__file__ = script
    sys.modules["__main__"] = module
    module.__name__ = "__main_of_a_child__"
    with open(script, "rb") as file:
        code = compile(file.read(), script, "exec")
    with contextlib.suppress(OnlyImported):
        exec(code, module.__dict__)
