"""Another process with another hash seed, which runs the story once, to see whether it does the same there."""

from __future__ import annotations

import contextlib
import os
import pickle
import subprocess
import sys

from ..core.errors import InputError
from ..core.history import History
from .crew import pack, unpack
from .sameness import UnsteadyStory, plain_history, told_entry, words
from .trial import Trial

CHILD = "IRONCLOCK_PROBE_CHILD"
PATIENCE_S = 60


class Enough(BaseException):
    """Raised where a script that is only imported for its story begins a search of its own."""


def in_child() -> bool:
    """Whether this process was started to run a story once."""
    return CHILD in os.environ


class OtherSeed:
    """A run of the story in another process, begun now and looked at later."""

    def __init__(self, trial: Trial, history: History) -> None:
        self._history = history
        self._process: subprocess.Popen[bytes] | None = None
        self.note = ""
        """Why the story could not be run there, in words."""
        try:
            packed = pack(trial)
        except InputError:
            self.note = (
                "not looked at: whether it depends on the order of sets (the story cannot go to another process)"
            )
            return
        main = sys.modules.get("__main__")
        script = getattr(main, "__file__", None) if getattr(trial.story, "__module__", "") == "__main__" else None
        paths = os.pathsep.join(filter(None, sys.path))
        seed = "1" if os.environ.get("PYTHONHASHSEED") != "1" else "2"
        self._process = subprocess.Popen(
            [sys.executable, "-c", "from ironclock.explore.elsewhere import child; child()"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            env={**os.environ, "PYTHONHASHSEED": seed, CHILD: "1", "PYTHONPATH": paths},
        )  # fmt: skip
        assert self._process.stdin is not None
        self._process.stdin.write(pickle.dumps((script, packed)))
        self._process.stdin.close()
        self._process.stdin = None

    def check(self) -> None:
        """Raise `UnsteadyStory` where the story differed there."""
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
            self.note = f"not looked at: whether it depends on the order of sets (in another process: {reason})"
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
        raise UnsteadyStory(
            words(difference, "hash order: what the story does follows the order of a set of texts; sort it")
        )

    def same(self) -> bool:
        """Whether the story ran there, and did the same."""
        try:
            self.check()
        except UnsteadyStory:
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
    os.dup2(2, 1)  # what the story prints is no part of the answer
    if script is not None:
        _load_main(script)
    history = plain_history(unpack(packed))
    out.write(pickle.dumps((list(history.lines()), [told_entry(history, n) for n in range(len(history))])))
    out.close()


def _load_main(script: str) -> None:
    """Let the main module stand for a script, without what it does when it is run, or after it begins a search."""
    from types import ModuleType

    module = ModuleType("__main__")
    module.__file__ = script
    sys.modules["__main__"] = module
    module.__name__ = "__main_of_a_child__"
    with open(script, "rb") as file:
        code = compile(file.read(), script, "exec")
    with contextlib.suppress(Enough):
        exec(code, module.__dict__)
