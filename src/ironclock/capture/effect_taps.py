"""Effect taps: real functions whose calls are recorded as effects, with a seam before and after each call."""

from __future__ import annotations

import contextlib
import inspect
from collections.abc import AsyncIterator, Callable, Generator
from typing import Any

from ..errors import InputError, nearest
from ..history.records import plain
from ..simulation.effects import Effects, Later, Repeated
from .awaited import followed, is_awaited, is_future
from .targets import Replacement, TargetLike


class EffectTap(Replacement):
    """A real function whose calls are effects while the rig is entered. To call it calls the function."""

    def __init__(
        self, name: str, target: TargetLike, effects: Effects, key: str | Callable[..., object] | None,
        idempotent: bool = False, answers: object = ...,
    ) -> None:  # fmt: skip
        if not isinstance(name, str) or not name:
            raise InputError(f"the effect's name is {name!r}; give text that is not empty")
        if not isinstance(idempotent, bool):
            raise InputError(f"idempotent is {idempotent!r}; give True or False")
        if idempotent and key is None:
            raise InputError(f"the effect {name!r} is idempotent, and has no key; give key=, by which a call is known")
        self._idempotent = idempotent
        self.name = name
        super().__init__(target)
        self._effects = effects
        self._signature = self.target.signature()
        self._answers = answers
        real = inspect.unwrap(self.target.real)
        if answers is not ... and (inspect.isgeneratorfunction(real) or inspect.isasyncgenfunction(real)):
            raise InputError(f"answers is given for {self.target.label}, which is a generator; leave answers out")
        self._key = key
        self._begins_when_awaited = False  # as far as its calls have shown
        if isinstance(key, str):
            if self._signature is None or key not in self._signature.parameters:
                known = () if self._signature is None else self._signature.parameters
                raise InputError(
                    f"key is {key!r}, and {self.target.label} has no such parameter; {nearest(key, known)}"
                )
        elif key is not None and not callable(key):
            raise InputError(f"key is {key!r}; give a parameter's name or a function of the arguments")
        effects.names.setdefault(name)
        if idempotent:
            effects.keys_done.setdefault(name, set())

    def replacement(self) -> Callable[..., Any]:
        real = inspect.unwrap(self.target.real)
        if inspect.isgeneratorfunction(real):
            return self._generate
        if inspect.isasyncgenfunction(real):
            return self._generate_async
        return self._call_async if self.target.is_async else self._call

    def __call__(self, *args: Any, **kwargs: Any) -> Any:
        return self.replacement()(*args, **kwargs)

    def _call(self, *args: Any, **kwargs: Any) -> Any:
        key, data = self._read(args, kwargs)
        outcome = self._outcome(key)
        if self._begins_when_awaited:
            result = self._do(*args, **kwargs)
            return followed(result, lambda: self._effects.performing(self.name, key, data, outcome))

        def act() -> Any:
            result = self._do(*args, **kwargs)
            if is_awaited(result):
                self._begins_when_awaited = not is_future(result)
                return Later(followed(result, lambda: self._effects.performing(self.name, key, data, outcome, True)))
            return Repeated(result) if outcome == "repeated" else result

        return self._effects.perform(self.name, act, key, data)

    def _do(self, *args: Any, **kwargs: Any) -> Any:
        """Do what a call is for: call the real function, or answer in its place."""
        if self._answers is ...:
            return self.target.real(*args, **kwargs)
        if self.target.is_async:
            return self._answer_async(args, kwargs)
        return self._answer(args, kwargs)

    def _answer(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        return self._answers(*args, **kwargs) if callable(self._answers) else self._answers

    async def _answer_async(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        return self._answer(args, kwargs)

    def _outcome(self, key: object) -> str:
        """Return what a call comes to that does not fail."""
        return "repeated" if self._idempotent and self._effects.was_done(self.name, key) else "done"

    async def _call_async(self, *args: Any, **kwargs: Any) -> Any:
        key, data = self._read(args, kwargs)
        result: Any = None
        ignores = self._effects.ignores(self.name)
        with contextlib.suppress(*((Exception,) if ignores else ())):
            for _ in range(self._effects.times(self.name)):
                async with self._effects.performing(self.name, key, data, self._outcome(key)):
                    result = await self._do(*args, **kwargs)
        return None if ignores else result

    def _generate(self, *args: Any, **kwargs: Any) -> Generator[Any, Any, Any]:
        key, data = self._read(args, kwargs)
        with self._effects.noting(self.name, key, data, self._outcome(key)):
            self._effects.pass_seam(f"before {self.name}")
            result = yield from self._do(*args, **kwargs)
        self._effects.pass_seam(f"after {self.name}")
        return result

    async def _generate_async(self, *args: Any, **kwargs: Any) -> AsyncIterator[Any]:
        key, data = self._read(args, kwargs)
        async with self._effects.performing(self.name, key, data, self._outcome(key)):
            async for item in self._do(*args, **kwargs):
                yield item

    def _read(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
        """Return the key of a call, and its arguments by name as they are now: a caller can change them later."""
        named: dict[str, Any] = {}
        if self._signature is not None:
            with contextlib.suppress(TypeError):  # the call itself raises the function's own error
                bound = self._signature.bind(*args, **kwargs)
                bound.apply_defaults()
                named = dict(bound.arguments)
        key = self._key(*args, **kwargs) if callable(self._key) else None if self._key is None else named.get(self._key)
        shown = {
            name: plain(value)
            for name, value in named.items()
            if name not in (self._key, "self", "cls") and not _is_left_out(value)
        }
        return key, shown

    def __repr__(self) -> str:
        return f"<effect {self.name!r} of {self.target.label}>"


def _is_left_out(value: Any) -> bool:
    """Return True for what an argument is that was not given."""
    return value is None or (type(value) in (tuple, dict) and not value)
