"""Replay: a rig under the plan of a token, and what to say where the story has changed since."""

from __future__ import annotations

import importlib
from contextlib import AbstractContextManager
from typing import Any

from ..core.engine import Engine
from ..core.errors import InputError, IronClockError, nearest
from ..core.faults import ErrorLike, checked_error
from . import lines
from .kinds import Model
from .plan import Move
from .steering import Steering
from .token import Token


class ReplayError(IronClockError):
    """A replay token that no longer fits its story; the message says where."""


class Replay:
    """One rig's replay of a token."""

    def __init__(self, token: Token, engine: Engine) -> None:
        self.token = token
        errors: dict[str, ErrorLike] = {about: _error(path) for about, path in token.errors.items()}
        self.steering = Steering(engine, token.plan, Model(errors=errors), traces=True)
        self._code: AbstractContextManager[None] | None = None

    def enter(self) -> None:
        """Let lines be switch points, where the token needs that."""
        if self.token.lines:
            code = lines.Lines.of(lines.module_names(self.token.lines))
            code.install()
            self._code = lines.steered(self.steering)
            self._code.__enter__()

    def leave(self) -> None:
        """Put the code of those lines back."""
        if self._code is not None:
            self._code.__exit__(None, None, None)
            self._code = None
            lines.Lines.of(self.token.lines).restore()

    def must_fit(self) -> None:
        """Raise `ReplayError` where a move of the token did not come to its place."""
        done = self.steering.done
        missed = [move for move in self.token.plan.moves if move not in done]
        if missed:
            made = ", and ".join(move.describe() for move in self.token.plan.moves if move in done)
            raise ReplayError(
                "the token no longer fits this story, which has changed since: it never came to "
                f"{missed[0].describe()}; "
                f"{self._instead(missed[0])}" + (f". Before that it went as the token says: {made}" if made else "")
            )

    def _instead(self, move: Move) -> str:
        passed = self.steering.passed_by(move.place.who)
        if not passed:
            return f"there was no {move.place.who!r}; {nearest(move.place.who, self.steering.whos())}"
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
