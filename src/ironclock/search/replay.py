"""Replay: a rig that follows the plan of a token, and what to say if the story has changed since."""

from __future__ import annotations

import importlib
from contextlib import AbstractContextManager
from typing import Any

from ..errors import InputError, ReplayError, nearest
from ..simulation.event_loop import EventLoop
from ..simulation.faults.kind import Amounts, ErrorLike
from ..simulation.faults.placing import checked_error
from .fault_model import FaultModel
from .line_switches import Lines, module_names, telling
from .plan import Move
from .replay_token import Token
from .run_control import RunControl


class Replay:
    """The replay of a token in one rig."""

    def __init__(self, token: Token, loop: EventLoop) -> None:
        self.token = token
        errors: dict[str, ErrorLike] = {about: _error(path) for about, path in token.errors.items()}
        model = FaultModel(amounts=Amounts(exhausts=token.exhausts), errors=errors)
        self.control = RunControl(loop, token.plan, model, counts_visits=True)
        self._code: AbstractContextManager[None] | None = None

    def enter(self) -> None:
        """Make lines switch points if the token needs that."""
        if self.token.lines:
            Lines.of(module_names(self.token.lines)).install()
            self._code = telling(self.control)
            self._code.__enter__()

    def leave(self) -> None:
        """Put the original code of those lines back."""
        if self._code is not None:
            self._code.__exit__(None, None, None)
            self._code = None
            Lines.of(self.token.lines).restore()

    def must_fit(self) -> None:
        """Raise `ReplayError` if the run never came to the place of a move."""
        done = self.control.done
        missed = [move for move in self.token.plan.moves if move not in done]
        if missed:
            made = ", and ".join(move.describe() for move in self.token.plan.moves if move in done)
            raise ReplayError(
                "the token no longer fits this story, which has changed since: it never came to "
                f"{missed[0].describe()}; "
                f"{self._instead(missed[0])}" + (f". Before that it went as the token says: {made}" if made else "")
            )

    def _instead(self, move: Move) -> str:
        passed = self.control.passed_by(move.place.who)
        if not passed:
            return f"there was no {move.place.who!r}; {nearest(move.place.who, self.control.whos())}"
        seams = ", ".join(f"{where} ({count} times)" if count > 1 else where for where, count in passed.items())
        return f"{move.place.who} passed {seams}"


def _error(path: str) -> ErrorLike:
    module, _, name = path.partition(":")
    try:
        found: Any = importlib.import_module(module)
        for part in name.split("."):
            found = getattr(found, part)
    except (ImportError, AttributeError) as error:
        raise InputError(f"the token raises {path}, which cannot be imported: {error}") from None
    return checked_error(found)
